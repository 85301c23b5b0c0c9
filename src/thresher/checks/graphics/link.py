"""The link of graphics cards while it is worked, against what card and port can both do."""

from thresher.checks.check import Check, CheckBench, CheckSteps, having
from thresher.checks.graphics.compute import card_block
from thresher.checks.loaded import worked_check
from thresher.model.parts import PartKind

_SECONDS = 20.0


def _run(_bench: CheckBench) -> CheckSteps:
    words = "everything came back as it was sent, over the full link"
    return (yield from worked_check([card_block("transfer", _SECONDS)], CHECK, (PartKind.GRAPHICS,), words))


CHECK = Check(
    name="card link",
    row=PartKind.GRAPHICS,
    about=(
        "Data is sent to each graphics card and back at full rate and compared. A card that sits askew in its slot, or"
        " on a worn riser, runs with fewer lanes or slower than it could, or changes data on the way."
    ),
    finds="a link with fewer lanes or less speed than both ends can, and data that changes on it",
    misses="a link that fails once in hours",
    usual_s=_SECONDS + 3.0,
    run=_run,
    parts=(PartKind.GRAPHICS, PartKind.BOARD),
    there=having(PartKind.GRAPHICS),
)
