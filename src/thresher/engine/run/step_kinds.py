"""Which step carries out which item of a run sheet."""

from collections.abc import Callable

from thresher.engine.run.card_step import CardStep
from thresher.engine.run.drive_step import DriveStep
from thresher.engine.run.gate_step import GateStep
from thresher.engine.run.load_step import LoadStep
from thresher.engine.run.steps import Step
from thresher.loads.drive_loads import DriveLoad
from thresher.loads.graphics_loads import GraphicsLoad
from thresher.loads.load import Load
from thresher.loads.registry import SHEET_LOADS
from thresher.model.plugins import plugins
from thresher.model.sheet import Block, Gate, RunSheet, SheetItem

ENTRY_POINTS = "thresher.steps"

MakeStep = Callable[[int, SheetItem], Step]

BLOCK_STEPS: dict[type, MakeStep] = {Load: LoadStep.of, DriveLoad: DriveStep.of, GraphicsLoad: CardStep.of}
"""By the type of what a block asks for."""


def _step_of_block(index: int, item: SheetItem) -> Step:
    assert isinstance(item, Block)
    return BLOCK_STEPS[type(SHEET_LOADS[item.load])](index, item)


STEP_KINDS: dict[type, MakeStep] = {
    **dict(plugins(ENTRY_POINTS, tuple).values()),
    Gate: GateStep.of,
    Block: _step_of_block,
}
"""By the type of the item on the sheet. Another package adds pairs of type and function by entry points."""


def steps_of(sheet: RunSheet) -> list[Step]:
    """Return the steps of a sheet in the order of their start, those that hold the rest first."""
    items = sorted(sheet.items, key=lambda item: (item.start_s, isinstance(item, Block)))
    return [STEP_KINDS[type(item)](index, item) for index, item in enumerate(items)]
