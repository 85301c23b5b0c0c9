"""A run sheet while it is being edited: every edit gives a new draft, and all of them can be undone.

Items keep their number as long as they live, so that a selection survives moving and sorting. Times are seconds from
the start of the run. A draft may be wrong (`checks.sheet_faults` says how); no edit makes one that cannot be undone.
"""

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace

from thresher.compose.sheet_file import LONGEST_S
from thresher.model.sheet import Block, CrashPlan, Gate, GateKind, RunSheet, SheetItem, SheetLimits

SHORTEST_S = 1.0
_MOST_STEPS = 500
_GATE_S = {GateKind.SETTLE: 30.0, GateKind.COOL_DOWN: 120.0, GateKind.ASK: 10.0}
_GATE_AT_MOST_S = {GateKind.SETTLE: 120.0, GateKind.COOL_DOWN: 900.0, GateKind.ASK: 8 * 3600.0}


@dataclass(frozen=True, slots=True)
class Placed:
    """A gate or block of a draft, with its number."""

    number: int
    item: SheetItem

    @property
    def start_s(self) -> float:
        """Where it begins."""
        return self.item.start_s

    @property
    def end_s(self) -> float:
        """Where it ends."""
        return self.item.start_s + self.item.length_s


@dataclass(frozen=True, slots=True)
class Draft:
    """A sheet being edited: its items in the order of their start, and the words and limits of the sheet."""

    title: str = "Own sheet"
    items: tuple[Placed, ...] = ()
    limits: SheetLimits = field(default_factory=SheetLimits)
    about: str = ""
    finds: str = ""
    misses: str = ""
    reasons: dict[str, str] = field(default_factory=dict)
    repeat: bool = False
    crash: CrashPlan = field(default_factory=CrashPlan)
    next_number: int = 1

    @property
    def length_s(self) -> float:
        """From the start to the end of the last item."""
        return max((each.end_s for each in self.items), default=0.0)

    def placed(self, number: int) -> Placed | None:
        """Return an item by its number, None when it is gone."""
        return next((each for each in self.items if each.number == number), None)

    def chosen(self, numbers: Iterable[int]) -> tuple[Placed, ...]:
        """Return the items of some numbers, in the order of the sheet."""
        wanted = set(numbers)
        return tuple(each for each in self.items if each.number in wanted)

    @property
    def blocks(self) -> tuple[Placed, ...]:
        """The blocks, in the order of the sheet's own."""
        return tuple(each for each in self.items if isinstance(each.item, Block))

    @property
    def gates(self) -> tuple[Placed, ...]:
        """The gates, in the order of the sheet's own."""
        return tuple(each for each in self.items if isinstance(each.item, Gate))

    def sheet(self) -> RunSheet:
        """Return the run sheet that this draft is."""
        return RunSheet(
            self.title,
            tuple(each.item for each in self.blocks if isinstance(each.item, Block)),
            tuple(each.item for each in self.gates if isinstance(each.item, Gate)),
            self.limits,
            self.about,
            self.finds,
            self.misses,
            self.reasons,
            self.repeat,
            self.crash,
        )


def draft_of(sheet: RunSheet) -> Draft:
    """Return a draft of a sheet."""
    words = (sheet.about, sheet.finds, sheet.misses, sheet.reasons)
    empty = Draft(sheet.title, (), sheet.limits, *words, sheet.repeat, sheet.crash)
    return put(empty, sheet.items)[0]


def _with(draft: Draft, items: Iterable[Placed]) -> Draft:
    order = sorted(items, key=lambda each: (each.start_s, isinstance(each.item, Block), each.number))
    return replace(draft, items=tuple(order))


def put(draft: Draft, items: Iterable[SheetItem]) -> tuple[Draft, tuple[int, ...]]:
    """Add items as they are; return the draft and their numbers."""
    added = [Placed(draft.next_number + place, item) for place, item in enumerate(items)]
    new = replace(_with(draft, (*draft.items, *added)), next_number=draft.next_number + len(added))
    return new, tuple(each.number for each in added)


def remove(draft: Draft, numbers: Iterable[int]) -> Draft:
    """Take items away."""
    gone = set(numbers)
    return _with(draft, (each for each in draft.items if each.number not in gone))


def change(draft: Draft, numbers: Iterable[int], edit: Callable[[SheetItem], SheetItem]) -> Draft:
    """Change each of some items."""
    wanted = set(numbers)
    return _with(
        draft, (replace(each, item=edit(each.item)) if each.number in wanted else each for each in draft.items)
    )


