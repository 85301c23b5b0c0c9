"""Why a worker does nothing: stopped, waiting, starved by others, or for no reason that the system knows.

Kernel document filesystems/proc (stat: state, times) and scheduler/sched-stats (schedstat: time run, time waited).
"""

from pathlib import Path

_STARVED_S = 2.0


class RunTimes:
    """What a process had run and waited at one look, to be compared at the next."""

    def __init__(self) -> None:
        """Nothing is known yet."""
        self._before: dict[int, tuple[int, int]] = {}

    def look(self, pid: int) -> str:
        """Return why a worker that did no beat is innocent, empty when nothing but its core can be the reason.

        The first look at a process only remembers: it says that there is nothing to compare with yet.
        """
        try:
            state = Path(f"/proc/{pid}/stat").read_text(encoding="ascii").rpartition(")")[2].split()[0]
            run, waited = (int(word) for word in Path(f"/proc/{pid}/schedstat").read_text(encoding="ascii").split()[:2])
        except (OSError, ValueError):
            return "its process cannot be looked at"
        before, self._before[pid] = self._before.get(pid), (run, waited)
        if state in "Tt":
            return "something has stopped its process"
        if state in "DZX":
            return "its process waits for a device or has ended"
        if before is None:
            return "it is looked at for the first time"
        if waited - before[1] > _STARVED_S * 1e9:
            return "other programs take its core"
        return "it has run in the meantime" if run - before[0] > _STARVED_S * 1e9 else ""
