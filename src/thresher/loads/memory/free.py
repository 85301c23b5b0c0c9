"""How much memory the machine has free."""

from thresher.loads.plan import FreeMemory
from thresher.model.errors import SourceUnavailable
from thresher.model.port import System, read_text


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
