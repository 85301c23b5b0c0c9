"""The fields of a block or gate, as a person reads and types them: one row a field, none of them knows the window.

A field that several blocks share can be set for all of them at once.
"""

import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace

from thresher.compose.entry import (
    ALL_FREE,
    EntryError,
    cores_text,
    length_text,
    parse_amount,
    parse_cores,
    parse_hold,
    parse_length,
    parse_period,
    parse_share,
    parse_start,
    period_text,
    start_text,
)
from thresher.compose.ready_made import load_changed
from thresher.compose.sheet_file import CARD_NAME, DRIVE_NAME, PATTERN_FORMS
from thresher.compose.sheet_text import amount_text
from thresher.loads.check_loads import CHECK_LOADS, CheckLoad
from thresher.loads.drive_loads import DriveUse
from thresher.loads.registry import SHEET_LOADS, WORK_LOADS, SheetLoad
from thresher.model.card_port import CardUse
from thresher.model.memory_patterns import PATTERNS
from thresher.model.parts import PartKind
from thresher.model.sheet import (
    Block,
    Gate,
    GateKind,
    Precision,
    Shape,
    ShapeKind,
    SheetItem,
    WorkingSet,
)

MIXED = "mixed"
"""What a field shows when the selected blocks differ."""
_THREADS = ("all threads", "one per core")
_USUAL_PERIOD = {ShapeKind.PULSE: 2.0, ShapeKind.RAMP: 60.0, ShapeKind.HOP: 10.0, ShapeKind.STAGGER: 10.0}
_SHAPE_WORDS = {ShapeKind.STEADY: "steady", ShapeKind.PULSE: "pulsed, in step"}
AS_HOT = "as cooling allows"
ALL_DRIVES = "all drives"
ALL_CARDS = "all cards"
ANY_FOLDER = "picked on each drive"
USUAL_FILE = "4 GiB"
"""What a scratch file has where nothing else is said."""


@dataclass(frozen=True, slots=True)
class Field:
    """One field: its label, whether an item has it, its text, the item with another text, and what to choose from.

    `write` raises EntryError. `free` says whether anything else than the choices may be typed.
    """

    name: str
    label: str
    has: Callable[[SheetItem], bool]
    read: Callable[[SheetItem], str]
    write: Callable[[SheetItem, str], SheetItem]
    choices: Callable[[SheetItem], tuple[str, ...]] = lambda _item: ()
    free: bool = True


def shape_word(kind: ShapeKind) -> str:
    """Return what a person reads of a shape."""
    return _SHAPE_WORDS.get(kind, kind.value)


def shape_of(word: str) -> Shape:
    """Return the usual shape of a word. Raises EntryError."""
    kind = next((kind for kind in ShapeKind if word.strip().lower() in (kind.value, shape_word(kind))), None)
    if kind is None:
        raise EntryError(f"expected {', '.join(shape_word(kind) for kind in ShapeKind)}; found {word!r}")
    if kind is ShapeKind.STEADY:
        return Shape()
    return Shape(kind, _USUAL_PERIOD[kind], 0.5 if kind in (ShapeKind.PULSE, ShapeKind.HOP) else 1.0)


def _is(kind: PartKind) -> Callable[[SheetItem], bool]:
    return lambda item: isinstance(item, Block) and item.row is kind and not item.is_check


def _shaped(item: SheetItem) -> bool:
    load = SHEET_LOADS.get(item.load) if isinstance(item, Block) else None
    return load is not None and load.shaped


def _block(item: SheetItem) -> Block:
    assert isinstance(item, Block)
    return item


def _gate(item: SheetItem) -> Gate:
    assert isinstance(item, Gate)
    return item


def _is_block(item: SheetItem) -> bool:
    return isinstance(item, Block)


def _is_gate(item: SheetItem) -> bool:
    return isinstance(item, Gate)


def _one_of(text: str, words: Iterable[str]) -> str:
    """Return the word that was meant. Raises EntryError."""
    known = list(words)
    found = next((word for word in known if word == text.strip().lower()), None)
    if found is None:
        raise EntryError(f"expected {', '.join(known)}; found {text.strip()!r}")
    return found


def _write_load(item: SheetItem, text: str) -> SheetItem:
    block, name = _block(item), _one_of(text, _names_beside(item))
    if block.is_check:
        return replace(block, load=name, length_s=max(1.0, CHECK_LOADS[name].usual_s))
    return load_changed(block, name)