def move(draft: Draft, numbers: Iterable[int], seconds: float) -> Draft:
    """Move items together, at most to the beginning of the sheet or so far that the sheet stays below two weeks."""
    chosen = draft.chosen(numbers)
    if not chosen:
        return draft
    seconds = max(seconds, -min(each.start_s for each in chosen))
    seconds = min(seconds, max(0.0, LONGEST_S - max(each.end_s for each in chosen)))
    return change(draft, (each.number for each in chosen), lambda item: replace(item, start_s=item.start_s + seconds))


def stretch_end(draft: Draft, number: int, to_s: float) -> Draft:
    """Let an item end at another time, at least a second after it begins."""
    return change(draft, (number,), lambda item: _lasting(item, to_s - item.start_s))


def stretch_start(draft: Draft, number: int, to_s: float) -> Draft:
    """Let an item begin at another time, its end staying where it is."""

    def edit(item: SheetItem) -> SheetItem:
        end = item.start_s + item.length_s
        start = min(max(0.0, to_s), end - SHORTEST_S)
        return _lasting(replace(item, start_s=start), end - start)

    return change(draft, (number,), edit)


def _lasting(item: SheetItem, seconds: float) -> SheetItem:
    seconds = min(max(SHORTEST_S, seconds), LONGEST_S)
    if isinstance(item, Gate):
        return replace(item, length_s=seconds, at_most_s=max(seconds, item.at_most_s))
    return replace(item, length_s=seconds)


def split(draft: Draft, number: int, at_s: float) -> tuple[Draft, tuple[int, ...]]:
    """Cut a block in two; nothing changes where a part would be shorter than a second. Return the numbers of both."""
    placed = draft.placed(number)
    if placed is None or isinstance(placed.item, Gate):
        return draft, ()
    if not placed.start_s + SHORTEST_S <= at_s <= placed.end_s - SHORTEST_S:
        return draft, (number,)
    second = replace(placed.item, start_s=at_s, length_s=placed.end_s - at_s)
    new, added = put(stretch_end(draft, number, at_s), (second,))
    return new, (number, *added)


def copies(draft: Draft, numbers: Iterable[int], times: int = 1) -> tuple[Draft, tuple[int, ...]]:
    """Put copies of some items behind them, as a group, so many times; return the numbers of the copies."""
    chosen = draft.chosen(numbers)
    if not chosen:
        return draft, ()
    begin, end = min(each.start_s for each in chosen), max(each.end_s for each in chosen)
    added = [
        replace(each.item, start_s=each.start_s + (end - begin) * turn)
        for turn in range(1, times + 1)
        for each in chosen
    ]
    return put(draft, added)


def paste(draft: Draft, items: tuple[SheetItem, ...], at_s: float) -> tuple[Draft, tuple[int, ...]]:
    """Put items so that the first of them begins at a time; return their numbers."""
    if not items:
        return draft, ()
    first = min(item.start_s for item in items)
    return put(draft, (replace(item, start_s=item.start_s - first + max(0.0, at_s)) for item in items))


def put_gate(draft: Draft, kind: GateKind, at_s: float) -> tuple[Draft, tuple[int, ...]]:
    """Put a gate in at a time; blocks that run then are cut, and what follows moves by its length."""
    length = _GATE_S[kind]
    numbers = [each.number for each in draft.blocks if each.start_s < at_s < each.end_s]
    for number in numbers:
        draft, _ = split(draft, number, at_s)
    later = [each.number for each in draft.items if each.start_s >= at_s]
    moved = change(draft, later, lambda item: replace(item, start_s=item.start_s + length))
    return put(moved, (Gate(kind, at_s, length, max(length, _GATE_AT_MOST_S[kind])),))


# ---- undoing


@dataclass(frozen=True, slots=True)
class History:
    """A draft with what it was before each edit, and what was undone."""

    now: Draft
    past: tuple[Draft, ...] = ()
    undone: tuple[Draft, ...] = ()

    def then(self, draft: Draft) -> "History":
        """Return the history after an edit; one that changes nothing is none."""
        if draft == self.now:
            return self
        return History(draft, (*self.past, self.now)[-_MOST_STEPS:])

    def undo(self) -> "History":
        """Return the history with its last edit undone."""
        if not self.past:
            return self
        return History(self.past[-1], self.past[:-1], (self.now, *self.undone))

    def redo(self) -> "History":
        """Return the history with the edit that was undone last carried out again."""
        if not self.undone:
            return self
        return History(self.undone[0], (*self.past, self.now), self.undone[1:])
