"""Comparing in a process of its own: a job file may be on a dying drive, and the numbers take a second or two."""

from dataclasses import dataclass, field

import msgspec

from thresher.compare.comparison import Comparison
from thresher.compare.stored_spans import HotPart, RunRef
from thresher.model.apart import Failure, ask_apart

_AT_MOST_S = 300.0


@dataclass(frozen=True, slots=True)
class Request:
    """Which runs are compared, in their order, by which part, with room temperatures in °C by place in `refs`.

    Without a part it is the processor, or the first whose heat all of them show. `good` is a known-good run, of this
    machine or one like it: its resistance counts before the part's own limits.
    """

    refs: tuple[RunRef, ...]
    part: HotPart | None = None
    rooms: dict[int, float] = field(default_factory=dict)
    good: RunRef | None = None


@dataclass(frozen=True, slots=True)
class Answer:
    """What came of a request: a comparison, or why there is none."""

    comparison: Comparison | None = None
    failure: Failure | None = None


def compare_apart(request: Request) -> Comparison:
    """Compare runs in a process of its own. Raises InputError or EnvironmentFault."""
    order = msgspec.json.encode(request)
    answer = ask_apart(order, Answer, "comparing runs", _AT_MOST_S, "thresher.compare.worker")
    if answer.failure is not None:
        raise answer.failure.error()
    assert answer.comparison is not None
    return answer.comparison
