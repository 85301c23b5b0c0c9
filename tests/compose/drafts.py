"""Strategies for sheets and edits, shared by the tests of composing."""

from collections.abc import Callable
from dataclasses import replace

from hypothesis import strategies as st

from thresher.compose.draft import (
    Draft,
    History,
    change,
    copies,
    move,
    paste,
    put,
    put_gate,
    remove,
    split,
    stretch_end,
    stretch_start,
)
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, GateKind, Shape, ShapeKind, SheetItem, WorkingSet

TIMES = st.one_of(st.integers(0, 4000).map(float), st.floats(0, 4000, allow_nan=False))
LENGTHS = st.one_of(st.integers(1, 900).map(float), st.floats(1, 900, allow_nan=False))

MATRIX = st.builds(
    Block,
    row=st.just(PartKind.PROCESSOR),
    load=st.just("matrix"),
    start_s=TIMES,
    length_s=LENGTHS,
    working_set=st.sampled_from([WorkingSet.CORE, WorkingSet.SHARED_CACHE]),
    shape=st.one_of(
        st.just(Shape()),
        st.builds(Shape, st.just(ShapeKind.PULSE), st.floats(0.5, 20), st.floats(0.1, 0.9)),
    ),
    cores=st.one_of(st.just(()), st.lists(st.integers(0, 7), unique=True, min_size=1, max_size=4).map(tuple)),
    hold_c=st.one_of(st.none(), st.floats(40, 110)),
)
MEMORY = st.builds(
    Block,
    row=st.just(PartKind.MEMORY),
    load=st.just("memory"),
    start_s=TIMES,
    length_s=LENGTHS,
    working_set=st.just(WorkingSet.MAIN_MEMORY),
    share=st.floats(0.01, 1.0),
    amount=st.one_of(st.none(), st.integers(1 << 20, 1 << 34)),
    patterns=st.sampled_from([("march",), ("march", "random")]),
)
BLOCKS = st.one_of(MATRIX, MEMORY)

Edit = Callable[[Draft], Draft]


def _some(draft: Draft, picks: list[int]) -> list[int]:
    numbers = [each.number for each in draft.items]
    return [numbers[pick % len(numbers)] for pick in picks] if numbers else []


def _one(draft: Draft, pick: int) -> int:
    return (_some(draft, [pick]) or [0])[0]


PICKS = st.lists(st.integers(0, 50), min_size=1, max_size=4)
EDITS: st.SearchStrategy[Edit] = st.one_of(
    st.builds(lambda blocks: lambda d: put(d, blocks)[0], st.lists(BLOCKS, min_size=1, max_size=3)),
    st.builds(lambda p: lambda d: remove(d, _some(d, p)), PICKS),
    st.builds(lambda p, s: lambda d: move(d, _some(d, p), s), PICKS, st.floats(-5000, 5000)),
    st.builds(lambda p, s: lambda d: stretch_end(d, _one(d, p), s), st.integers(0, 50), st.floats(-100, 5000)),
    st.builds(lambda p, s: lambda d: stretch_start(d, _one(d, p), s), st.integers(0, 50), st.floats(-100, 5000)),
    st.builds(lambda p, s: lambda d: split(d, _one(d, p), s)[0], st.integers(0, 50), TIMES),
    st.builds(lambda p, n: lambda d: copies(d, _some(d, p), n)[0], PICKS, st.integers(1, 3)),
    st.builds(lambda p, s: lambda d: paste(d, tuple(each.item for each in d.chosen(_some(d, p))), s)[0], PICKS, TIMES),
    st.builds(lambda k, s: lambda d: put_gate(d, k, s)[0], st.sampled_from(GateKind), TIMES),
    st.builds(lambda p, c: lambda d: change(d, _some(d, p), _with_cores(c)), PICKS, st.integers(0, 7)),
)


def _with_cores(core: int) -> Callable[[SheetItem], SheetItem]:
    return lambda item: (
        replace(item, cores=(core,)) if isinstance(item, Block) and item.row is PartKind.PROCESSOR else item
    )


def carried_out(edits: list[Edit]) -> History:
    """Return the history of an empty draft after some edits."""
    history = History(Draft())
    for edit in edits:
        history = history.then(edit(history.now))
    return history