def _names_beside(item: SheetItem) -> tuple[str, ...]:
    """Return what may stand in place of a block: loads of its row for a load, checks of its row for a check."""
    block = _block(item)
    offered: Mapping[str, SheetLoad] = CHECK_LOADS if block.is_check else WORK_LOADS
    return tuple(load.name for load in offered.values() if load.row is block.row)


def _write_length(item: SheetItem, text: str) -> SheetItem:
    seconds = parse_length(text)
    if seconds < 1:
        raise EntryError(f"1 s at least, found {text.strip()}")
    if isinstance(item, Gate):
        return replace(item, length_s=seconds, at_most_s=max(seconds, item.at_most_s))
    return replace(item, length_s=seconds)


def _threads_text(block: Block) -> str:
    return _THREADS[1] if block.one_per_core else str(block.threads) if block.threads else _THREADS[0]


def _write_threads(item: SheetItem, text: str) -> SheetItem:
    words = text.strip().lower()
    if words in (*_THREADS, "all"):
        return replace(_block(item), threads=0, one_per_core=words == _THREADS[1])
    if not words.isdecimal() or not 1 <= int(words) <= 4096:
        raise EntryError(f"expected {', '.join(_THREADS)} or a number, found {text.strip()!r}")
    if _block(item).cores:
        raise EntryError("a number of threads and named cores exclude each other")
    return replace(_block(item), threads=int(words), one_per_core=False)


def _write_cores(item: SheetItem, text: str) -> SheetItem:
    cores = parse_cores(text)
    return replace(_block(item), cores=cores, threads=0 if cores else _block(item).threads)


def _write_amount(item: SheetItem, text: str) -> SheetItem:
    share, amount = parse_amount(text)
    return replace(_block(item), share=share, amount=amount)


def _amount(block: Block) -> str:
    words = amount_text(block)
    return ALL_FREE if words == "100 %" else words  # also where less than a millionth is missing


def _patterns_text(block: Block) -> str:
    return next((name for name, form in PATTERN_FORMS.items() if form == block.patterns), ", ".join(block.patterns))


def _write_patterns(item: SheetItem, text: str) -> SheetItem:
    words = text.strip().lower()
    if words in PATTERN_FORMS:
        return replace(_block(item), patterns=PATTERN_FORMS[words])
    names = tuple(name.strip() for name in words.split(",") if name.strip())
    unknown = [name for name in names if name not in PATTERNS]
    if unknown or not names:
        raise EntryError(f"expected {', '.join(PATTERN_FORMS)}, or of {', '.join(PATTERNS)}; found {text.strip()!r}")
    return replace(_block(item), patterns=names)


def _write_duty(item: SheetItem, text: str) -> SheetItem:
    return replace(_block(item), shape=replace(_block(item).shape, duty=parse_share(text)))


def _write_period(item: SheetItem, text: str) -> SheetItem:
    return replace(_block(item), shape=replace(_block(item).shape, period_s=parse_period(text)))


def _write_at_most(item: SheetItem, text: str) -> SheetItem:
    return replace(_gate(item), at_most_s=max(parse_length(text), _gate(item).length_s))


def _write_within(item: SheetItem, text: str) -> SheetItem:
    words = text.strip().upper().removesuffix("K").strip()
    try:
        value = float(words)
    except ValueError:
        raise EntryError(f"expected such as 2 K, found {text.strip()!r}") from None
    if not 0.1 <= value <= 50:
        raise EntryError(f"expected 0.1 to 50 K, found {text.strip()}")
    return replace(_gate(item), within_k=value)


AT_START = "as at the start"


def _write_cold(item: SheetItem, text: str) -> SheetItem:
    words = text.strip().upper().removesuffix("C").removesuffix("°").strip()
    if not words or text.strip() == AT_START:
        return replace(_gate(item), to_c=None)
    try:
        value = float(words)
    except ValueError:
        raise EntryError(f"expected such as 35 °C, found {text.strip()!r}") from None
    if not -30 <= value <= 110:
        raise EntryError(f"expected -30 to 110 °C, found {text.strip()}")
    return replace(_gate(item), to_c=value)


def _cold_text(item: SheetItem) -> str:
    to_c = _gate(item).to_c
    return AT_START if to_c is None else f"{to_c:g} °C"


def _verified(item: SheetItem) -> bool:
    return isinstance(item, Block) and item.load == DriveUse.VERIFIED


def _write_drives(item: SheetItem, text: str) -> SheetItem:
    names = _device_names(text, ALL_DRIVES, DRIVE_NAME, "sda, nvme0n1")
    return replace(_block(item), drives=names)


