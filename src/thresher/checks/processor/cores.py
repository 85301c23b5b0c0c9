"""Every core answers exactly under every kind of load."""

from thresher.checks.check import Check, CheckBench, CheckSteps
from thresher.checks.loaded import worked_check
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, WorkingSet

_SECONDS = 10.0
_LOADS = (
    ("matrix", WorkingSet.SHARED_CACHE),
    ("integer", WorkingSet.SHARED_CACHE),
    ("branchy", WorkingSet.SHARED_CACHE),
    ("transform", WorkingSet.SHARED_CACHE),
    ("solve", WorkingSet.SHARED_CACHE),
)


def _run(_bench: CheckBench) -> CheckSteps:
    blocks = [Block(PartKind.PROCESSOR, load, 0.0, _SECONDS, working_set=place) for load, place in _LOADS]
    return (yield from worked_check(blocks, CHECK, (PartKind.PROCESSOR,), "every core gave every known answer"))


CHECK = Check(
    name="cores",
    row=PartKind.PROCESSOR,
    about=(
        "Every core of the processor works out things whose answers are known, with each of its kinds of unit: wide"
        " vectors, whole numbers, branches, transforms, equations. A sound core is right every time. One wrong answer"
        " in millions is a fault, even if the machine seems to run."
    ),
    finds="a core that computes wrongly within seconds",
    misses="a core that errs once an hour, or only when hot: the loads find those",
    usual_s=len(_LOADS) * _SECONDS + 5.0,
    run=_run,
    parts=(PartKind.PROCESSOR,),
)
