"""The relay as a load: its workers' task, and the core-to-core round trips that it reports."""

from collections.abc import Callable, Sequence

import numpy as np

from thresher.loads.compute.relay import Line, Relay, relay_bytes, round_trip_times, signed
from thresher.loads.load import Load, Reporter, Task
from thresher.loads.plan import LoadPlan
from thresher.loads.status import LoadStatus, RoundTripStatus
from thresher.loads.team.messages import Mismatch, SpawnWorker
from thresher.loads.team.watch import QuietWatch
from thresher.model.parts import PartKind
from thresher.model.port import BitFlip
from thresher.model.sheet import WorkingSet

_MOST_TRIES = 2000
"""Looks of a paced worker at a meeting before it gives up on the other side."""


class RelayTask(Task):
    """Messages between this worker and the others."""

    def __init__(self, order: SpawnWorker, shared: memoryview, reporter: Reporter) -> None:
        """Begin with the first meeting."""
        self._relay = Relay(order.plan, shared, order.worker, order.workers, order.paced)
        self._paced = order.paced
        self._reporter = reporter
        self._beat = 0

    def make(self) -> None:
        """Messages need no reference: each carries its own checksum."""

    def confirm(self) -> list[int]:
        """There is no reference to confirm."""
        return []

    def begin(self) -> None:
        """Everything is there already."""

    def age(self, seconds: float, temperature_c: float) -> None:
        """Messages do not age."""

    def do_beat(self, flips: Sequence[BitFlip]) -> bool:
        """Continue with the meeting under way."""
        if self._relay.partner is None:
            self._relay.meet()
            return False  # a turn without anybody to meet is no beat
        spoil = _spoil_first(flips)
        tries = 0
        while True:
            ended, wrong = self._relay.meet(spoil)
            spoil = None
            if wrong is not None and (count := self._reporter.count_to_report()):
                shown = (wrong.word,)
                self._reporter.send(Mismatch(self._beat, 1, 2, shown, 0, 0, count, partner=wrong.partner))
            tries += 1
            # alone at a meeting for long: the other may have been stopped or stalled, which its heartbeat shows
            if ended or not self._paced or tries > _MOST_TRIES:
                break
        self._beat += ended
        return ended

    def recheck(self, beat: int) -> bool:
        """What two cores passed cannot be done again by others."""
        del beat
        return True


def _spoil_first(flips: Sequence[BitFlip]) -> Callable[[Line], None] | None:
    if not flips:
        return None

    def spoil(word: Line) -> None:
        for flip in flips:
            word[0] ^= np.int64(signed(1 << flip.bit))

    return spoil


class RelayWatch(QuietWatch):
    """Reports the round trips, and the slowest pair when the load ends."""

    _kept: RoundTripStatus | None = None

    def status(self) -> LoadStatus | None:
        """Return the shortest round trip between each two logical CPUs that have met."""
        cpus = self.context.team.all_cpus()
        times = self.context.pacing.round_trips_ns(cpus)
        if times is None:
            measured = round_trip_times(self.context.team.shared, len(cpus))
            times = {
                (cpus[one], cpus[other]): measured[one][other]
                for one in range(len(cpus))
                for other in range(one + 1, len(cpus))
                if measured[one][other]
            }
        if times:
            self._kept = RoundTripStatus(tuple((*pair, ns) for pair, ns in times.items()))
        return self._kept

    def end(self) -> None:
        """Report what round trips took, the slowest pair by name."""
        self.status()
        if self._kept is None:
            return
        one, other, slowest = max(self._kept.pairs, key=lambda each: each[2])
        fastest = min(ns for _, _, ns in self._kept.pairs)
        detail = f"{fastest:.0f} to {slowest:.0f} ns, slowest between CPU {one} and CPU {other}"
        self.context.tape.note("Core-to-core round trip", detail, part=PartKind.PROCESSOR)


LOAD = Load(
    "relay",
    PartKind.PROCESSOR,
    "cache lines handed from core to core, every pair in turn",
    "faults of coherence and of what connects the cores",
    (WorkingSet.SHARED_CACHE,),
    lambda request: LoadPlan("relay", 1, 1, working_set=WorkingSet.SHARED_CACHE, compiled=request.compiled),
    lambda block: LoadPlan("relay", 1, 1, precision=block.precision),
    lambda _plan, workers: relay_bytes(workers),
    RelayTask,
    lambda _plan: 1,
    RelayWatch,
    0.35,
    kernels=("thresher.loads.kernels.passing",),
    pairs_workers=True,
    misses="arithmetic units, memory, supply and cooling",
)