def _write_cards(item: SheetItem, text: str) -> SheetItem:
    names = _device_names(text, ALL_CARDS, CARD_NAME, "card0")
    return replace(_block(item), cards=names)


def _device_names(text: str, every: str, form: str, example: str) -> tuple[str, ...]:
    """Return the devices that were typed, none for all of them. Raises EntryError."""
    if text.strip().lower() in (every, "all", ""):
        return ()
    names = tuple(dict.fromkeys(name.strip().removeprefix("/dev/") for name in text.split(",") if name.strip()))
    wrong = [name for name in names if re.fullmatch(form, name) is None]
    if wrong:
        raise EntryError(f"expected such as {example} or {every}; found {', '.join(wrong)!r}")
    return names


def _card_memory(item: SheetItem) -> bool:
    return isinstance(item, Block) and item.load == CardUse.MEMORY


def _card_memory_amount(text: str) -> int | None:
    if text.strip().lower() == ALL_FREE:
        return None
    _, amount = parse_amount(text)
    if amount is None or amount < 16 << 20:
        raise EntryError(f"expected such as 4 GiB, 16 MiB at least, or {ALL_FREE}; found {text.strip()!r}")
    return amount


def _scratch_text(block: Block) -> str:
    return amount_text(block) if block.amount is not None else USUAL_FILE


def _scratch_amount(text: str) -> int | None:
    if text.strip() == USUAL_FILE:
        return None
    share, amount = parse_amount(text)
    if amount is None or amount < 64 << 20:
        raise EntryError(f"expected such as 4 GiB, 64 MiB at least; found {text.strip()!r}")
    del share
    return amount


def _write_folder(item: SheetItem, text: str) -> SheetItem:
    words = text.strip()
    if words in (ANY_FOLDER, ""):
        return replace(_block(item), folder="")
    if not words.startswith("/"):
        raise EntryError(f"expected a path from the root such as /home, found {words!r}")
    return replace(_block(item), folder=words)


def _hold_text(item: SheetItem) -> str:
    hold = _block(item).hold_c
    return AS_HOT if hold is None else f"{hold:g} °C"


