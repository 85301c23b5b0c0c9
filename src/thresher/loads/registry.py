"""All loads, by the name that a run sheet uses.

A new load is a file with a `Load` in it and a row here, or an entry point of the group `thresher.loads` in a package
of its own that names such a value."""

from thresher.loads.check_loads import CHECK_LOADS, CheckLoad
from thresher.loads.compute import branchy, integer, matrix, precision, relay_load, sieve, solve, transform
from thresher.loads.device_load import DeviceLoad
from thresher.loads.drive_loads import DRIVE_LOADS
from thresher.loads.exercise import Exercise
from thresher.loads.graphics_loads import GRAPHICS_LOADS
from thresher.loads.load import ExerciseForm, Load
from thresher.loads.memory import load as memory
from thresher.loads.plan import Caches, FreeMemory, LoadPlan, PlanRequest
from thresher.model.plugins import plugins
from thresher.model.sheet import Block, Precision, WorkingSet

ENTRY_POINTS = "thresher.loads"


def _all_loads() -> dict[str, Load]:
    shipped = (matrix, solve, transform, integer, branchy, sieve, relay_load, precision, memory)
    found = {module.LOAD.name: module.LOAD for module in shipped}
    return plugins(ENTRY_POINTS, Load) | found


LOADS: dict[str, Load] = _all_loads()

SheetLoad = Load | DeviceLoad | CheckLoad

WORK_LOADS: dict[str, Load | DeviceLoad] = {**LOADS, **DRIVE_LOADS, **GRAPHICS_LOADS}
"""Everything that works a part for as long as is wanted: a load of workers, or a use of a drive or a card."""

SHEET_LOADS: dict[str, SheetLoad] = {**WORK_LOADS, **CHECK_LOADS}
"""Everything that a block of a run sheet can be: a load of workers, a use of a drive or a card, or a check."""


def usual_working_set(load: SheetLoad) -> WorkingSet:
    """Return where the data of a load live unless something else is asked for."""
    usual = WorkingSet.SHARED_CACHE
    return usual if usual in load.working_sets else load.working_sets[0]


def exercise_of(plan: LoadPlan) -> ExerciseForm:
    """Return how a compute load lies in shared memory. Raises ValueError for a load that has no known answers there."""
    form = LOADS[plan.load].exercise
    if form is None:
        raise ValueError(f"the load {plan.load} has no known answers in shared memory")
    return form


def shared_bytes(plan: LoadPlan) -> int:
    """Return the bytes of operands and known answers that all workers of a compute load share."""
    return exercise_of(plan).shared_bytes(plan)


def make_exercise(plan: LoadPlan, memory: memoryview) -> Exercise:
    """Return a compute load over shared memory of `shared_bytes(plan)`."""
    return exercise_of(plan).make(plan, memory)


def plan_load(
    load: str,
    working_set: WorkingSet,
    caches: Caches,
    free: int,
    compiled: bool,
    precision: Precision = Precision.DOUBLE,
) -> LoadPlan:
    """Plan a compute load without a run sheet; `free` bytes may be used at most by all workers together."""
    kind = LOADS[load]
    block = Block(kind.row, load, 0.0, 1.0, working_set=working_set, precision=precision)
    return kind.plan(PlanRequest(block, caches, FreeMemory(None, free * 4), 1, compiled))
