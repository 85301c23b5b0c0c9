"""Channels (one measured quantity of one source) and the readings taken from them."""

from collections.abc import Iterable
from dataclasses import dataclass, field
from enum import StrEnum

from thresher.model.parts import PartKind


class Quantity(StrEnum):
    """What a channel measures. The unit is fixed by the quantity, see `UNITS`."""

    TEMPERATURE = "temperature"
    CLOCK = "clock"
    VOLTAGE = "voltage"
    POWER = "power"
    CURRENT = "current"
    FAN = "fan"
    USE = "use"
    MEMORY = "memory"
    THROTTLE = "throttle"
    THROTTLE_TIME = "throttle time"
    HUMIDITY = "humidity"
    DUTY = "duty"
    PRESSURE = "pressure"
    RATE = "rate"
    LATENCY = "latency"
    CHARGE = "charge"
    FREQUENCY = "frequency"
    FLAG = "flag"
    COUNT = "count"
    WORK = "work"
    WEAR = "wear"


UNITS: dict[Quantity, str] = {
    Quantity.TEMPERATURE: "°C",
    Quantity.CLOCK: "GHz",
    Quantity.VOLTAGE: "V",
    Quantity.POWER: "W",
    Quantity.CURRENT: "A",
    Quantity.FAN: "rpm",
    Quantity.USE: "%",
    Quantity.MEMORY: "GiB",
    Quantity.THROTTLE: "events",
    Quantity.THROTTLE_TIME: "s",
    Quantity.HUMIDITY: "%RH",
    Quantity.DUTY: "%",
    Quantity.PRESSURE: "%",
    Quantity.RATE: "MB/s",
    Quantity.LATENCY: "ms",
    Quantity.CHARGE: "%",
    Quantity.FREQUENCY: "MHz",
    Quantity.FLAG: "set",
    Quantity.COUNT: "in all",
    Quantity.WORK: "beats/s",
    Quantity.WEAR: "%",
}


class LimitSide(StrEnum):
    """On which side of the limit the channel has to stay."""

    BELOW = "below"
    ABOVE = "above"


@dataclass(frozen=True, slots=True)
class Limit:
    """A bound on a channel in the channel's unit, and who says so; `reason` is the technician's where it is theirs."""

    value: float
    side: LimitSide
    source: str
    reason: str = ""

    def headroom(self, reading: float) -> float:
        """Return how far a reading is from the limit, negative when beyond it."""
        return self.value - reading if self.side is LimitSide.BELOW else reading - self.value


@dataclass(frozen=True, slots=True)
class Channel:
    """One measured quantity: where it is read (`source`), what it belongs to, and its limits.

    `core` is the physical core number where the quantity belongs to one core, else None; `place` names the part that it
    belongs to where there are several of a kind (a drive, a card). `distrust` says why the
    channel's readings are ignored: it is then shown and kept, but counts for no limit and no verdict. `now_and_then`
    marks one that has readings only while something runs, so that silence is no loss.
    """

    key: str
    name: str
    quantity: Quantity
    kind: PartKind
    source: str
    limits: tuple[Limit, ...] = ()
    core: int | None = None
    distrust: str = ""
    place: str = ""
    now_and_then: bool = False

    @property
    def unit(self) -> str:
        """The unit that every reading of this channel is in."""
        return UNITS[self.quantity]

    @property
    def chip(self) -> str:
        """What the channel is read from, the same for all channels of one chip or device."""
        return self.key.rpartition("/")[0]

    def limit(self, side: LimitSide) -> Limit | None:
        """Return the limit on one side that counts: the first listed, since sources come in their order of trust.

        None when there is none, and for a channel that is not trusted.
        """
        if self.distrust:
            return None
        return next((limit for limit in self.limits if limit.side is side), None)


def watched_temperatures(channels: Iterable[Channel]) -> list[int]:
    """Return the indexes of the temperatures that a run sheet's limit watches: those of the processor that count."""
    return [
        index
        for index, channel in enumerate(channels)
        if channel.quantity is Quantity.TEMPERATURE and channel.kind is PartKind.PROCESSOR and not channel.distrust
    ]


@dataclass(frozen=True, slots=True)
class Tick:
    """All readings of one moment, in the order of the channels.

    `at` is the machine's clock in seconds since its boot, `wall` Unix time. A missing reading is None in
    `values` and has its reason in `missing` under the channel's index. `late` counts the ticks that should
    have come before this one and could not. `ages` says under the channel's index how many seconds ago a value was
    really read where that was not now: slow sources are read more seldom.
    """

    at: float
    wall: float
    values: tuple[float | None, ...]
    missing: dict[int, str]
    late: int = 0
    cost_s: float = 0.0
    ages: dict[int, float] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class IdleReading:
    """What a channel did while the machine stood idle, in its unit; None where it never answered."""

    channel: str
    readings: int
    low: float | None
    mean: float | None
    high: float | None


@dataclass(frozen=True, slots=True)
class SensorDoubt:
    """Why a channel is not to be trusted as it stands; `twin` is the key of the channel it disagrees with."""

    code: str
    channel: str
    title: str
    detail: str
    twin: str = ""


@dataclass(frozen=True, slots=True)
class Baseline:
    """Idle readings of one machine: when they were taken (Unix time), for how many seconds, and what is odd."""

    wall: float
    seconds: float
    readings: tuple[IdleReading, ...]
    doubts: tuple[SensorDoubt, ...]
