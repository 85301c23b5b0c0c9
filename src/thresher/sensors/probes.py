"""Probes: one file of the machine and the channels that are read out of it."""

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from thresher.model.channels import UNITS, Channel, Quantity
from thresher.model.errors import SourceUnavailable
from thresher.model.parts import Fact
from thresher.model.port import Source, System

Parse = Callable[[bytes, float], Sequence[float]]

PLAUSIBLE: dict[Quantity, tuple[float, float]] = {
    Quantity.TEMPERATURE: (-40.0, 150.0),
    Quantity.CLOCK: (0.0, 12.0),
    Quantity.VOLTAGE: (-20.0, 60.0),
    Quantity.POWER: (0.0, 5000.0),
    Quantity.CURRENT: (-500.0, 1000.0),
    Quantity.FAN: (0.0, 30000.0),
    Quantity.USE: (0.0, 100.5),
    Quantity.MEMORY: (0.0, 1 << 20),
    Quantity.HUMIDITY: (0.0, 100.0),
    Quantity.DUTY: (0.0, 100.0),
    Quantity.PRESSURE: (0.0, 100.5),
    Quantity.RATE: (0.0, 100_000.0),
    Quantity.LATENCY: (0.0, 600_000.0),
    Quantity.CHARGE: (0.0, 110.0),
    Quantity.FREQUENCY: (0.0, 20_000.0),
    Quantity.FLAG: (0.0, 1.0),
    Quantity.COUNT: (0.0, 1e15),
    Quantity.WEAR: (0.0, 255.0),
    Quantity.WORK: (0.0, 1e9),
}
"""What each quantity can be inside a PC; a reading outside is a broken sensor, not a fact."""


@dataclass(frozen=True, slots=True)
class Probe:
    """A source and how its content turns into one value a channel.

    `parse` gets the content and the machine's time, and raises ValueError with a reason for a person; NaN stands for
    what the source does not report. `reopen` opens the source again where that is not by its path.
    """

    source: Source
    channels: tuple[Channel, ...]
    parse: Parse
    reopen: Callable[[], Source] | None = None


def try_probe(
    system: System, channel: Channel | tuple[Channel, ...], parse: Parse, unknown: list[Fact], path: str = ""
) -> Iterator[Probe]:
    """Yield a probe of a file that can be opened; for one that cannot, note why."""
    channels = channel if isinstance(channel, tuple) else (channel,)
    try:
        yield Probe(system.open(path or channels[0].source), channels, parse)
    except SourceUnavailable as error:
        unknown.append(Fact(channels[0].name, error.reason, error.path))


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
            raise ValueError(NEEDS_TWO)
        used = energy - before[1]
        if used < 0:
            if wraps_at_uj is None:
                raise ValueError("the counter went back and its wrap point is unknown")
            used += wraps_at_uj + 1
        return (used / 1e6 / (at - before[0]),)

    return parse


NEEDS_TWO = "needs two readings; the first has just been taken"


def rates(of: Callable[[bytes], Sequence[float]]) -> Parse:
    """Return a parse function from counters that only rise to their rise per second."""
    last: list[tuple[float, Sequence[float]]] = []

    def parse(content: bytes, at: float) -> Sequence[float]:
        now = of(content)
        before = last[0] if last else None
        last[:] = [(at, now)]
        if before is None or at <= before[0]:
            raise ValueError(NEEDS_TWO)
        if any(new < old for new, old in zip(now, before[1], strict=True)):
            raise ValueError("a counter went back; the device was probably reset")
        return tuple((new - old) / (at - before[0]) for new, old in zip(now, before[1], strict=True))

    return parse


