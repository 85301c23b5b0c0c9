"""Workers on a real machine: they run freely in their shape, and nothing disturbs them on purpose."""

import os
from collections.abc import Callable, Sequence

from thresher.model.port import PacedTeam, Pacing, WorkerSetup


class FreeRunning(Pacing):
    """The pacing of every machine that is not simulated."""

    def __init__(self, workers: Callable[[], int | None] = lambda: None) -> None:
        """`workers` returns the socket by which workers get their page frames, None for none."""
        self._workers = workers

    def page_frames(self) -> int | None:
        """Return the socket by which workers get their page frames."""
        return self._workers()

    @property
    def paced(self) -> bool:
        """Workers run by themselves."""
        return False

    def allowed_cpus(self) -> set[int] | None:
        """Return the logical CPUs that this process may use."""
        return set(os.sched_getaffinity(0))

    def worker_setup(self, worker: int, workers: int, cpu: int, memory_words: int) -> WorkerSetup:
        """Pin the worker to its logical CPU."""
        del worker, workers, memory_words
        return WorkerSetup(cpu)

    def round_trips_ns(self, cpus: Sequence[int]) -> dict[tuple[int, int], float] | None:
        """Round trips have to be measured."""
        del cpus
        return None

    def pace(self, teams: Sequence[PacedTeam], seconds: float) -> None:
        """Nobody has to be paced."""

    def feel(self, teams: Sequence[PacedTeam], seconds: float) -> None:
        """A real machine feels its load by itself."""

    def hung_cpus(self) -> frozenset[int]:
        """A core that hangs shows by its worker's heartbeat."""
        return frozenset()

    def take_reset(self) -> bool:
        """A machine that resets takes this program with it."""
        return False

    def missed_ticks(self, behind_s: float, interval_s: float) -> int:
        """Every whole interval behind is a tick that was missed."""
        return int(behind_s / interval_s)
