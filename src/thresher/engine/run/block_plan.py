"""From a block of a run sheet to what its workers are to do, on this machine now."""

from thresher.inventory.processor import cache_bytes
from thresher.loads.memory.free import free_memory
from thresher.loads.plan import Caches, LoadPlan, PlanRequest
from thresher.loads.registry import LOADS
from thresher.model.parts import Inventory, LogicalCpu
from thresher.model.port import System
from thresher.model.sheet import Block


def plan_block(block: Block, system: System, inventory: Inventory, workers: int, compiled: bool) -> LoadPlan:
    """Return the plan. Raises EnvironmentFault when there is not enough memory for it."""
    load = LOADS[block.load]
    if system.pacing.paced:
        return load.small_plan(block)
    caches = Caches(cache_bytes(inventory, 2), cache_bytes(inventory, 3))
    return load.plan(PlanRequest(block, caches, free_memory(system), workers, compiled))


def choose_cpus(
    cpus: tuple[LogicalCpu, ...],
    allowed: set[int] | None,
    threads: int,
    cores: tuple[int, ...] = (),
    one_per_core: bool = False,
) -> list[int]:
    """Return the logical CPUs for a block: all that are allowed, or `threads` of them, one per core first.

    With `cores` those of the named cores only, with `one_per_core` the first of each core.
    """
    usable = [cpu for cpu in cpus if (allowed is None or cpu.cpu in allowed) and (not cores or cpu.core in cores)]
    seen: dict[tuple[int, int], int] = {}
    order: list[tuple[int, int]] = []
    for cpu in usable:
        rank = seen.get((cpu.package, cpu.core), 0)
        seen[(cpu.package, cpu.core)] = rank + 1
        order.append((rank, cpu.cpu))
    chosen = [number for rank, number in sorted(order) if not (one_per_core and rank)]
    return chosen[:threads] if threads else chosen
