"""Watching the readings for what counts as evidence: limits reached, clocks fallen, rails out, fans still.

Every sign must last before it counts and must be gone for a while before it counts again, so that a
reading that hovers at a limit gives one finding.
"""

from dataclasses import dataclass, field

from thresher.engine.watch.signs import GONE_FOR_S, Episode, Sign
from thresher.model.channels import Channel, Limit, LimitSide, Quantity, Tick
from thresher.model.findings import Finding, FindingKind, Severity, TapeEntry
from thresher.model.parts import PartKind
from thresher.sensors.host import MAINS
from thresher.sensors.limits import is_rail_reading

_AT_LIMIT_K = 1.0
_COOL_AGAIN_K = 5.0
_HOT_K = 3.0
_CLOCK_SHARE = 0.985
_AT_POWER_LIMIT = 0.97
_HELD_BY = {
    "power limit": ("P-121", "Clock held down by the power limit"),
    "current limit": ("P-123", "Clock held down by the current limit"),
    "prochot": ("P-124", "Clock held down from outside"),
}
_CLOCK_LASTS_S = 5.0
_RAIL_LASTS_S = 3.0
_BEYOND_LASTS_S = 3.0
_WATCHED_LIMITS = (Quantity.FAN, Quantity.CURRENT, Quantity.VOLTAGE, Quantity.TEMPERATURE)
"""Quantities whose limits the chip reports are watched; a power at its limit is the processor's way of working."""
_FAN_LASTS_S = 5.0
_DRIVEN_LASTS_S = 10.0
_DRIVEN_DUTY = 20.0
"""Fans turn at this duty in per cent; below it some stand still on purpose."""
_FAR_BEYOND_K, _FAR_BEYOND_DIE_K = 30.0, 10.0
_MOVED_K = 1.5
"""What a temperature moves at least between idle and its limit; sensors that nothing is connected to do not."""
_COOLED = (PartKind.PROCESSOR, PartKind.GRAPHICS, PartKind.BOARD, PartKind.COOLING)
"""Parts whose heat speaks about the cooling; drives, modules and radios have limits of their own."""
_FAN_NEEDED_C = 78.0
"""From here on the fan of every card that has one turns."""
_HEAT = ("C-201", FindingKind.HEAT_LIMIT, PartKind.COOLING)
_HEAT_OF = {PartKind.GRAPHICS: ("G-440", FindingKind.CARD_HOT, PartKind.GRAPHICS)}
_STOPPED = ("C-230", FindingKind.FAN_STOPPED, PartKind.COOLING)
_STOPPED_OF = {PartKind.GRAPHICS: ("G-442", FindingKind.CARD_FAN, PartKind.GRAPHICS)}
"""What heat and a fan that stops are by the part that they are in: code, kind of finding, part."""
_SILENT_S = 3.0
_FAN_TURNS_RPM = 200.0


def _clock_base(channel: Channel) -> Limit | None:
    return channel.limit(LimitSide.ABOVE) if channel.quantity is Quantity.CLOCK else None


def _has_finding(channel: Channel, side: LimitSide) -> bool:
    """Whether passing this limit is a finding of its own: of heat, of a clock below its base, of a rail."""
    return (
        (channel.quantity is Quantity.TEMPERATURE and side is LimitSide.BELOW and channel.kind in _COOLED)
        or (channel.quantity is Quantity.CLOCK and side is LimitSide.ABOVE)
        or (channel.quantity is Quantity.VOLTAGE and channel.kind is PartKind.POWER)
    )


@dataclass(slots=True)
class _State:
    signs: dict[tuple[str, int], Sign] = field(default_factory=dict)
    fan_turned: set[int] = field(default_factory=set)
    missing_since: dict[int, float] = field(default_factory=dict)
    reported_missing: set[int] = field(default_factory=set)
    seen: set[int] = field(default_factory=set)
    inside: set[tuple[int, LimitSide]] = field(default_factory=set)
    spans: dict[int, tuple[float, float]] = field(default_factory=dict)
    throttled_before: bool = False
    mains: dict[int, bool] = field(default_factory=dict)
    episode: Episode | None = None


