"""Which step carries out which load: on the sheet by itself, or because a check asks for it."""

from collections.abc import Callable

from thresher.engine.run.card_step import CardStep
from thresher.engine.run.drive_step import DriveStep
from thresher.engine.run.load_step import LoadStep
from thresher.engine.run.steps import BlockStep
from thresher.loads.drive_loads import DriveLoad
from thresher.loads.graphics_loads import GraphicsLoad
from thresher.loads.load import Load
from thresher.loads.registry import SHEET_LOADS
from thresher.model.sheet import Block

LOAD_STEPS: dict[type, Callable[[int, Block], BlockStep]] = {
    Load: LoadStep.of,
    DriveLoad: DriveStep.of,
    GraphicsLoad: CardStep.of,
}
"""By the type of what a block asks for."""


def step_of_load(index: int, block: Block) -> BlockStep:
    """Return the step of a load."""
    return LOAD_STEPS[type(SHEET_LOADS[block.load])](index, block)
