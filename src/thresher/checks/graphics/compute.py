"""Graphics cards compute and draw right."""

from thresher.checks.check import Check, CheckBench, CheckSteps, having
from thresher.checks.loaded import worked_check
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, WorkingSet

_SECONDS = 20.0


def card_block(load: str, seconds: float) -> Block:
    """Return a block of all cards."""
    return Block(PartKind.GRAPHICS, load, 0.0, seconds, working_set=WorkingSet.MAIN_MEMORY)


def _run(_bench: CheckBench) -> CheckSteps:
    blocks = [card_block("card compute", _SECONDS), card_block("raster", _SECONDS)]
    words = "every card gave every known answer and drew every frame right"
    return (yield from worked_check(blocks, CHECK, (PartKind.GRAPHICS,), words))


CHECK = Check(
    name="card answers",
    row=PartKind.GRAPHICS,
    about=(
        "Each graphics card works out things whose answers are known and draws frames that must come out the same every"
        " time. One wrong answer or pixel is a fault of the card, even if nobody would see it."
    ),
    finds="a card that computes or draws wrongly within seconds",
    misses="a card that errs only when hot: the loads find that",
    usual_s=2 * _SECONDS + 4.0,
    run=_run,
    parts=(PartKind.GRAPHICS,),
    there=having(PartKind.GRAPHICS),
)
