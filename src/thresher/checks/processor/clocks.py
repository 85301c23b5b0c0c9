"""All cores reach their base clock with all of them at work."""

import statistics

from thresher.checks.check import Check, CheckBench, CheckSteps, Reading, beside
from thresher.checks.loaded import in_turn
from thresher.checks.processor.clock_files import base_mhz
from thresher.model.channels import Channel, Quantity
from thresher.model.checks import Figure
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, WorkingSet

_SECONDS = 25.0
_SETTLE_S = 5.0
_SHARE = 0.97


def reports_clocks(channels: tuple[Channel, ...]) -> bool:
    """Whether any channel is the clock of a core."""
    return any(_is_clock(channel) for channel in channels)


def _is_clock(channel: Channel) -> bool:
    clock = channel.quantity is Quantity.CLOCK and channel.kind is PartKind.PROCESSOR and not channel.distrust
    return clock and channel.core is not None


def clocks_by_core(channels: tuple[Channel, ...], readings: tuple[Reading, ...]) -> dict[int, list[float]]:
    """Return the clocks in MHz of each core in some readings; of several channels of a core the highest counts."""
    found: dict[int, list[float]] = {}
    for reading in readings:
        newest: dict[int, float] = {}
        for channel, value in zip(channels, reading.values, strict=True):
            if _is_clock(channel) and channel.core is not None and value is not None:
                mhz = value * 1000.0 if channel.unit == "GHz" else value
                newest[channel.core] = max(newest.get(channel.core, 0.0), mhz)
        for core, mhz in newest.items():
            found.setdefault(core, []).append(mhz)
    return found


def _run(bench: CheckBench) -> CheckSteps:
    if not reports_clocks(bench.channels):
        return (CHECK.unclear("this machine does not report the clocks of its cores"),)
    seen = yield from in_turn([Block(PartKind.PROCESSOR, "matrix", 0.0, _SECONDS, working_set=WorkingSet.CORE)])
    readings = seen[0].readings
    loaded = tuple(each for each in readings if readings and each.at >= readings[0].at + _SETTLE_S)
    clocks = {core: statistics.median(values) for core, values in clocks_by_core(bench.channels, loaded).items()}
    read = yield from beside(lambda: {cpu.core: base_mhz(bench.system, cpu.cpu) for cpu in bench.inventory.cpus})
    bases = {core: mhz for core, mhz in read.items() if mhz is not None}
    if not clocks:
        return (CHECK.unclear(seen[0].left_out or "this machine does not report the clocks of its cores"),)
    slowest = min(clocks, key=lambda core: clocks[core] / bases.get(core, 1.0))
    base = bases.get(slowest)
    figure = Figure(
        f"slowest core {slowest}",
        round(clocks[slowest]),
        "MHz",
        base * _SHARE if base is not None else None,
        None,
        "base clock by the kernel, 3 % for readings",
    )
    if base is None:
        return (CHECK.unclear("this machine does not report its base clock", figure),)
    if not figure.within:
        hot = any(finding.kind is FindingKind.HEAT_THROTTLE for finding in seen[0].findings)
        why = "heat lowers it: see to the cooling" if hot else "no heat limit was reached: supply, settings or board"
        return (CHECK.failed(f"core {slowest} stays below its base clock of {base:.0f} MHz; {why}", figure),)
    return (CHECK.passed("every core holds its base clock with all cores at work", figure),)


CHECK = Check(
    name="clocks",
    row=PartKind.PROCESSOR,
    about=(
        "With all cores at work the processor must hold the base clock that its maker promises. A machine that falls"
        " below it is throttled: by heat, by its supply, or by a setting."
    ),
    finds="a processor that throttles under load",
    misses="how far above its base clock it might go",
    usual_s=_SECONDS + 3.0,
    run=_run,
    parts=(PartKind.PROCESSOR, PartKind.COOLING),
    code="P-120",
)
