"""What a person is told before a run sheet is started: what it loads, how long, what stops it, what it may do."""

from collections.abc import Iterator

from thresher.compose.sheet_faults import Bench
from thresher.loads.drive_loads import DriveLoad, DriveUse
from thresher.loads.registry import SHEET_LOADS
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, GateKind, RunSheet, clock_text

_HOT = 0.6
"""From this share of the hottest load's power on, a load is one that shows unstable machines."""


def announcement(sheet: RunSheet, cpus: tuple[int, ...]) -> str:
    """Say in one or two sentences what starting a sheet does; `cpus` has the core of each logical CPU."""
    if not sheet.blocks:
        return "The sheet has no block yet: pick parts on the machine map and put a load on them."
    checks = [block for block in sheet.blocks if block.is_check]
    loaded = " and ".join(_loaded(sheet, cpus))
    parts = [f"loads {loaded}"] if loaded else []
    if checks:
        kinds = ", ".join(dict.fromkeys(block.row.word for block in checks))
        parts.append(f"carries out {len(checks)} check{'s' if len(checks) > 1 else ''} ({kinds})")
    about = "about " if checks else ""
    again = ", again and again until you stop it" if sheet.repeat else ""
    return f"Start {' and '.join(parts)} for {about}{clock_text(_busy_s(sheet))}{again}. {_stops(sheet)} {_may(sheet)}"


def _loaded(sheet: RunSheet, cpus: tuple[int, ...]) -> Iterator[str]:
    loads = [block for block in sheet.blocks if not block.is_check]
    for kind in dict.fromkeys(block.row for block in loads):
        mine = [block for block in loads if block.row is kind]
        if kind is PartKind.PROCESSOR:
            threads = max(_threads(block, cpus) for block in mine)
            yield f"{threads} thread{'s' if threads > 1 else ''}"
        else:
            yield f"the {kind.word}"


def _threads(block: Block, cpus: tuple[int, ...]) -> int:
    used = [core for core in cpus if not block.cores or core in block.cores]
    return block.threads or len(set(used) if block.one_per_core else used)


def _busy_s(sheet: RunSheet) -> float:
    """Return the seconds in which at least one block runs."""
    total, until = 0.0, 0.0
    for block in sorted(sheet.blocks, key=lambda block: block.start_s):
        end = block.start_s + block.length_s
        total += max(0.0, end - max(until, block.start_s))
        until = max(until, end)
    return total


def _stops(sheet: RunSheet) -> str:
    limit, faults = sheet.limits.temperature_c, sheet.limits.stop_after_faults
    reasons = [f"at {limit:.0f} °C"] if limit is not None else []
    reasons += ["at the first fault" if faults == 1 else f"after {faults} faults"] if faults is not None else []
    if reasons:
        return f"It stops {' or '.join(reasons)}."
    held = [block.hold_c for block in sheet.blocks if block.hold_c is not None]
    if len(held) == len(sheet.blocks):
        return f"The load is held at {max(held):.0f} °C."
    return "Only the chip's own limits hold the heat."


def _may(sheet: RunSheet) -> str:
    hard = any(SHEET_LOADS[block.load].heat >= _HOT for block in sheet.blocks if block.load in SHEET_LOADS)
    asks = any(gate.kind is GateKind.ASK for gate in sheet.gates)
    words = "An unstable machine may reset or switch off" if hard else "An unstable machine may hang"
    return f"{words}; Esc stops at once." + (" It asks before the longer parts." if asks else "")


def warnings(sheet: RunSheet, bench: Bench) -> tuple[str, ...]:
    """Return what is worth knowing before a sheet is started and is no fault."""
    found = []
    for block in sheet.blocks:
        wanted, free = block.amount if block.row is PartKind.MEMORY else None, bench.memory_free
        if wanted is not None and free is not None and wanted > free and (bench.memory or 0) >= wanted:
            found.append(f"{wanted / (1 << 30):.4g} GiB wanted, {free / (1 << 30):.1f} GiB of memory free now")
            break
    found += _about_drives(sheet, bench)
    if bench.slow_loads:
        found.append(bench.slow_loads)
    if sheet.limits.temperature_c is not None and not bench.watches_heat:
        found.append("no trusted sensor reports the processor's temperature, so the limit cannot be watched")
    return tuple(found)


_LONG_S = 1800.0


def _about_drives(sheet: RunSheet, bench: Bench) -> list[str]:
    """Return what is to be known of the drives of a sheet: how long reading takes, and which are spared."""
    found = []
    for block in sheet.blocks:
        load = SHEET_LOADS.get(block.load)
        if not isinstance(load, DriveLoad):
            continue
        mine = [each for each in bench.drives if not block.drives or each.name in block.drives]
        spared = [each for each in mine if each.why_spare and load.hard]
        found += [f"{each.name} is dying and is left out of {load.name}" for each in spared]
        longest = max((each.read_s for each in mine if each not in spared), default=0.0)
        if load.use is DriveUse.READ_ALL and longest >= _LONG_S:
            found.append(f"reading all takes about {longest / 3600:.1f} h and goes on until it is through")
    return list(dict.fromkeys(found))
