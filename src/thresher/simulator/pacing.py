"""Pacing and disturbing the workers of a run on a simulated machine, by its own clock."""

import os
from collections.abc import Sequence
from dataclasses import replace

from thresher.model.port import Beats, PacedTeam, Pacing, SimulatedWork, Stress, WorkerSetup


class SimulatedPacing(Pacing):
    """Hands workers the beats of each tick and the bits to flip, and lets the machine feel their heat."""

    def __init__(self, work: SimulatedWork) -> None:
        """Pace the workers of one simulated machine."""
        self._work = work

    @property
    def paced(self) -> bool:
        """Workers do their beats on order."""
        return True

    def allowed_cpus(self) -> set[int] | None:
        """All logical CPUs of the simulated machine may be used."""
        return None

    def worker_setup(self, worker: int, workers: int, cpu: int, memory_words: int) -> WorkerSetup:
        """Put the worker on one of this computer's CPUs, with its share of the simulated memory and its faults."""
        here = sorted(os.sched_getaffinity(0))
        pin = here[cpu % len(here)]
        if not memory_words:
            return WorkerSetup(pin)
        base, stride = self._work.memory_share(worker, workers, memory_words)
        return WorkerSetup(pin, base, stride, self._work.cell_faults(worker, workers, memory_words))

    def page_frames(self) -> int | None:
        """Simulated memory has no page frames of its own."""
        return None

    def round_trips_ns(self, cpus: Sequence[int]) -> dict[tuple[int, int], float] | None:
        """Return the simulated machine's round trips."""
        return {(a, b): self._work.pair_time_ns(a, b) for a in cpus for b in cpus if a < b}

    def pace(self, teams: Sequence[PacedTeam], seconds: float) -> None:
        """Let the teams do the beats of the coming seconds."""
        hung = self._work.hung_cpus()
        for team in teams:
            full = max(1.0, self._work.beats_per_s * seconds) * team.paced_beats
            beats, flips = {}, {}
            for cpu, share in team.shares(seconds).items():
                if cpu in hung:
                    continue
                beats[cpu] = max(1, round(full * share)) if share > 0 else 0
                flips[cpu] = self._work.take_flips(cpu, Beats(beats[cpu], team.words_in_beat, team.load_name))
            if team.pairs_workers and hung:
                beats = {}  # whoever waits for a core that hangs waits for ever
            due = {cpu: each for cpu, each in flips.items() if each}
            team.pace(beats, due, seconds, self._work.memory_temperature())
        self.feel(teams, seconds)

    def feel(self, teams: Sequence[PacedTeam], seconds: float) -> None:
        """Let the machine feel what its logical CPUs do now."""
        stress: dict[int, Stress] = {}
        for team in teams:
            for cpu, share in team.shares(seconds).items():
                mine = replace(team.load_stress, busy=share)
                stress[cpu] = _together(stress[cpu], mine) if cpu in stress else mine
        self._work.set_stress(stress)

    def hung_cpus(self) -> frozenset[int]:
        """Return the logical CPUs that do nothing any more."""
        return self._work.hung_cpus()

    def take_reset(self) -> bool:
        """Whether the machine has ended by itself and started again since the last call."""
        return self._work.take_reset()

    def missed_ticks(self, behind_s: float, interval_s: float) -> int:
        """The machine's clock stops while we work, so no tick is ever missed."""
        del behind_s, interval_s
        return 0


def _together(one: Stress, other: Stress) -> Stress:
    """What a logical CPU does that has two workers: each gets what the other leaves."""
    busy = min(1.0, one.busy + other.busy)
    half = one.busy / (one.busy + other.busy) if busy else 0.5
    heat, memory = (half * a + (1 - half) * b for a, b in ((one.heat, other.heat), (one.memory, other.memory)))
    return replace(one, busy=busy, heat=heat, memory=memory, wide=one.wide or other.wide)