class Watchers:
    """All watchers of one machine. `channels` may be replaced by the same ones with other limits or trust."""

    def __init__(self, channels: tuple[Channel, ...], clock_cap_ghz: float | None = None) -> None:
        """Remember the channels and the highest clock that settings allow; nothing has been seen yet."""
        self.clock_cap_ghz = clock_cap_ghz
        self.channels = channels
        self._state = _State()

    def look(self, tick: Tick, busy_cores: frozenset[int]) -> tuple[list[Finding], list[TapeEntry]]:
        """Return what the newest readings amount to: findings, and notes for the tape."""
        findings = [*self._heat(tick), *self._clocks(tick, busy_cores), *self._rails(tick), *self._fans(tick)]
        notes = [*self._ended_episode(tick), *self._passed_limits(tick), *self._lost_channels(tick)]
        return findings, [*notes, *self._throttled_before(tick), *self._mains_changes(tick)]

    def silent(self, tick: Tick, quantity: Quantity) -> list[Channel]:
        """Return the channels of a quantity that gave readings and have given none for some seconds."""
        return [
            self.channels[index]
            for index, since in self._state.missing_since.items()
            if self.channels[index].quantity is quantity
            and not self.channels[index].distrust
            and tick.at - since >= _SILENT_S
        ]

    def _sign(self, name: str, index: int, lasts_s: float) -> Sign:
        return self._state.signs.setdefault((name, index), Sign(lasts_s))

    def _heat(self, tick: Tick) -> list[Finding]:
        findings = []
        for chip, (room, index) in self._nearest_limits(tick).items():
            sign = self._state.signs.setdefault((f"heat {chip}", 0), Sign(0.0))
            if sign.counted and _AT_LIMIT_K < room < _COOL_AGAIN_K:
                continue  # hovering: neither there nor gone
            if sign.seen(room <= _AT_LIMIT_K, tick.at):
                channel, reading = self.channels[index], tick.values[index]
                limit = channel.limit(LimitSide.BELOW)
                detail = f"{reading:.4g} of {limit.value:.4g} °C, limit {limit.source}" if limit else ""
                code, kind, part = _HEAT_OF.get(channel.kind, _HEAT)
                findings.append(
                    Finding(
                        code,
                        kind,
                        Severity.WARNING,
                        part,
                        tick.at,
                        f"{channel.name} at its temperature limit",
                        detail,
                        channel.place or channel.name,
                        temperature_c=reading,
                        channel=channel.key,
                    )
                )
        return findings

    def _nearest_limits(self, tick: Tick) -> dict[str, tuple[float, int]]:
        """Return, by chip, the headroom of its temperature nearest the limit and that channel's index.

        All cores of a processor reach the limit in the same seconds, so that one finding stands for the chip.
        """
        nearest: dict[str, tuple[float, int]] = {}
        for index, channel in enumerate(self.channels):
            reading, limit = tick.values[index], channel.limit(LimitSide.BELOW)
            cooled = channel.quantity is Quantity.TEMPERATURE and channel.kind in _COOLED
            if cooled and reading is not None and limit is not None and self._believable(index, limit, reading):
                chip = channel.chip
                room = limit.headroom(reading)
                known = nearest.get(chip)
                # a core names the place better than the package it belongs to
                if known is None or room < known[0] or (room == known[0] and channel.core is not None):
                    nearest[chip] = (room, index)
        return nearest

    def _believable(self, index: int, limit: Limit, reading: float) -> bool:
        """Whether a temperature near its limit has behaved like one.

        A die that is held at its limit stays there; anything else that does so from the first look may be broken.
        """
        low, high = self._state.spans.get(index, (reading, reading))
        self._state.spans[index] = low, high = min(low, reading), max(high, reading)
        die = self.channels[index].kind in (PartKind.PROCESSOR, PartKind.GRAPHICS)
        return high - low >= _MOVED_K or (die and limit.headroom(reading) > -_FAR_BEYOND_DIE_K)

    def _headroom(self, tick: Tick) -> float | None:
        rooms = [
            limit.headroom(reading)
            for channel, reading in zip(self.channels, tick.values, strict=True)
            if channel.quantity is Quantity.TEMPERATURE
            and channel.kind is PartKind.PROCESSOR
            and reading is not None
            and (limit := channel.limit(LimitSide.BELOW))
        ]
        return min(rooms, default=None)

    def _clocks(self, tick: Tick, busy_cores: frozenset[int]) -> list[Finding]:
        low = self._low_clocks(tick, busy_cores)
        room = self._headroom(tick)
        hot = room is not None and room <= _HOT_K
        self._follow_episode(tick, low, hot)
        by_heat = self._sign("clock by heat", 0, _CLOCK_LASTS_S).seen(bool(low) and hot, tick.at)
        otherwise = self._sign("clock otherwise", 0, _CLOCK_LASTS_S).seen(bool(low) and not hot, tick.at)
        if not (by_heat or otherwise):
            return []
        _, reading, channel = min(low, key=lambda each: each[0])
        limit = channel.limit(LimitSide.ABOVE)
        where = f"core {channel.core}"
        detail = f"{where} at {reading:.2f} of {limit.value if limit else 0:.2f} GHz"
        if by_heat:
            return [
                Finding(
                    "C-220",
                    FindingKind.HEAT_THROTTLE,
                    Severity.WARNING,
                    PartKind.COOLING,
                    tick.at,
                    "Clock below its base under heat",
                    f"{detail}, {room:.0f} K of headroom",
                    where,
                )
            ]
        code, title, why = self._why_low(tick)
        headroom = f"{room:.0f} K of headroom" if room is not None else "no temperature to compare"
        return [
            Finding(
                code,
                FindingKind.CLOCK_LOW,
                Severity.WARNING,
                PartKind.PROCESSOR,
                tick.at,
                title,
                ", ".join(filter(None, (detail, headroom, why))),
                where,
            )
        ]

    def _low_clocks(self, tick: Tick, busy_cores: frozenset[int]) -> list[tuple[float, float, Channel]]:
        """Return the busy cores below their base clock: share of it, reading, channel."""
        low = []
        for channel, reading in zip(self.channels, tick.values, strict=True):
            limit = channel.limit(LimitSide.ABOVE)
            if channel.quantity is Quantity.CLOCK and reading is not None and limit and channel.core in busy_cores:
                share = reading / limit.value
                if share < _CLOCK_SHARE:
                    low.append((share, reading, channel))
        return low

    def _why_low(self, tick: Tick) -> tuple[str, str, str]:
        """Say what holds a clock down where it is not heat: the power limit, a setting, or nothing that is reported."""
        held = {
            channel.key.rpartition("/")[2]: channel.name
            for channel, reading in zip(self.channels, tick.values, strict=True)
            if channel.quantity is Quantity.FLAG and channel.kind is PartKind.PROCESSOR and reading
        }
        for word, (code, title) in _HELD_BY.items():
            if word in held:
                return code, title, f"{held[word]}, reported by the processor"
        for channel, reading in zip(self.channels, tick.values, strict=True):
            limit = channel.limit(LimitSide.BELOW)
            mine = channel.quantity is Quantity.POWER and channel.kind is PartKind.PROCESSOR
            if mine and limit is not None and reading is not None and reading >= _AT_POWER_LIMIT * limit.value:
                why = f"{channel.name} {reading:.0f} of {limit.value:.0f} W"
                return "P-121", "Clock held down by the power limit", why
        if self.clock_cap_ghz is not None:
            bases = [limit.value for each in self.channels if (limit := _clock_base(each))]
            if bases and self.clock_cap_ghz < max(bases):
                return "P-122", "Clock held down by a setting", f"allowed up to {self.clock_cap_ghz:.2f} GHz"
        return "P-120", "Clock low without heat", ""

    def _follow_episode(self, tick: Tick, low: list[tuple[float, float, Channel]], hot: bool) -> None:
        """Note how long and how deep clocks stay below their base, to be reported when they are back."""
        episode = self._state.episode
        if low:
            share, reading, channel = min(low, key=lambda each: each[0])
            if episode is None:
                episode = self._state.episode = Episode(tick.at, tick.at, share, reading, channel.core, hot)
            episode.last = tick.at
            episode.hot = episode.hot or hot
            if share < episode.share:
                episode.share, episode.reading, episode.core = share, reading, channel.core

    def _throttled_before(self, tick: Tick) -> list[TapeEntry]:
        """Return a note, once, when the counters show that the machine was throttled before the bench was opened."""
        counted = {
            channel.name: reading
            for channel, reading in zip(self.channels, tick.values, strict=True)
            if channel.quantity is Quantity.THROTTLE and channel.key.endswith("/throttle_count") and reading is not None
        }
        if self._state.throttled_before or not counted:
            return []
        self._state.throttled_before = True
        most = max(counted.values())
        if most < 1:
            return []
        where = next(name for name, count in counted.items() if count == most).removesuffix(" throttled")
        times = "once" if most == 1 else f"{most:.0f} times"
        detail = f"{where} {times} since the machine was started; the cooling did not keep up then"
        title = "Throttled by heat before the bench was opened"
        return [TapeEntry(tick.at, None, title, detail, Severity.WARNING, "C-210", PartKind.COOLING)]

    def _mains_changes(self, tick: Tick) -> list[TapeEntry]:
        """Return notes of mains that went away or came back."""
        entries = []
        for index, channel in enumerate(self.channels):
            reading = tick.values[index]
            if not channel.key.startswith(MAINS) or reading is None:
                continue
            there, before = bool(reading), self._state.mains.get(index)
            self._state.mains[index] = there
            if before is None or before == there:
                continue
            title = "Mains is back" if there else "Mains lost"
            detail = "" if there else "the machine runs on its battery; clocks and power may be lower now"
            severity = Severity.NOTE if there else Severity.WARNING
            entries.append(TapeEntry(tick.at, None, title, detail, severity, "S-420", PartKind.POWER))
        return entries

    def _ended_episode(self, tick: Tick) -> list[TapeEntry]:
        episode = self._state.episode
        if episode is None or tick.at - episode.last < GONE_FOR_S:
            return []
        self._state.episode = None
        lasted = episode.last - episode.since
        if lasted < _CLOCK_LASTS_S:
            return []
        base = episode.reading / episode.share
        detail = f"below it for {lasted:.0f} s, lowest core {episode.core} at {episode.reading:.2f} of {base:.2f} GHz"
        code = "C-220" if episode.hot else "P-120"
        return [TapeEntry(tick.at, None, "Clocks at their base again", detail, Severity.NOTE, code, PartKind.PROCESSOR)]

    def _rails(self, tick: Tick) -> list[Finding]:
        findings = []
        for index, channel in enumerate(self.channels):
            reading = tick.values[index]
            if channel.kind is not PartKind.POWER or channel.quantity is not Quantity.VOLTAGE or reading is None:
                continue
            limits = [limit for side in LimitSide if (limit := channel.limit(side))]
            beyond = [limit for limit in limits if limit.headroom(reading) < 0 and is_rail_reading(channel, reading)]
            if self._sign("rail", index, _RAIL_LASTS_S).seen(bool(beyond), tick.at):
                findings.append(
                    Finding(
                        "S-410",
                        FindingKind.RAIL_OUT,
                        Severity.FAULT,
                        PartKind.POWER,
                        tick.at,
                        f"Rail {channel.name} out of tolerance",
                        f"{reading:.2f} V, must stay {beyond[0].side.value} {beyond[0].value:.2f} V"
                        f" ({beyond[0].source})",
                        channel.name,
                        channel=channel.key,
                    )
                )
        return findings

    def _fans(self, tick: Tick) -> list[Finding]:
        findings = []
        for index, channel in enumerate(self.channels):
            reading = tick.values[index]
            if channel.quantity is not Quantity.FAN or reading is None:
                continue
            if reading > _FAN_TURNS_RPM:
                self._state.fan_turned.add(index)
            still = reading == 0 and index in self._state.fan_turned
            why = "no pulses for 5 s, it turned before"
            if channel.kind is PartKind.GRAPHICS:  # fans of cards rest on purpose while the card is cool
                card_c = self._card_temperature(tick, channel.place)
                still = reading == 0 and card_c is not None and card_c >= _FAN_NEEDED_C
                why = f"no pulses for 5 s with the card at {card_c or 0:.0f} °C"
            driven = self._sign("fan driven", index, _DRIVEN_LASTS_S).seen(self._is_driven(tick, index), tick.at)
            hot = self._sign("fan at limit", index, _FAN_LASTS_S).seen(self._should_turn(tick, index), tick.at)
            if driven or hot:
                how = self._driven_words(tick, index) if driven else "with the processor at its limit"
                detail = f"no pulses since the bench was opened, {how}"
                title = f"{channel.name} does not turn"
                self._sign("fan driven", index, _DRIVEN_LASTS_S).counted = True
                self._sign("fan at limit", index, _FAN_LASTS_S).counted = True
                findings.append(
                    Finding(
                        "C-230",
                        FindingKind.FAN_STOPPED,
                        Severity.FAULT,
                        PartKind.COOLING,
                        tick.at,
                        title,
                        detail,
                        channel.name,
                        channel=channel.key,
                    )
                )
            if self._sign("fan", index, _FAN_LASTS_S).seen(still, tick.at):
                code, kind, part = _STOPPED_OF.get(channel.kind, _STOPPED)
                findings.append(
                    Finding(
                        code,
                        kind,
                        Severity.FAULT,
                        part,
                        tick.at,
                        f"{channel.name} stopped",
                        why,
                        channel.place or channel.name,
                        channel=channel.key,
                    )
                )
        return findings

    def _card_temperature(self, tick: Tick, card: str) -> float | None:
        """Return the hottest reading of a graphics card in °C."""
        return max(
            (
                value
                for channel, value in zip(self.channels, tick.values, strict=True)
                if channel.place == card and channel.quantity is Quantity.TEMPERATURE and value is not None
            ),
            default=None,
        )

    def _duty_of(self, tick: Tick, index: int) -> float | None:
        """Return how hard the chip drives a fan in per cent, None where it does not report that."""
        key = self.channels[index].key
        folder, _, stem = key.rpartition("/")
        wanted = f"{folder}/pwm{stem.removeprefix('fan')}"
        return next(
            (value for channel, value in zip(self.channels, tick.values, strict=True) if channel.key == wanted), None
        )

    def _is_driven(self, tick: Tick, index: int) -> bool:
        """Whether a fan never turned though the chip drives it and has a lowest speed for it.

        An input with nothing plugged in has no lowest speed set; a fan that rests on purpose is not driven.
        """
        channel = self.channels[index]
        expected = channel.limit(LimitSide.ABOVE) is not None and channel.kind is not PartKind.GRAPHICS
        if not expected or tick.values[index] != 0 or index in self._state.fan_turned:
            return False
        duty = self._duty_of(tick, index)
        return duty is not None and duty >= _DRIVEN_DUTY

    def _driven_words(self, tick: Tick, index: int) -> str:
        limit, duty = self.channels[index].limit(LimitSide.ABOVE), self._duty_of(tick, index)
        return f"driven at {duty or 0:.0f} %, at least {limit.value if limit else 0:.0f} rpm expected"

    def _should_turn(self, tick: Tick, index: int) -> bool:
        """Whether a fan that never turned is the processor's own, by its name, and the processor is at its limit.

        An input that nothing is plugged into reads 0 too, but boards do not leave that of the processor free.
        """
        room = self._headroom(tick)
        ours = "cpu" in self.channels[index].name.lower()
        silent = tick.values[index] == 0 and index not in self._state.fan_turned
        return ours and silent and room is not None and room <= _HOT_K

    def _passed_limits(self, tick: Tick) -> list[TapeEntry]:
        """Return notes of the limits that no finding stands for.

        A limit of a chip counts once a reading has been inside it: many boards leave those of free inputs at nonsense.
        """
        state, entries = self._state, []
        for index, channel in enumerate(self.channels):
            reading = tick.values[index]
            if reading is None or not channel.limits:
                continue
            for side in LimitSide:
                limit = channel.limit(side)
                if limit is None or _has_finding(channel, side):
                    continue
                if not limit.reason and channel.quantity not in _WATCHED_LIMITS:
                    continue
                # somewhat beyond a limit from the start is heat; far beyond it is a broken sensor
                warm = channel.quantity is Quantity.TEMPERATURE and limit.headroom(reading) > -_FAR_BEYOND_K
                if limit.headroom(reading) >= 0 or warm:
                    state.inside.add((index, side))
                still = channel.quantity is Quantity.FAN and reading == 0 and index in state.fan_turned  # is C-230
                counts = (bool(limit.reason) or (index, side) in state.inside) and not still
                beyond = counts and limit.headroom(reading) < 0
                if self._sign(f"beyond {side.value}", index, _BEYOND_LASTS_S).seen(beyond, tick.at):
                    why = f": {limit.reason}" if limit.reason else ""
                    detail = (
                        f"{reading:.4g} {channel.unit}, must stay {side.value} {limit.value:g} ({limit.source}{why})"
                    )
                    title = f"{channel.name} beyond its limit"
                    entries.append(TapeEntry(tick.at, None, title, detail, Severity.WARNING, "X-851", channel.kind))
        return entries

    def _lost_channels(self, tick: Tick) -> list[TapeEntry]:
        state, entries = self._state, []
        for index, channel in enumerate(self.channels):
            if tick.values[index] is not None:
                state.seen.add(index)
                state.missing_since.pop(index, None)
                if index in state.reported_missing:
                    state.reported_missing.discard(index)
                    entries.append(TapeEntry(tick.at, None, f"{channel.name} reads again", channel.source))
                continue
            if index not in state.seen or channel.now_and_then:
                continue
            since = state.missing_since.setdefault(index, tick.at)
            if tick.at - since >= _SILENT_S and index not in state.reported_missing:
                state.reported_missing.add(index)
                entries.append(
                    TapeEntry(
                        tick.at,
                        None,
                        f"{channel.name} lost",
                        f"{tick.missing.get(index, 'no reason given')} ({channel.source})",
                        Severity.WARNING,
                        "X-801",
                        channel.kind,
                    )
                )
        return entries
