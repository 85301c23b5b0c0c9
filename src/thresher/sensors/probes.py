"""Probes: one file of the machine and the channels that are read out of it."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from thresher.model.channels import UNITS, Channel, Quantity
from thresher.model.port import Source

Parse = Callable[[bytes, float], Sequence[float]]

PLAUSIBLE: dict[Quantity, tuple[float, float]] = {
    Quantity.TEMPERATURE: (-40.0, 150.0),
    Quantity.CLOCK: (0.0, 12.0),
    Quantity.VOLTAGE: (-20.0, 60.0),
    Quantity.POWER: (0.0, 5000.0),
    Quantity.CURRENT: (-500.0, 1000.0),
    Quantity.FAN: (0.0, 30000.0),
    Quantity.USE: (0.0, 100.5),
}
"""What each quantity can be inside a PC; a reading outside is a broken sensor, not a fact."""


@dataclass(frozen=True, slots=True)
class Probe:
    """A source and how its content turns into one value a channel.

    `parse` gets the content and the machine's time, and raises ValueError with a reason for a person.
    """

    source: Source
    channels: tuple[Channel, ...]
    parse: Parse


def parse_number(content: bytes) -> int:
    """Parse the one whole number of a sysfs attribute. Raises ValueError that shows what was there instead."""
    text = content.strip()
    if not text or len(text) > 24:
        raise ValueError("empty, expected a number" if not text else "too long for a number")
    try:
        return int(text)
    except ValueError:
        shown = text.decode("ascii", "backslashreplace")
        raise ValueError(f"expected a number, found {shown!r}") from None


def scaled(divisor: float) -> Parse:
    """Return a parse function for an attribute holding one number in fractions of the channel's unit."""
    return lambda content, _at: (parse_number(content) / divisor,)


def energy_to_power(wraps_at_uj: int | None) -> Parse:
    """Return a parse function from a counter of microjoules to watts between readings.

    The counter starts again at 0 after `wraps_at_uj` (kernel document power/powercap, max_energy_range_uj).
    """
    last: list[tuple[float, int]] = []

    def parse(content: bytes, at: float) -> Sequence[float]:
        energy = parse_number(content)
        before = last[0] if last else None
        last[:] = [(at, energy)]
        if before is None or at <= before[0]:
            raise ValueError("needs two readings; the first has just been taken")
        used = energy - before[1]
        if used < 0:
            if wraps_at_uj is None:
                raise ValueError("the counter went back and does not say where it wraps")
            used += wraps_at_uj + 1
        return (used / 1e6 / (at - before[0]),)

    return parse


def cpu_use() -> Parse:
    """Return a parse function from `/proc/stat` to use and steal in per cent (filesystems/proc, section 1.8)."""
    last: list[list[int]] = []

    def parse(content: bytes, _at: float) -> Sequence[float]:
        fields = content.split(b"\n", 1)[0].split()
        if len(fields) < 5 or fields[0] != b"cpu":
            raise ValueError("expected a first line that begins with 'cpu'")
        now = [int(field) for field in fields[1:9]] + [0] * (9 - len(fields))
        before = last[0] if last else None
        last[:] = [now]
        if before is None:
            raise ValueError("needs two readings; the first has just been taken")
        spent = [max(0, after - earlier) for after, earlier in zip(now, before, strict=True)]
        total = sum(spent)
        if not total:
            raise ValueError("no time has passed since the last reading")
        idle = spent[3] + spent[4]
        steal = spent[7] if len(spent) > 7 else 0
        return (100.0 * (total - idle - steal) / total, 100.0 * steal / total)

    return parse


def memory_used(content: bytes, _at: float) -> Sequence[float]:
    """Parse `/proc/meminfo` into GiB in use: total less what is available."""
    rows = {}
    for line in content.split(b"\n"):
        name, _, rest = line.partition(b":")
        value = rest.split()
        if value and value[0].isdigit():
            rows[name] = int(value[0])
    if b"MemTotal" not in rows or b"MemAvailable" not in rows:
        raise ValueError("expected MemTotal and MemAvailable")
    return ((rows[b"MemTotal"] - rows[b"MemAvailable"]) / (1 << 20),)


def implausible(quantity: Quantity, value: float) -> str | None:
    """Say why a value cannot be true, or return None."""
    low, high = PLAUSIBLE.get(quantity, (-float("inf"), float("inf")))
    if low <= value <= high:
        return None
    return f"reads {value:g} {UNITS[quantity]}, which cannot be"
