"""From a block of a run sheet to what its workers are to do, on this machine now."""

from dataclasses import dataclass

from thresher.inventory.processor import cache_bytes
from thresher.loads.memory import CHUNK_WORDS
from thresher.loads.plan import Caches, LoadPlan, plan_load
from thresher.model.errors import EnvironmentFault, SourceUnavailable
from thresher.model.parts import Inventory
from thresher.model.port import System, read_text
from thresher.model.sheet import Block, WorkingSet

_RESERVE_SHARE = 0.06
_RESERVE_LEAST = 512 << 20
"""Kept for the running system: what the kernel, the window and the journal need to go on."""
_FREE_FOR_OPERANDS = 512 << 20
_EACH_WORKER_NEEDS = 40 << 20
_SIZES = {"matrix": 32, "solve": 24, "transform": 256, "integer": 64, "branchy": 256, "sieve": 1000}
"""What workers of a bench model do: the same work, small; their heat is simulated and their faults are put in."""
_SETS = {"matrix": 2}


@dataclass(frozen=True, slots=True)
class FreeMemory:
    """What the kernel says of memory in bytes; None where it does not tell."""

    total: int | None
    available: int | None


def free_memory(system: System) -> FreeMemory:
    """Read `/proc/meminfo` (kernel document filesystems/proc)."""
    try:
        lines = read_text(system, "/proc/meminfo").splitlines()
    except SourceUnavailable:
        return FreeMemory(None, None)
    values = {name: rest.split() for name, _, rest in (line.partition(":") for line in lines)}

    def bytes_of(name: str) -> int | None:
        words = values.get(name, [])
        return int(words[0]) * 1024 if words and words[0].isdigit() else None

    return FreeMemory(bytes_of("MemTotal"), bytes_of("MemAvailable"))


def plan_block(block: Block, system: System, inventory: Inventory, workers: int, compiled: bool) -> LoadPlan:
    """Return the plan. Raises EnvironmentFault when there is not enough memory for it."""
    memory = free_memory(system)
    if system.work is not None:
        return _simulated(block)
    if block.load == "memory":
        return _memory_plan(block, memory, workers, compiled)
    caches = Caches(cache_bytes(inventory, 2), cache_bytes(inventory, 3))
    free = (memory.available or _FREE_FOR_OPERANDS) // 4
    return plan_load(block.load, block.working_set, caches, free, compiled, block.precision)


def _simulated(block: Block) -> LoadPlan:
    if block.load == "memory":
        return LoadPlan("memory", 1, 1, patterns=block.patterns, wait_s=block.wait_s, bytes_each=1)
    size, sets = _SIZES.get(block.load, 1), _SETS.get(block.load, 1)
    place = WorkingSet.CORE
    return LoadPlan(block.load, size, sets, precision=block.precision, working_set=place)


def _memory_plan(block: Block, memory: FreeMemory, workers: int, compiled: bool) -> LoadPlan:
    if memory.available is None or memory.total is None:
        remedy = "Look at /proc/meminfo."
        raise EnvironmentFault(f"beginning {block.title}", "the kernel does not tell how much memory is free", remedy)
    reserve = max(_RESERVE_LEAST, int(memory.total * _RESERVE_SHARE)) + workers * _EACH_WORKER_NEEDS
    most = memory.available - reserve
    wanted = block.amount if block.amount is not None else int(most * block.share)
    chunk = CHUNK_WORDS * 8
    each = min(wanted, most) // workers // chunk * chunk
    if each < chunk:
        had = f"{memory.available >> 20} MiB are free, of which {reserve >> 20} MiB are kept for the running system"
        raise EnvironmentFault(f"beginning {block.title}", had, "Close what uses memory, or choose fewer threads.")
    return LoadPlan(
        "memory", 1, 1, compiled=compiled, bytes_each=each, patterns=block.patterns, wait_s=block.wait_s,
        working_set=WorkingSet.MAIN_MEMORY,
    )  # fmt: skip


def words_of(plan: LoadPlan) -> int:
    """Return the 64-bit words that a simulated machine's fault may spoil in one beat of a plan."""
    per_load = {
        "matrix": plan.size**2,
        "solve": plan.size,
        "transform": plan.size // 2,
        "integer": plan.size + 6,
        "branchy": plan.size,
        "sieve": plan.size // 16,
        "precision": 1024,
        "relay": 1,
        "memory": 1024,
    }
    return per_load[plan.load]
