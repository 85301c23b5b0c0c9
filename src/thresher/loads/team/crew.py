"""The worker processes behind a team: started by the spawner, given orders, heard, killed, and counted to the last."""

import contextlib
import os
import select
import signal
import socket
import subprocess
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

import msgspec

from thresher.loads.plan import LoadPlan
from thresher.loads.team.messages import (
    REPORTS,
    SPAWNER_REPORTS,
    KillWorkers,
    Order,
    Report,
    SpawnWorker,
    WorkerEnded,
    WorkerStarted,
)
from thresher.loads.team.process import start_spawner, waiting_packets
from thresher.model.errors import EnvironmentFault
from thresher.model.port import Pacing
from thresher.model.sheet import Shape


@dataclass(slots=True)
class Member:
    """One worker: its logical CPU, and its process id and exit code as far as the spawner has reported them.

    `waiting` is set from an order until it is carried out.
    """

    cpu: int
    socket: socket.socket
    pid: int | None = None
    code: int | None = None
    waiting: bool = False


@dataclass(frozen=True, slots=True)
class SpawnerEnded:
    """The process that starts workers has ended, and its workers with it."""


CrewReport = Report | WorkerEnded | SpawnerEnded


@dataclass(slots=True)
class Crew:
    """Processes and the sockets to them. Not thread-safe."""

    control: socket.socket
    spawner: "subprocess.Popen[bytes]"
    members: dict[int, Member] = field(default_factory=dict)

    @property
    def alive(self) -> dict[int, Member]:
        """The workers that have not ended."""
        return {worker: member for worker, member in self.members.items() if member.code is None}

    def cpu_of(self) -> dict[int, int]:
        """Return the logical CPU of each worker."""
        return {worker: member.cpu for worker, member in self.members.items()}

    def two_after(self, worker: int) -> list[int]:
        """Return the next two workers in the circle that are alive."""
        count = len(self.members)
        order = [(worker + step) % count for step in range(1, count)]
        return [each for each in order if self.members[each].code is None][:2]

    def order(self, worker: int, order: Order) -> None:
        """Send an order. A worker that has died does not answer: the spawner reports its end."""
        member = self.members[worker]
        member.waiting = True
        with contextlib.suppress(OSError):
            member.socket.send(msgspec.json.encode(order))

    def kill(self, workers: Sequence[int]) -> None:
        """Let the spawner kill workers."""
        with contextlib.suppress(OSError):
            self.control.send(msgspec.json.encode(KillWorkers(tuple(workers))))

    def reports(self, wait_s: float) -> Iterator[tuple[int, CrewReport]]:
        """Wait at most so long for what workers and spawner report, each with its worker's number."""
        by_fd = {member.socket.fileno(): worker for worker, member in self.alive.items()}
        poller = select.poll()
        for fd in (*by_fd, self.control.fileno()):
            poller.register(fd, select.POLLIN)
        closed = False
        for fd, _ in poller.poll(wait_s * 1000):
            if fd == self.control.fileno():
                yield from self._from_spawner()
                continue
            for packet in waiting_packets(self.members[by_fd[fd]].socket):
                if not packet:
                    closed = True
                    break
                yield by_fd[fd], REPORTS.decode(packet)
        if closed:
            time.sleep(0.002)  # the spawner has yet to report how it ended; do not spin on the closed socket
            if self.spawner.poll() is not None:
                yield from self._spawner_ended()

    def _from_spawner(self) -> Iterator[tuple[int, CrewReport]]:
        for packet in waiting_packets(self.control):
            if not packet:
                self.spawner.wait()
                yield from self._spawner_ended()
                return
            match SPAWNER_REPORTS.decode(packet):
                case WorkerStarted(worker, pid):
                    self.members[worker].pid = pid
                case WorkerEnded(worker) as ended:
                    yield from self._ended(worker, ended)

    def _ended(self, worker: int, ended: WorkerEnded) -> Iterator[tuple[int, CrewReport]]:
        member = self.members[worker]
        for packet in waiting_packets(member.socket):  # its last reports may still be in the socket
            if not packet:
                break
            yield worker, REPORTS.decode(packet)
        member.code = ended.code
        yield worker, ended

    def _spawner_ended(self) -> Iterator[tuple[int, CrewReport]]:
        left = self.alive
        for member in left.values():
            member.code = -signal.SIGKILL
        yield 0, SpawnerEnded()
        for worker in left:
            yield worker, WorkerEnded(worker, -signal.SIGKILL)

    def close(self) -> None:
        """Let the spawner end, and close the sockets."""
        self.control.close()
        try:
            self.spawner.wait(timeout=1.0)
        except subprocess.TimeoutExpired:
            self.spawner.kill()
            self.spawner.wait()
        for member in self.members.values():
            member.socket.close()


def start_crew(
    cpus: Sequence[int], plan: LoadPlan, pacing: Pacing, shape: Shape, words: int, memory: tuple[int, int]
) -> Crew:
    """Start one worker for each logical CPU over the files of shared `memory`, which are closed here afterwards.

    `words` is how many simulated memory words a worker walks. Raises EnvironmentFault when it cannot be done.
    """
    frames = pacing.page_frames() if words else None
    crew = Crew(*start_spawner(frames))
    try:
        for worker, cpu in enumerate(cpus):
            mine, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
            crew.members[worker] = Member(cpu, mine)
            setup = pacing.worker_setup(worker, len(cpus), cpu, words)
            order = SpawnWorker(
                worker,
                len(cpus),
                setup.pin,
                plan,
                shape,
                pacing.paced,
                faults=setup.faults,
                base=setup.base,
                stride=setup.stride,
                frames=frames,
            )
            with theirs:
                socket.send_fds(crew.control, [msgspec.json.encode(order)], [theirs.fileno(), *memory])
    except OSError as error:
        crew.close()
        reason = error.strerror or str(error)
        raise EnvironmentFault("starting the workers", reason, "Look at the engine's log.") from error
    finally:
        for fd in memory:
            os.close(fd)
    return crew
