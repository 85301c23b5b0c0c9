"""Which step carries out which item of a run sheet."""

from collections.abc import Callable

from thresher.engine.run.block_steps import step_of_load
from thresher.engine.run.check_step import CheckStep
from thresher.engine.run.gate_step import GateStep
from thresher.engine.run.steps import Step
from thresher.model.plugins import plugins
from thresher.model.sheet import Block, Gate, RunSheet, SheetItem

ENTRY_POINTS = "thresher.steps"

MakeStep = Callable[[int, SheetItem], Step]


def _step_of_block(index: int, item: SheetItem) -> Step:
    assert isinstance(item, Block)
    return CheckStep.of(index, item) if item.is_check else step_of_load(index, item)


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
