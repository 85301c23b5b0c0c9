"""Run sheet files (`thresher-sheet/1`, TOML): parsing with every fault told at once."""

import re
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path

from thresher.model.errors import InputError, InputFault
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, Gate, GateKind, RunSheet, SheetLimits, WorkingSet, clock_text
from thresher.model.tomlfile import convert_list, convert_section, parse_toml, unknown_keys

FORMAT = "thresher-sheet/1"
KNOWN_LOADS = {"matrix": PartKind.PROCESSOR}
KNOWN_SHAPES = ("steady",)
LONGEST_S = 14 * 24 * 3600
_CLOCK = re.compile(r"(?:(\d+):)?(\d{1,4}):([0-5]\d)")


@dataclass(frozen=True, slots=True, kw_only=True)
class _RawGate:
    kind: GateKind
    start: str | int | float
    length: str | int | float
    at_most: str | int | float | None = None
    within_k: float = 2.0


@dataclass(frozen=True, slots=True, kw_only=True)
class _RawBlock:
    row: PartKind
    load: str
    start: str | int | float
    length: str | int | float
    threads: int | str = "all"
    working_set: WorkingSet = WorkingSet.SHARED_CACHE
    shape: str = "steady"


def parse_time(value: str | int | float, place: str, faults: list[InputFault]) -> float:
    """Parse seconds, `m:ss` or `h:mm:ss` into seconds; append a fault and return 0 when it is neither."""
    if isinstance(value, int | float) and 0 <= value <= LONGEST_S:
        return float(value)
    match = _CLOCK.fullmatch(value) if isinstance(value, str) else None
    seconds = (int(match[1] or 0) * 60 + int(match[2])) * 60 + int(match[3]) if match else LONGEST_S + 1
    if seconds > LONGEST_S:
        faults.append(InputFault(place, f"expected seconds, m:ss or h:mm:ss up to 14 days, found {value!r}"))
        return 0.0
    return float(seconds)


def parse_sheet(text: str, source: str) -> RunSheet:
    """Parse and check a run sheet. Raises InputError with every fault found."""
    data = parse_toml(text, source, FORMAT)
    faults: list[InputFault] = []
    unknown_keys(data, {"format", "title", "about", "finds", "misses", "reasons", "limits", "gates", "blocks"}, faults)
    title = data.get("title")
    if not isinstance(title, str) or not title.strip():
        faults.append(InputFault("title", f"expected a text, found {title!r}"))
    about, finds, misses = (
        convert_section(data.get(key, ""), str, key, faults) or "" for key in ("about", "finds", "misses")
    )
    reasons = convert_section(data.get("reasons", {}), dict[str, str], "reasons", faults)
    limits = convert_section(data.get("limits", {}), SheetLimits, "limits", faults)
    gates = [_gate(raw, index, faults) for index, raw in enumerate(convert_list(data, "gates", _RawGate, faults))]
    blocks = [_block(raw, index, faults) for index, raw in enumerate(convert_list(data, "blocks", _RawBlock, faults))]
    if not blocks and not faults:
        faults.append(InputFault("blocks", "expected at least one [[blocks]]"))
    faults += _overlaps(gates, blocks) + (_check_limits(limits) if limits else [])
    if faults or limits is None:
        raise InputError(source, faults)
    ordered_blocks = tuple(sorted(blocks, key=lambda block: block.start_s))
    ordered_gates = tuple(sorted(gates, key=lambda gate: gate.start_s))
    return RunSheet(str(title), ordered_blocks, ordered_gates, limits, about, finds, misses, reasons or {})


def _gate(raw: _RawGate, index: int, faults: list[InputFault]) -> Gate:
    place = f"gates[{index}]"
    length = parse_time(raw.length, f"{place}.length", faults)
    at_most = parse_time(raw.at_most, f"{place}.at_most", faults) if raw.at_most is not None else length
    if at_most < length:
        faults.append(InputFault(f"{place}.at_most", f"is shorter than length ({clock_text(length)})"))
    if raw.within_k <= 0:
        faults.append(InputFault(f"{place}.within_k", f"expected above 0, found {raw.within_k:g}"))
    return Gate(raw.kind, parse_time(raw.start, f"{place}.start", faults), length, at_most, raw.within_k)


def _block(raw: _RawBlock, index: int, faults: list[InputFault]) -> Block:
    place = f"blocks[{index}]"
    length = parse_time(raw.length, f"{place}.length", faults)
    if length < 1:
        faults.append(InputFault(f"{place}.length", "expected at least 1 second"))
    if raw.load not in KNOWN_LOADS:
        known = ", ".join(KNOWN_LOADS)
        faults.append(InputFault(f"{place}.load", f"there is no load {raw.load!r}; known are {known}"))
    elif KNOWN_LOADS[raw.load] is not raw.row:
        message = f"{raw.load} loads the {KNOWN_LOADS[raw.load].value}, not the {raw.row.value}"
        faults.append(InputFault(f"{place}.row", message))
    if raw.shape not in KNOWN_SHAPES:
        faults.append(InputFault(f"{place}.shape", f"expected {' or '.join(KNOWN_SHAPES)}, found {raw.shape!r}"))
    threads = 0 if raw.threads == "all" else raw.threads
    if not isinstance(threads, int) or threads < 0 or (threads == 0 and raw.threads != "all"):
        faults.append(InputFault(f"{place}.threads", f'expected "all" or a number from 1, found {raw.threads!r}'))
        threads = 0
    start = parse_time(raw.start, f"{place}.start", faults)
    return Block(raw.row, raw.load, start, length, threads, raw.working_set, raw.shape)


def _overlaps(gates: list[Gate], blocks: list[Block]) -> list[InputFault]:
    faults = []
    ordered = sorted(blocks, key=lambda block: block.start_s)
    for row in {block.row for block in blocks}:
        mine = [block for block in ordered if block.row is row]
        faults += [
            InputFault("blocks", f"two blocks of row {row.value} overlap at {clock_text(later.start_s)}")
            for earlier, later in pairwise(mine)
            if later.start_s < earlier.start_s + earlier.length_s
        ]
    for gate in gates:
        faults += [
            InputFault("gates", f"the gate at {clock_text(gate.start_s)} overlaps {block.title}; nothing may run in it")
            for block in blocks
            if gate.start_s < block.start_s + block.length_s and block.start_s < gate.start_s + gate.length_s
        ]
    return faults


def _check_limits(limits: SheetLimits) -> list[InputFault]:
    faults = []
    if limits.temperature_c is not None and not 30 <= limits.temperature_c <= 130:
        faults.append(InputFault("limits.temperature_c", f"expected 30 to 130, found {limits.temperature_c:g}"))
    if limits.stop_after_faults is not None and limits.stop_after_faults < 1:
        faults.append(InputFault("limits.stop_after_faults", f"expected 1 or more, found {limits.stop_after_faults}"))
    return faults


def load_sheet(path: Path) -> RunSheet:
    """Read a run sheet file. Raises InputError."""
    try:
        text = path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(str(path), [InputFault("file", str(error))]) from error
    return parse_sheet(text, str(path))


def shipped_sheets() -> dict[str, Path]:
    """Return the run sheets that come with the program, by name."""
    folder = Path(__file__).parent.parent / "sheets"
    return {path.stem: path for path in sorted(folder.glob("*.toml"))}