def cpu_use(cpus: int = 0) -> Parse:
    """Return a parse function from `/proc/stat` to shares of time in per cent (filesystems/proc, section 1.8).

    For the whole machine busy, user, system, steal; then busy of the first `cpus` logical CPUs. The first line's
    `user` and `nice` count as user, `irq` and `softirq` as system, `idle` and `iowait` as idle.
    """
    last: list[list[list[int]]] = []

    def parse(content: bytes, _at: float) -> Sequence[float]:
        rows = _stat_rows(content, cpus)
        before = last[0] if last else None
        last[:] = [rows]
        if before is None:
            raise ValueError(NEEDS_TWO)
        shares = []
        for number, (now, then) in enumerate(zip(rows, before, strict=True)):
            spent = [max(0, after - earlier) for after, earlier in zip(now, then, strict=True)]
            total = sum(spent)
            if not total and not number:
                raise ValueError("no time has passed since the last reading")
            user, system = spent[0] + spent[1], spent[2] + spent[5] + spent[6]
            steal = spent[7]
            busy = 100.0 * (user + system) / total if total else 0.0
            shares += [busy] if number else [busy, *(100.0 * part / total for part in (user, system, steal))]
        return shares

    return parse


def _stat_rows(content: bytes, cpus: int) -> list[list[int]]:
    lines = content.split(b"\n", cpus + 1)
    rows = []
    for number in range(cpus + 1):
        fields = lines[number].split() if number < len(lines) else []
        name = b"cpu" if not number else b"cpu%d" % (number - 1)
        if len(fields) < 5 or fields[0] != name:
            raise ValueError(f"expected line {number + 1} to begin with {name.decode()!r}")
        rows.append([int(field) for field in fields[1:9]] + [0] * (9 - len(fields)))
    return rows


def pressure(content: bytes, _at: float) -> Sequence[float]:
    """Parse pressure stall information into the shares of the last ten seconds (accounting/psi): some, then full."""
    found = re.findall(rb"^(some|full) avg10=(\d+\.\d+)", content, re.MULTILINE)
    reported = {name: float(value) for name, value in found}
    if b"some" not in reported:
        raise ValueError("expected a line that begins with 'some avg10='")
    return (reported[b"some"], reported.get(b"full", 0.0))


def disk_use(name: str) -> Parse:
    """Return a parse function from `/proc/diskstats` for one drive: MB/s read, MB/s written, ms an operation.

    Sectors are 512 bytes (admin-guide/iostats, fields 1 to 8). Without an operation the last is 0.
    """
    wanted = name.encode()

    def counters(content: bytes) -> Sequence[float]:
        for line in content.splitlines():
            fields = line.split()
            if len(fields) >= 11 and fields[2] == wanted:
                reads, read_sectors, read_ms = int(fields[3]), int(fields[5]), int(fields[6])
                writes, write_sectors, write_ms = int(fields[7]), int(fields[9]), int(fields[10])
                return (read_sectors * 512e-6, write_sectors * 512e-6, read_ms + write_ms, reads + writes)
        raise ValueError(f"{name} is not listed any more")

    differences = rates(counters)

    def parse(content: bytes, at: float) -> Sequence[float]:
        read, written, busy_ms, operations = differences(content, at)
        return (read, written, busy_ms / operations if operations else 0.0)

    return parse


def register_bits(bits: tuple[int, ...]) -> Parse:
    """Return a parse function from a register as a decimal number to single bits of it, each 0 or 1."""
    return lambda content, _at: tuple(float(parse_number(content) >> bit & 1) for bit in bits)


def effective_clocks() -> Parse:
    """Return a parse function from the counters aperf, mperf and tsc to GHz while awake, and per cent awake.

    mperf counts at the rate of the time stamp counter while the core is awake, aperf at its actual clock
    (processor manuals, "actual performance clock counter"; kernel document admin-guide/pm/intel_pstate).
    """
    last: list[tuple[float, tuple[int, int, int]]] = []

    def parse(content: bytes, at: float) -> Sequence[float]:
        fields = content.split()
        if len(fields) != 3:
            raise ValueError("expected the counters aperf, mperf and tsc")
        aperf, mperf, tsc = (int(field) for field in fields)
        before = last[0] if last else None
        last[:] = [(at, (aperf, mperf, tsc))]
        if before is None or at <= before[0]:
            raise ValueError(NEEDS_TWO)
        actual, awake, passed = (now - then for now, then in zip((aperf, mperf, tsc), before[1], strict=True))
        if actual < 0 or awake < 0 or passed <= 0:
            raise ValueError("a counter went back; the machine probably slept")
        if not awake:
            raise ValueError("the core slept the whole time")
        return (passed / (at - before[0]) * actual / awake / 1e9, min(100.0, 100.0 * awake / passed))

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
