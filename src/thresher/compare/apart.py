"""Comparing in a process of its own: a job file may be on a dying drive, and the numbers take a second or two."""

import subprocess
from dataclasses import dataclass, field

import msgspec

from thresher.compare.comparison import Comparison
from thresher.compare.stored_spans import HotPart, RunRef
from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.model.own_program import own_command

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
    """What came of a request: a comparison, or why there is none: what was wrong, where, and what to do."""

    comparison: Comparison | None = None
    tried: str = ""
    happened: str = ""
    remedy: str = ""
    faults: tuple[tuple[str, str], ...] = ()


def compare_apart(request: Request) -> Comparison:
    """Compare runs in a process of its own. Raises InputError or EnvironmentFault."""
    tried = "comparing runs"
    try:
        done = subprocess.run(
            own_command("thresher.compare.worker"),
            input=msgspec.json.encode(request),
            capture_output=True,
            timeout=_AT_MOST_S,
            check=False,
        )
    except subprocess.TimeoutExpired as error:
        remedy = "The drive with the job file may be failing: copy the job to another drive first."
        raise EnvironmentFault(tried, f"not done after {_AT_MOST_S:.0f} s", remedy) from error
    try:
        answer = msgspec.json.decode(done.stdout, type=Answer)
    except msgspec.DecodeError as error:
        said = done.stderr.decode("utf-8", "replace").strip().rpartition("\n")[2]
        happened = said or f"its process ended with {done.returncode}"
        raise EnvironmentFault(tried, happened, "Try again; thresher log has more.") from error
    if answer.comparison is not None:
        return answer.comparison
    if answer.faults:
        raise InputError(answer.tried, [InputFault(*each) for each in answer.faults])
    raise EnvironmentFault(answer.tried, answer.happened, answer.remedy)
