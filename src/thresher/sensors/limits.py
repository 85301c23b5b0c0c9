"""Limits of channels from the sources that the device itself does not give: standard, knowledge base, technician.

In their order of trust: the device, the standard, our knowledge base by kind of part (`limits.toml`). What the
technician says comes before all of them, because it is reported on purpose and with a reason.
"""

import re
from dataclasses import dataclass, replace
from importlib import resources

from thresher.model.channels import Channel, Limit, LimitSide, Quantity
from thresher.model.errors import InputError, InputFault
from thresher.model.parts import PartKind
from thresher.model.tomlfile import convert_list, parse_toml, unknown_keys

FORMAT = "thresher-limits/1"
TECHNICIAN = "technician"

_RAIL = re.compile(
    r"^(?=.*[V+])[V+]?(12|5|3[.v]3) ?(?:V(?:CC|olt(?:age|s)?)?)?(?: (?:rail|voltage|supply))?$", re.IGNORECASE
)
_STANDBY = re.compile(r"^\+?5 ?V? ?(?:SB|VSB|stand ?by)(?: voltage)?$", re.IGNORECASE)
_MINUS_12 = re.compile(r"^[-−]12 ?(?:V|Voltage|V rail)$", re.IGNORECASE)
_NEAR_NOMINAL = (0.7, 1.3)
"""A rail that reads further from its nominal value while the machine runs is read with a wrong divider."""
_TOLERANCE, _MINUS_TOLERANCE = 0.05, 0.10


@dataclass(frozen=True, slots=True, kw_only=True)
class KnownLimit:
    """A limit for channels of a kind of part; `chip` and `label` (a pattern) narrow it down."""

    kind: PartKind
    quantity: Quantity
    side: LimitSide
    value: float
    source: str
    chip: str = ""
    label: str = ""

    def fits(self, channel: Channel) -> bool:
        """Whether it is meant for a channel."""
        return (
            channel.kind is self.kind
            and channel.quantity is self.quantity
            and channel.key.startswith(self.chip)
            and (not self.label or re.search(self.label, channel.name) is not None)
        )


def parse_limits(text: str, source: str) -> tuple[KnownLimit, ...]:
    """Parse the limits of the knowledge base. Raises InputError with every fault."""
    data = parse_toml(text, source, FORMAT)
    faults: list[InputFault] = []
    unknown_keys(data, {"format", "limits"}, faults)
    limits = convert_list(data, "limits", KnownLimit, faults)
    for index, limit in enumerate(limits):
        try:
            re.compile(limit.label)
        except re.error as error:
            faults.append(InputFault(f"limits[{index}].label", f"is no pattern: {error}"))
    if faults:
        raise InputError(source, faults)
    return tuple(limits)


def load_limits() -> tuple[KnownLimit, ...]:
    """Return the limits that come with the program."""
    text = resources.files("thresher.sensors").joinpath("limits.toml").read_text(encoding="utf-8")
    return parse_limits(text, "limits.toml")


def rail_limits(label: str) -> tuple[Limit, ...]:
    """Return the tolerance of a supply rail that a label names (ATX12V design guide, DC voltage regulation)."""
    standard, standby = _RAIL.match(label), _STANDBY.match(label)
    if standard or standby:
        nominal = float(standard[1].lower().replace("v", ".")) if standard else 5.0
        source = f"ATX12V design guide, {nominal:g} V{' standby' if standby else ''} ±5 %"
        return (
            Limit(nominal * (1 - _TOLERANCE), LimitSide.ABOVE, source),
            Limit(nominal * (1 + _TOLERANCE), LimitSide.BELOW, source),
        )
    if _MINUS_12.match(label):
        source = "ATX12V design guide, −12 V ±10 %"
        return (
            Limit(-12 * (1 + _MINUS_TOLERANCE), LimitSide.ABOVE, source),
            Limit(-12 * (1 - _MINUS_TOLERANCE), LimitSide.BELOW, source),
        )
    return ()


def is_rail_reading(channel: Channel, value: float) -> bool:
    """Whether a rail's reading can be true at all: the machine would not run far from the nominal value."""
    low, high = channel.limit(LimitSide.ABOVE), channel.limit(LimitSide.BELOW)
    if low is None or high is None:
        return True
    nominal = (low.value + high.value) / 2
    return _NEAR_NOMINAL[0] <= value / nominal <= _NEAR_NOMINAL[1]


def with_known_limits(channel: Channel, known: tuple[KnownLimit, ...]) -> Channel:
    """Return the channel with what the knowledge base says on each side that nobody else has a limit on."""
    more: list[Limit] = []
    for limit in known:
        sides = {each.side for each in (*channel.limits, *more)}
        if limit.fits(channel) and limit.side not in sides:
            more.append(Limit(limit.value, limit.side, limit.source))
    return replace(channel, limits=(*channel.limits, *more)) if more else channel


@dataclass(frozen=True, slots=True, kw_only=True)
class OwnLimit:
    """A limit that a technician has set on a channel, in its unit, with the reason and the date (ISO 8601)."""

    channel: str
    side: LimitSide
    value: float
    reason: str
    date: str


def check_own_limit(limit: OwnLimit, channels: tuple[Channel, ...]) -> None:
    """Check a limit before it counts. Raises InputError that names what is wrong."""
    channel = next((each for each in channels if each.key == limit.channel), None)
    faults = []
    if channel is None:
        faults.append(InputFault("channel", f"this machine has no channel {limit.channel!r}"))
    if not limit.reason.strip():
        faults.append(InputFault("reason", "give a reason; the report repeats it"))
    if not -1e6 < limit.value < 1e6:
        faults.append(InputFault("value", f"expected a number in the channel's unit, found {limit.value}"))
    if faults:
        raise InputError("limit", faults)


def with_own_limits(channels: tuple[Channel, ...], own: tuple[OwnLimit, ...]) -> tuple[Channel, ...]:
    """Return the channels with the technician's limits before all others; theirs of before are taken away."""
    changed = []
    for channel in channels:
        mine = tuple(
            Limit(each.value, each.side, f"{TECHNICIAN}, {each.date}", each.reason)
            for each in own
            if each.channel == channel.key
        )
        others = tuple(limit for limit in channel.limits if not limit.reason)
        changed.append(replace(channel, limits=(*mine, *others)))
    return tuple(changed)
