"""Which step carries out which item of a run sheet."""

from collections.abc import Callable

from thresher.engine.run.gate_step import GateStep
from thresher.engine.run.load_step import LoadStep
from thresher.engine.run.steps import Step
from thresher.model.sheet import Block, Gate, RunSheet, SheetItem

STEP_KINDS: dict[type[SheetItem], Callable[[int, SheetItem], Step]] = {Gate: GateStep.of, Block: LoadStep.of}


def steps_of(sheet: RunSheet) -> list[Step]:
    """Return the steps of a sheet in the order of their start, those that hold the rest first."""
    items = sorted(sheet.items, key=lambda item: (item.start_s, isinstance(item, Block)))
    return [STEP_KINDS[type(item)](index, item) for index, item in enumerate(items)]
