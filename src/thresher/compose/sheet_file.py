"""Run sheet files (`thresher-sheet/1`, TOML): parsing with every fault reported at once."""

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from thresher.loads.check_loads import CHECK_LOADS
from thresher.loads.registry import WORK_LOADS, SheetLoad, usual_working_set
from thresher.model.errors import InputError, InputFault
from thresher.model.memory_patterns import BESIDE, LONG, PATTERNS, SHORT
from thresher.model.parts import PartKind
from thresher.model.regular_file import read_text_file
from thresher.model.shapes import SLICE_S
from thresher.model.sheet import (
    Block,
    CrashPlan,
    Gate,
    GateKind,
    Precision,
    RunSheet,
    Shape,
    ShapeKind,
    SheetLimits,
    WorkingSet,
    clock_text,
)
from thresher.model.tomlfile import convert_list, convert_section, parse_toml, unknown_keys
from thresher.model.trials import Stint
from thresher.sheets import SHIPPED_SHEETS

FORMAT = "thresher-sheet/1"
ONE_PER_CORE = "one per core"
PATTERN_FORMS = {"short": SHORT, "long": LONG, "beside": BESIDE}
"""Sets of memory patterns by the name that a sheet may give for them."""
_SHORT_PERIOD_S = 0.2
_PERIODS = {
    ShapeKind.PULSE: (SLICE_S, 60.0),
    ShapeKind.RAMP: (1.0, 3600.0),
    ShapeKind.HOP: (0.1, 600.0),
    ShapeKind.STAGGER: (0.1, 600.0),
}
_SIZE = re.compile(r"(\d+(?:\.\d+)?)\s*(KiB|MiB|GiB|%)")
_UNITS = {"KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30}
LONGEST_S = 14 * 24 * 3600
CARD_NAME = r"card\d{1,3}|[0-9a-f:.]{7,16}|software renderer"
DRIVE_NAME = r"[a-z][a-z0-9]{1,30}"
"""Kernel names of cards (an address where the kernel has none, or what stands in for a card) and of drives."""
_LONGEST_PATH = 4000
_CLOCK = re.compile(r"(?:(\d+):)?(\d{1,4}):([0-5]\d)")


@dataclass(frozen=True, slots=True, kw_only=True)
class _RawGate:
    kind: GateKind
    start: str | int | float
    length: str | int | float
    at_most: str | int | float | None = None
    within_k: float = 2.0
    to_c: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class _RawBlock:
    row: PartKind
    load: str = ""
    check: str = ""
    start: str | int | float = 0
    length: str | int | float | None = None
    threads: int | str = "all"
    working_set: WorkingSet | None = None
    shape: str = "steady"
    period: str | int | float = 0
    duty: float = 0.5
    precision: Precision = Precision.DOUBLE
    cores: tuple[int, ...] = ()
    hold_c: float | None = None
    amount: str = "100 %"
    patterns: str | tuple[str, ...] = "short"
    wait: str | int | float = 60
    drives: tuple[str, ...] = ()
    folder: str = ""
    cards: tuple[str, ...] = ()


_MOST_CHARACTERS = 200_000
"""Some thousand blocks; more would hold up the engine while they are read."""


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


_KEYS = {"format", "title", "about", "finds", "misses", "reasons", "repeat", "limits", "after_crash", "gates", "blocks"}


def parse_sheet(text: str, source: str) -> RunSheet:
    """Parse and check a run sheet. Raises InputError with every fault found."""
    if len(text) > _MOST_CHARACTERS:
        raise InputError(source, [InputFault("size", f"a run sheet has {_MOST_CHARACTERS} characters at most")])
    data = parse_toml(text, source, FORMAT)
    faults: list[InputFault] = []
    unknown_keys(data, _KEYS, faults)
    title = data.get("title")
    if not isinstance(title, str) or not title.strip():
        faults.append(InputFault("title", f"expected a text, found {title!r}"))
    about, finds, misses = (
        convert_section(data.get(key, ""), str, key, faults) or "" for key in ("about", "finds", "misses")
    )
    reasons = convert_section(data.get("reasons", {}), dict[str, str], "reasons", faults)
    repeat = convert_section(data.get("repeat", False), bool, "repeat", faults)
    limits = convert_section(data.get("limits", {}), SheetLimits, "limits", faults)
    gates = [_gate(raw, index, faults) for index, raw in enumerate(convert_list(data, "gates", _RawGate, faults))]
    blocks = [_block(raw, index, faults) for index, raw in enumerate(convert_list(data, "blocks", _RawBlock, faults))]
    if not blocks and not faults:
        faults.append(InputFault("blocks", "expected at least one [[blocks]]"))
    crash = convert_section(data.get("after_crash", {}), CrashPlan, "after_crash", faults) or CrashPlan()
    faults += _check_crash(crash)
    faults += _overlaps(gates, blocks) + (_check_limits(limits) if limits else [])
    if faults or limits is None:
        raise InputError(source, faults)
    ordered_blocks = tuple(sorted(blocks, key=lambda block: block.start_s))
    ordered_gates = tuple(sorted(gates, key=lambda gate: gate.start_s))
    return RunSheet(
        str(title), ordered_blocks, ordered_gates, limits, about, finds, misses, reasons or {}, bool(repeat), crash
    )


MOST_CRASHES = 50
SHORTEST_BETWEEN_S = 60.0


def _check_crash(crash: CrashPlan) -> list[InputFault]:
    """Return what is wrong with what a sheet says for a sudden end of the machine."""
    faults = []
    if not 1 <= crash.most <= MOST_CRASHES:
        faults.append(InputFault("after_crash.most", f"expected 1 to {MOST_CRASHES}, found {crash.most}"))
    if not SHORTEST_BETWEEN_S <= crash.between_s <= 86_400.0:
        expected = f"expected {SHORTEST_BETWEEN_S:g} to 86400 seconds"
        faults.append(InputFault("after_crash.between_s", f"{expected}, found {crash.between_s:g}"))
    return faults


def _gate(raw: _RawGate, index: int, faults: list[InputFault]) -> Gate:
    place = f"gates[{index}]"
    length = parse_time(raw.length, f"{place}.length", faults)
    at_most = parse_time(raw.at_most, f"{place}.at_most", faults) if raw.at_most is not None else length
    if at_most < length:
        faults.append(InputFault(f"{place}.at_most", f"is shorter than length ({clock_text(length)})"))
    if raw.within_k <= 0:
        faults.append(InputFault(f"{place}.within_k", f"expected above 0, found {raw.within_k:g}"))
    if raw.to_c is not None and raw.kind is not GateKind.COOL_DOWN:
        faults.append(InputFault(f"{place}.to_c", "only a cool-down gate has it"))
    if raw.to_c is not None and not -30.0 <= raw.to_c <= 110.0:
        faults.append(InputFault(f"{place}.to_c", f"expected -30 to 110 °C, found {raw.to_c:g}"))
    return Gate(raw.kind, parse_time(raw.start, f"{place}.start", faults), length, at_most, raw.within_k, raw.to_c)


def _block(raw: _RawBlock, index: int, faults: list[InputFault]) -> Block:
    place = f"blocks[{index}]"
    if raw.check:
        return _check(raw, place, faults)
    if not raw.load or raw.length is None:
        faults.append(InputFault(place, "expected load and length, or the name of a check"))
        return Block(raw.row, raw.load, 0.0, 1.0)
    length = parse_time(raw.length, f"{place}.length", faults)
    if length < 1 and not any(fault.place == f"{place}.length" for fault in faults):
        faults.append(InputFault(f"{place}.length", "expected at least 1 second"))
    threads = 0 if raw.threads in ("all", ONE_PER_CORE) else raw.threads
    if not isinstance(threads, int) or threads < 0 or raw.threads == 0:
        expected = f'expected "all", "{ONE_PER_CORE}" or a number from 1'
        faults.append(InputFault(f"{place}.threads", f"{expected}, found {raw.threads!r}"))
        threads = 0
    if raw.cores and (threads or min(raw.cores) < 0):
        faults.append(InputFault(f"{place}.cores", "expected numbers from 0, and no number of threads beside them"))
    if raw.hold_c is not None and not 40 <= raw.hold_c <= 110:
        faults.append(InputFault(f"{place}.hold_c", f"expected 40 to 110, found {raw.hold_c:g}"))
    start = parse_time(raw.start, f"{place}.start", faults)
    shape_kind = next((each for each in ShapeKind if each.value == raw.shape), None)
    if shape_kind is None:
        known = ", ".join(ShapeKind)
        faults.append(InputFault(f"{place}.shape", f"expected {known}; found {raw.shape!r}"))
    kind = WORK_LOADS.get(raw.load)
    if kind is None:
        known = ", ".join(WORK_LOADS)
        faults.append(InputFault(f"{place}.load", f"there is no load {raw.load!r}; known are {known}"))
        return Block(raw.row, raw.load, start, length, threads)
    working_set = _working_set(raw, kind, place, faults)
    shape = _shape(raw, shape_kind or ShapeKind.STEADY, kind, working_set, place, faults)
    share, amount = _amount(raw, place, faults)
    patterns = _patterns(raw, place, faults) if kind.row is PartKind.MEMORY else ()
    if raw.row is not kind.row:
        faults.append(InputFault(f"{place}.row", f"{raw.load} loads the {kind.row.value}, not the {raw.row.value}"))
    return Block(
        raw.row,
        raw.load,
        start,
        length,
        threads,
        working_set,
        shape,
        raw.precision,
        tuple(raw.cores),
        raw.hold_c,
        share,
        amount,
        patterns,
        parse_time(raw.wait, f"{place}.wait", faults),
        raw.threads == ONE_PER_CORE,
        _drives(raw, place, faults),
        raw.folder,
        _cards(raw, place, faults),
    )


_OF_CHECKS = ("row", "check", "start", "length")


def _check(raw: _RawBlock, place: str, faults: list[InputFault]) -> Block:
    """Read a block that is a component check: a row, a start, and a length if the usual one is not meant."""
    kind = CHECK_LOADS.get(raw.check)
    start = parse_time(raw.start, f"{place}.start", faults)
    if kind is None:
        known = ", ".join(CHECK_LOADS)
        faults.append(InputFault(f"{place}.check", f"there is no check {raw.check!r}; known are {known}"))
        return Block(raw.row, raw.check, start, 1.0, is_check=True)
    length = kind.usual_s if raw.length is None else parse_time(raw.length, f"{place}.length", faults)
    plain = _RawBlock(row=raw.row, check=raw.check, start=raw.start, length=raw.length)
    faults += [
        InputFault(f"{place}.{name}", f"a check has {', '.join(_OF_CHECKS)} only")
        for name in _RawBlock.__dataclass_fields__
        if getattr(raw, name) != getattr(plain, name)
    ]
    if raw.row is not kind.row:
        faults.append(InputFault(f"{place}.row", f"{raw.check} is a check of the {kind.row.value}"))
    return Block(raw.row, raw.check, start, max(1.0, length), working_set=usual_working_set(kind), is_check=True)


def _cards(raw: _RawBlock, place: str, faults: list[InputFault]) -> tuple[str, ...]:
    """Check the cards of a block."""
    if raw.cards and raw.row is not PartKind.GRAPHICS:
        faults.append(InputFault(f"{place}.cards", f"only a block of graphics names cards, not the {raw.row.value}"))
    wrong = [name for name in raw.cards if not re.fullmatch(CARD_NAME, name)]
    if wrong:
        faults.append(InputFault(f"{place}.cards", f"expected such as card0, found {', '.join(wrong)[:80]}"))
    return raw.cards


def _drives(raw: _RawBlock, place: str, faults: list[InputFault]) -> tuple[str, ...]:
    """Check the drives and the folder of a block."""
    if (raw.drives or raw.folder) and raw.row is not PartKind.DRIVE:
        faults.append(InputFault(f"{place}.drives", f"only a block of the drive names drives, not the {raw.row.value}"))
    wrong = [name for name in raw.drives if not re.fullmatch(DRIVE_NAME, name)]
    if wrong:
        faults.append(InputFault(f"{place}.drives", f"expected such as sda or nvme0n1, found {', '.join(wrong)[:80]}"))
    if raw.folder and (not raw.folder.startswith("/") or len(raw.folder) > _LONGEST_PATH):
        faults.append(InputFault(f"{place}.folder", f"expected a path from the root, found {raw.folder[:80]!r}"))
    return raw.drives


def _working_set(raw: _RawBlock, kind: SheetLoad, place: str, faults: list[InputFault]) -> WorkingSet:
    """Check working set and precision against what the load offers."""
    if raw.precision not in kind.precisions:
        offered = ", ".join(each.value for each in kind.precisions)
        faults.append(InputFault(f"{place}.precision", f"{kind.name} offers {offered}, found {raw.precision.value}"))
    if raw.working_set is None:
        return usual_working_set(kind)
    if raw.working_set not in kind.working_sets:
        offered = ", ".join(each.value for each in kind.working_sets)
        faults.append(InputFault(f"{place}.working_set", f"{kind.name} offers {offered}"))
    return raw.working_set


def _shape(
    raw: _RawBlock, shape: ShapeKind, kind: SheetLoad, working_set: WorkingSet, place: str, faults: list[InputFault]
) -> Shape:
    period = parse_time(raw.period, f"{place}.period", faults)
    if shape is ShapeKind.STEADY:
        if period and raw.shape == shape.value:
            faults.append(InputFault(f"{place}.period", "a steady load has none"))
        return Shape()
    if not kind.shaped:
        faults.append(InputFault(f"{place}.shape", f"{kind.name} is steady, and has no shape"))
    shortest, longest = _PERIODS[shape]
    short = kind.short_beat and working_set is WorkingSet.CORE
    if not shortest <= period <= longest:
        faults.append(InputFault(f"{place}.period", f"expected {shortest:g} to {longest:g} seconds, found {period:g}"))
    elif period < _SHORT_PERIOD_S and not short:
        needs = "needs a load of short beats inside the core: matrix, integer, branchy or precision"
        faults.append(InputFault(f"{place}.period", f"below {_SHORT_PERIOD_S:g} s {needs}"))
    if not 0.02 <= raw.duty <= 1.0:
        faults.append(InputFault(f"{place}.duty", f"expected 0.02 to 1, found {raw.duty:g}"))
    duty = raw.duty if shape in (ShapeKind.PULSE, ShapeKind.HOP) else 1.0
    return Shape(shape, period, duty)


def _amount(raw: _RawBlock, place: str, faults: list[InputFault]) -> tuple[float, int | None]:
    """Parse a share in per cent, or bytes with a unit."""
    match = _SIZE.fullmatch(raw.amount.strip())
    if match is None or not 0 < float(match[1]) <= (100 if match[2] == "%" else 1 << 20):
        faults.append(InputFault(f"{place}.amount", f'expected such as "80 %" or "4 GiB", found {raw.amount!r}'))
        return 1.0, None
    if match[2] == "%":
        return float(match[1]) / 100, None
    return 1.0, int(float(match[1]) * _UNITS[match[2]])


def _patterns(raw: _RawBlock, place: str, faults: list[InputFault]) -> tuple[str, ...]:
    if isinstance(raw.patterns, str):
        named = PATTERN_FORMS.get(raw.patterns)
        if named is not None:
            return named
    wanted = (raw.patterns,) if isinstance(raw.patterns, str) else raw.patterns
    unknown = [name for name in wanted if name not in PATTERNS]
    if unknown or not wanted:
        known = f"{', '.join(PATTERN_FORMS)}, or a list of {', '.join(PATTERNS)}"
        faults.append(InputFault(f"{place}.patterns", f"expected {known}; found {', '.join(unknown) or 'none'}"))
    return tuple(wanted)


_HOW_TO_SHARE = {
    PartKind.PROCESSOR: "; name different cores for both",
    PartKind.DRIVE: "; name different drives for both",
    PartKind.GRAPHICS: "; name different cards for both",
}


def _overlaps(gates: list[Gate], blocks: list[Block]) -> list[InputFault]:
    faults: list[InputFault] = []
    order = sorted(range(len(blocks)), key=lambda index: blocks[index].start_s)
    open_blocks: list[Block] = []
    for index in order:
        later = blocks[index]
        open_blocks = [each for each in open_blocks if each.start_s + each.length_s > later.start_s]
        clash = next((each for each in open_blocks if each.row is later.row and not can_share(each, later)), None)
        if clash is not None:
            words = f"overlaps {clash.title} from {clock_text(clash.start_s)} on the {later.row.value}"
            how = _HOW_TO_SHARE.get(later.row, "")
            faults.append(InputFault(f"blocks[{index}].start", words + how))
        open_blocks.append(later)
    for number, gate in enumerate(gates):
        inside = [
            block
            for block in blocks
            if gate.start_s < block.start_s + block.length_s and block.start_s < gate.start_s + gate.length_s
        ]
        faults += [
            InputFault(
                f"gates[{number}].start",
                f"the gate at {clock_text(gate.start_s)} overlaps {block.title}; nothing may run in it",
            )
            for block in inside[:1]
        ]
    return faults


def can_share(one: Block, other: Block) -> bool:
    """Whether two blocks of one row may run at the same time: each on named cores, drives or cards, none in both."""
    if one.row is PartKind.DRIVE:
        return bool(one.drives and other.drives) and not set(one.drives) & set(other.drives)
    if one.row is PartKind.GRAPHICS:
        return bool(one.cards and other.cards) and not set(one.cards) & set(other.cards)
    return bool(one.cores and other.cores) and not set(one.cores) & set(other.cores)


def _check_limits(limits: SheetLimits) -> list[InputFault]:
    faults = []
    if limits.temperature_c is not None and not 30 <= limits.temperature_c <= 130:
        faults.append(InputFault("limits.temperature_c", f"expected 30 to 130, found {limits.temperature_c:g}"))
    if limits.stop_after_faults is not None and limits.stop_after_faults < 1:
        faults.append(InputFault("limits.stop_after_faults", f"expected 1 or more, found {limits.stop_after_faults}"))
    return faults


def trial_sheet(stints: Sequence[Stint], title: str) -> RunSheet:
    """Return the sheet of a trial: one load after the other, on all threads. Raises InputError without known loads."""
    if not stints:
        raise InputError("trial", [InputFault("stints", "name at least one load and its minutes")])
    loads = ", ".join(f"{minutes:.0f} min of {load}" for load, minutes in stints)
    named = " ".join(title.replace("\\", " ").replace('"', "'").split()) or stints[0][0]
    text = f'format = "{FORMAT}"\ntitle = "{named}, {loads}"\n'
    start = 0.0
    for load, minutes in stints:
        kind = WORK_LOADS.get(load)
        if kind is None:
            raise InputError("trial", [InputFault("load", f"there is no load {load!r}")])
        patterns = 'patterns = "short"\n' if kind.row is PartKind.MEMORY else ""
        text += f'[[blocks]]\nrow = "{kind.row.value}"\nload = "{load}"\n'
        text += f"start = {start:.0f}\nlength = {minutes * 60:.0f}\n{patterns}"
        start += minutes * 60.0
    return parse_sheet(text, "trial")


def load_sheet(path: Path) -> RunSheet:
    """Read a run sheet file. Raises InputError."""
    return parse_sheet(read_text_file(path), str(path))


def shipped_sheets() -> dict[str, Path]:
    """Return the run sheets that come with the program, by name."""
    return {path.stem: path for path in sorted(SHIPPED_SHEETS.glob("*.toml"))}
