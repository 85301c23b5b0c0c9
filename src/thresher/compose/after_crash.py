"""What is carried out after the machine came to a sudden end: what was left, or the groups by which the part is found.

Everything here is a value; the engine keeps it with the job before anything is started, so that a start that ends in
another end is known as one.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import TypeVar

from thresher.compose.entry import cores_text
from thresher.model.parts import PartKind
from thresher.model.sheet import AfterCrash, Block, Gate, RunSheet, SheetItem, clock_text

T = TypeVar("T")

_LEAST_LEFT_S = 60.0
_TRIES = 4.0
"""A group is tried for so many times as long as the whole took to end."""
_SHORTEST_TRY_S, _LONGEST_TRY_S = 180.0, 3_600.0
_BY_CORES = (PartKind.PROCESSOR, PartKind.MEMORY)


@dataclass(frozen=True, slots=True)
class Group:
    """Blocks that are tried together, to see whether the machine ends under them."""

    blocks: tuple[Block, ...]

    @property
    def words(self) -> str:
        """What a person reads of it."""
        return " and ".join(_block_words(block) for block in self.blocks)


def _block_words(block: Block) -> str:
    if block.row in _BY_CORES and block.cores:
        return f"{block.load} on core{'s' if len(block.cores) > 1 else ''} {cores_text(block.cores)}"
    named = block.drives or block.cards
    return f"{block.load} on {', '.join(named)}" if named else block.load


@dataclass(frozen=True, slots=True)
class Tried:
    """A group that was tried, and whether the machine ended under it; `seconds` until that, or until it was enough."""

    group: Group
    ended: bool
    seconds: float


@dataclass(frozen=True, slots=True)
class Isolation:
    """How far the search is: groups to come, the one under way, those tried, and what it came to.

    `whole` is the group that is divided now. `named` says what was found, empty until then.
    """

    whole: Group
    try_s: float
    waiting: tuple[Group, ...] = ()
    now: Group | None = None
    tried: tuple[Tried, ...] = ()
    named: str = ""


@dataclass(frozen=True, slots=True)
class Continuation:
    """A run that goes on after sudden ends. `sheet` is the whole plan, `next_sheet` what is to be started next.

    `ends` counts the sudden ends, `starts` the starts by itself since the run began. `started_wall` is the Unix time of
    the last start, `given_up` why nothing is started any more, empty while something is.
    """

    sheet: RunSheet
    next_sheet: RunSheet | None = None
    ends: int = 0
    starts: int = 0
    started_wall: float = 0.0
    isolation: Isolation | None = None
    given_up: str = ""


@dataclass(frozen=True, slots=True)
class Reached:
    """How far a run had come: blocks broken off with the seconds that each had run, and items that had not begun."""

    broken_off: tuple[tuple[Block, float], ...]
    to_come: tuple[SheetItem, ...]


Chance = Callable[[Group], float]
"""How probable the diagnosis holds it that the machine ends under a group, as weights of any size."""


def what_is_left(sheet: RunSheet, reached: Reached) -> RunSheet | None:
    """Return the sheet of what a run still had before it, None when that is nothing.

    A block that was broken off goes on for what it had left; a check is done again from its beginning. What is left is
    carried out once, also of a sheet that repeats.
    """
    again = tuple(
        replace(
            block, start_s=0.0, length_s=block.length_s if block.is_check else max(_LEAST_LEFT_S, block.length_s - ran)
        )
        for block, ran in reached.broken_off
    )
    reach = max((block.length_s for block in again), default=0.0)
    first = min((item.start_s for item in reached.to_come), default=0.0)
    later = [replace(item, start_s=item.start_s - first + reach) for item in reached.to_come]
    blocks = (*again, *(item for item in later if isinstance(item, Block)))
    if not blocks:
        return None
    gates = tuple(item for item in later if isinstance(item, Gate))
    return replace(sheet, blocks=blocks, gates=gates, repeat=False)


def after_end(
    state: Continuation, reached: Reached, ran_s: float, cores: Sequence[int], chance: Chance, of_machine: bool
) -> Continuation:
    """Return how it goes on after a sudden end of the machine, or of the program alone (not `of_machine`).

    `ran_s` is how long the loads had run, `cores` are those of the machine.
    """
    plan = state.sheet.crash
    ended = replace(state, ends=state.ends + 1, next_sheet=None)
    if plan.then is AfterCrash.WAIT:
        return replace(ended, given_up="the sheet says stop and wait")
    if ended.ends >= plan.most:
        return replace(ended, given_up=f"that was end {ended.ends} of {plan.most}")
    if plan.then is AfterCrash.ISOLATE and of_machine:
        return _after_end_of_group(ended, reached, ran_s, cores, chance)
    left = what_is_left(state.next_sheet or state.sheet, reached) or _next_round(state)
    return replace(ended, next_sheet=left, given_up="" if left is not None else "nothing of the run was left")


def _after_end_of_group(
    state: Continuation, reached: Reached, ran_s: float, cores: Sequence[int], chance: Chance
) -> Continuation:
    found = state.isolation
    running = tuple(replace(block, start_s=0.0) for block, _ in reached.broken_off)
    if not running:
        left = what_is_left(state.sheet, reached)
        idle = "the machine ended while no load ran: there is nothing to divide"
        return replace(state, next_sheet=left, given_up="" if left is not None else idle)
    whole = found.now if found is not None and found.now is not None else Group(running)
    tried = (*found.tried, Tried(whole, True, ran_s)) if found is not None else ()
    try_s = min(_LONGEST_TRY_S, max(_SHORTEST_TRY_S, _TRIES * ran_s))
    if found is not None:
        try_s = max(try_s, found.try_s)
    parts = divide(whole, cores)
    if not parts:
        return replace(
            state, isolation=Isolation(whole, try_s, (), None, tried, whole.words), given_up=f"found: {whole.words}"
        )
    ordered = tuple(sorted(parts, key=chance, reverse=True))
    return _try_next(state, Isolation(whole, try_s, ordered, None, tried))


def after_clean(state: Continuation, ran_s: float) -> Continuation:
    """Return how it goes on after a run that came to its end in order."""
    found = state.isolation
    if found is None or found.now is None:
        again = _next_round(state)
        return replace(state, next_sheet=again, given_up="" if again is not None else "carried out to its end")
    tried = (*found.tried, Tried(found.now, False, ran_s))
    if found.waiting:
        return _try_next(state, replace(found, now=None, tried=tried))
    named = f"only all of it together: {found.whole.words}"
    done = replace(found, now=None, tried=tried, named=named)
    return replace(state, isolation=done, next_sheet=None, given_up=f"found: {named}")


def _next_round(state: Continuation) -> RunSheet | None:
    return state.sheet if state.sheet.repeat else None


def _try_next(state: Continuation, found: Isolation) -> Continuation:
    group = found.waiting[0]
    blocks = tuple(replace(block, start_s=0.0, length_s=found.try_s) for block in group.blocks)
    sheet = replace(state.sheet, title=f"Finding the part: {group.words}", blocks=blocks, gates=(), repeat=False)
    return replace(state, isolation=replace(found, waiting=found.waiting[1:], now=group), next_sheet=sheet)


def divide(group: Group, cores: Sequence[int]) -> tuple[Group, ...]:
    """Return the groups that a group is divided into: loads, then drives, cards or cores by halves; none at the end."""
    if len(group.blocks) > 1:
        return tuple(Group((block,)) for block in group.blocks)
    block = group.blocks[0]
    if len(block.drives) > 1:
        return tuple(Group((replace(block, drives=half),)) for half in _halves(block.drives))
    if len(block.cards) > 1:
        return tuple(Group((replace(block, cards=half),)) for half in _halves(block.cards))
    on = block.cores or tuple(cores)
    if block.row not in _BY_CORES or block.is_check or len(on) < 2:
        return ()
    return tuple(Group((replace(block, cores=half, threads=0, one_per_core=False),)) for half in _halves(on))


def _halves(items: tuple[T, ...]) -> tuple[tuple[T, ...], tuple[T, ...]]:
    middle = (len(items) + 1) // 2
    return items[:middle], items[middle:]


def next_words(state: Continuation) -> str:
    """Say what is started next, in one line; empty when nothing is."""
    sheet = state.next_sheet
    if sheet is None:
        return ""
    if state.isolation is not None and state.isolation.now is not None:
        left = len(state.isolation.waiting)
        more = f"; then {left} more to try" if left else ""
        return f"{state.isolation.now.words}, {clock_text(sheet.length_s)} at most{more}"
    part = "what is left of " if sheet != state.sheet else "the whole of "
    return f"{part}{sheet.title}, {clock_text(sheet.length_s)}"
