"""Memory of graphics cards."""

from thresher.checks.check import Check, CheckBench, CheckSteps, having
from thresher.checks.graphics.compute import card_block
from thresher.checks.loaded import worked_check
from thresher.model.parts import PartKind

_SECONDS = 40.0


def _run(_bench: CheckBench) -> CheckSteps:
    words = "every word of card memory that was had kept what was written"
    return (yield from worked_check([card_block("card memory", _SECONDS)], CHECK, (PartKind.GRAPHICS,), words))


CHECK = Check(
    name="card cells",
    row=PartKind.GRAPHICS,
    about=(
        "A graphics card has memory of its own, soldered beside its processor. The card writes patterns into as much of"
        " it as can be had and compares them itself. A wrong word means coloured dots and crashes sooner or later."
    ),
    finds="cells and lanes of card memory that fail at once",
    misses="the memory that the display uses, and cells that fail only when hot",
    usual_s=_SECONDS + 4.0,
    run=_run,
    parts=(PartKind.GRAPHICS,),
    there=having(PartKind.GRAPHICS),
)
