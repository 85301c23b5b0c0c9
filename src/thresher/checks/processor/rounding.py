"""Floating-point arithmetic against exactly known results."""

from thresher.checks.check import Check, CheckBench, CheckSteps
from thresher.checks.loaded import worked_check
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, WorkingSet

_SECONDS = 15.0


def _run(_bench: CheckBench) -> CheckSteps:
    blocks = [Block(PartKind.PROCESSOR, "precision", 0.0, _SECONDS, working_set=WorkingSet.CORE)]
    words = "every sum, product, quotient, root and function was rounded as it must be"
    return (yield from worked_check(blocks, CHECK, (PartKind.PROCESSOR,), words))


CHECK = Check(
    name="rounding",
    row=PartKind.PROCESSOR,
    about=(
        "Numbers with a point must be rounded in exactly one way (IEEE 754). Each core works out a thousand cases whose"
        " results are known to the last bit, the awkward ones among them: the smallest and largest numbers, and"
        " quotients that a faulty divider once got wrong."
    ),
    finds="units that round or divide wrongly",
    misses="faults that come with heat: it keeps the processor cool",
    usual_s=_SECONDS + 3.0,
    run=_run,
    parts=(PartKind.PROCESSOR,),
)