FIELDS: tuple[Field, ...] = (
    Field(
        "load",
        "load",
        _is_block,
        lambda item: _block(item).load,
        _write_load,
        _names_beside,
        free=False,
    ),
    Field(
        "cores",
        "cores",
        _is(PartKind.PROCESSOR),
        lambda item: cores_text(_block(item).cores),
        _write_cores,
    ),
    Field(
        "threads",
        "threads",
        _is(PartKind.PROCESSOR),
        lambda item: _threads_text(_block(item)),
        _write_threads,
        lambda _item: _THREADS,
    ),
    Field(
        "data",
        "data",
        _is(PartKind.PROCESSOR),
        lambda item: _block(item).working_set.value,
        lambda item, text: replace(
            _block(item), working_set=WorkingSet(_one_of(text, SHEET_LOADS[_block(item).load].working_sets))
        ),
        lambda item: tuple(SHEET_LOADS[_block(item).load].working_sets),
        free=False,
    ),
    Field(
        "precision",
        "numbers",
        lambda item: isinstance(item, Block) and len(SHEET_LOADS[item.load].precisions) > 1,
        lambda item: _block(item).precision.value,
        lambda item, text: replace(_block(item), precision=Precision(_one_of(text, Precision))),
        lambda item: tuple(SHEET_LOADS[_block(item).load].precisions),
        free=False,
    ),
    Field(
        "amount",
        "memory",
        _is(PartKind.MEMORY),
        lambda item: _amount(_block(item)),
        _write_amount,
        lambda _item: (ALL_FREE, "80 %", "50 %", "4 GiB", "1 GiB"),
    ),
    Field(
        "patterns",
        "patterns",
        _is(PartKind.MEMORY),
        lambda item: _patterns_text(_block(item)),
        _write_patterns,
        lambda _item: (*PATTERN_FORMS, *PATTERNS),
    ),
    Field(
        "drives",
        "drives",
        _is(PartKind.DRIVE),
        lambda item: ", ".join(_block(item).drives) or ALL_DRIVES,
        _write_drives,
        lambda _item: (ALL_DRIVES,),
    ),
    Field(
        "cards",
        "cards",
        _is(PartKind.GRAPHICS),
        lambda item: ", ".join(_block(item).cards) or ALL_CARDS,
        _write_cards,
        lambda _item: (ALL_CARDS,),
    ),
    Field(
        "card memory",
        "memory",
        _card_memory,
        lambda item: amount_text(_block(item)) if _block(item).amount is not None else ALL_FREE,
        lambda item, text: replace(_block(item), amount=_card_memory_amount(text)),
        lambda _item: (ALL_FREE, "8 GiB", "4 GiB", "1 GiB"),
    ),
    Field(
        "scratch",
        "file",
        _verified,
        lambda item: _scratch_text(_block(item)),
        lambda item, text: replace(_block(item), amount=_scratch_amount(text)),
        lambda _item: ("1 GiB", "4 GiB", "16 GiB", "64 GiB"),
    ),
    Field(
        "folder",
        "in folder",
        _verified,
        lambda item: _block(item).folder or ANY_FOLDER,
        _write_folder,
        lambda _item: (ANY_FOLDER,),
    ),
    Field(
        "shape",
        "shape",
        _shaped,
        lambda item: shape_word(_block(item).shape.kind),
        lambda item, text: replace(_block(item), shape=shape_of(text)),
        lambda _item: tuple(shape_word(kind) for kind in ShapeKind),
        free=False,
    ),
    Field(
        "period",
        "period",
        lambda item: isinstance(item, Block) and item.shape.kind is not ShapeKind.STEADY,
        lambda item: period_text(_block(item).shape.period_s),
        _write_period,
    ),
    Field(
        "duty",
        "load on for",
        lambda item: isinstance(item, Block) and item.shape.kind in (ShapeKind.PULSE, ShapeKind.HOP),
        lambda item: f"{_block(item).shape.duty * 100:g} %",
        _write_duty,
    ),
    Field(
        "hold",
        "heat",
        _shaped,
        _hold_text,
        lambda item, text: replace(_block(item), hold_c=parse_hold(text)),
        lambda _item: (AS_HOT, "60 °C", "70 °C", "80 °C", "90 °C"),
    ),
    Field(
        "start",
        "start",
        lambda _item: True,
        lambda item: start_text(item.start_s),
        lambda item, text: replace(item, start_s=parse_start(text)),
    ),
    Field("length", "length", lambda _item: True, lambda item: length_text(item.length_s), _write_length),
    Field("at_most", "at most", _is_gate, lambda item: length_text(_gate(item).at_most_s), _write_at_most),
    Field(
        "within",
        "within",
        lambda item: isinstance(item, Gate) and item.kind is not GateKind.ASK,
        lambda item: f"{_gate(item).within_k:g} K",
        _write_within,
    ),
    Field(
        "cold",
        "down to",
        lambda item: isinstance(item, Gate) and item.kind is GateKind.COOL_DOWN,
        _cold_text,
        _write_cold,
        lambda _item: (AT_START, "30 °C", "35 °C", "40 °C"),
    ),
)


def fields_of(items: tuple[SheetItem, ...]) -> tuple[Field, ...]:
    """Return the fields that all of some items have."""
    return tuple(field for field in FIELDS if items and all(field.has(item) for item in items))


def shown_text(field: Field, items: tuple[SheetItem, ...]) -> str:
    """Return the text of a field over some items, `MIXED` where they differ."""
    texts = {field.read(item) for item in items}
    return texts.pop() if len(texts) == 1 else MIXED


def _how_cold(gate: Gate) -> str:
    return "where the run began" if gate.to_c is None else f"{gate.to_c:g} °C"


def about(item: SheetItem, power_limit_w: float | None = None) -> str:
    """Return in a sentence or two what an item does: what it strains, finds and misses, and the power it draws.

    `power_limit_w` is the package's limit where the machine reports one.
    """
    if isinstance(item, Gate):
        most, within = length_text(item.at_most_s), f"{item.within_k:g} K"
        return {
            GateKind.SETTLE: f"Waits until the hottest sensor moves less than {within} in 20 s, {most} at most.",
            GateKind.COOL_DOWN: f"Waits until the processor has cooled down to {_how_cold(item)}, {most} at most.",
            GateKind.ASK: f"Waits until you say go on; after {most} the run goes on by itself.",
        }[item.kind]
    load = SHEET_LOADS[item.load]
    if isinstance(load, CheckLoad):
        return f"{load.check.about} Finds {load.finds}. Misses {load.misses}."
    misses = f" Misses {load.misses}." if load.misses else ""
    power = f"{load.heat * 100:.0f} % of the hottest load's power"
    limit = f"; the package limit is {power_limit_w:.0f} W" if power_limit_w is not None else ""
    return f"Strains {load.strains}. Finds {load.finds}.{misses} Draws about {power}{limit}."
