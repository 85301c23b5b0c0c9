"""The spawner: a small process that has numpy loaded and forks a worker on demand.

It is single-threaded, so that forking is safe, and it is the workers' parent: when it dies they die
(PDEATHSIG), and it ends them and itself when the engine's socket closes. Started as
`python -m thresher.loads.worker.spawner FD`.
"""

import contextlib
import importlib
import mmap
import os
import select
import signal
import socket
import sys

import msgspec

from thresher.loads.registry import LOADS
from thresher.loads.team.messages import (
    PACKET,
    SPAWNER_ORDERS,
    KillWorkers,
    SpawnWorker,
    WorkerEnded,
    WorkerStarted,
)
from thresher.loads.team.status_table import StatusTable
from thresher.loads.worker.worker import Worker, become_worker, report_failure


def _run_worker(order: SpawnWorker, fds: list[int], parent: int) -> None:
    orders = socket.socket(fileno=fds[0])
    try:
        become_worker(parent, order.cpu)
    except OSError as error:
        report_failure(orders, "pinning a worker", error, "Run on the CPUs that this process may use.")
        return
    table, shared = mmap.mmap(fds[1], 0), mmap.mmap(fds[2], 0)
    Worker(orders, StatusTable(table, order.workers), order, memoryview(shared)).serve()


def _load_kernels(order: SpawnWorker) -> None:
    """Load compiled kernels before the fork, so that workers share them."""
    if not order.plan.compiled:
        return
    for name in LOADS[order.plan.load].kernels:
        importlib.import_module(name)


def _fork(order: SpawnWorker, fds: list[int], control: socket.socket) -> int:
    parent = os.getpid()
    pid = os.fork()
    if pid:
        return pid
    code = 1
    try:
        control.close()
        _run_worker(order, fds, parent)
        code = 0
    except (BrokenPipeError, ConnectionResetError):
        code = 0  # the engine went away: nobody is left to report to
    finally:
        sys.stderr.flush()
        os._exit(code)  # no clean-up of the parent's copies


def serve(control: socket.socket) -> None:
    """Fork and reap workers until the engine's end of `control` closes."""
    wake_read, wake_write = os.pipe2(os.O_NONBLOCK | os.O_CLOEXEC)
    signal.signal(signal.SIGCHLD, lambda _number, _frame: None)
    signal.set_wakeup_fd(wake_write, warn_on_full_buffer=False)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    pids: dict[int, int] = {}
    while True:
        ready, _, _ = select.select([control.fileno(), wake_read], [], [])
        if wake_read in ready:
            os.read(wake_read, 4096)
            _reap(pids, control)
        if control.fileno() in ready:
            packet, fds, _, _ = socket.recv_fds(control, PACKET, 3)
            if not packet:
                break
            _carry_out(SPAWNER_ORDERS.decode(packet), fds, pids, control)
            for fd in fds:
                os.close(fd)
    for pid in pids.values():
        os.kill(pid, signal.SIGKILL)


def _carry_out(order: SpawnWorker | KillWorkers, fds: list[int], pids: dict[int, int], control: socket.socket) -> None:
    match order:
        case SpawnWorker():
            _load_kernels(order)
            pids[order.worker] = _fork(order, fds, control)
            control.send(msgspec.json.encode(WorkerStarted(order.worker, pids[order.worker])))
        case KillWorkers(workers):
            for worker in set(workers) & set(pids):
                os.kill(pids[worker], signal.SIGKILL)


def _reap(pids: dict[int, int], control: socket.socket) -> None:
    while pids:
        pid, status = os.waitpid(-1, os.WNOHANG)
        if not pid:
            return
        worker = next(number for number, each in pids.items() if each == pid)
        del pids[worker]
        # without the engine nobody is left to report to; the loop ends at the next read
        with contextlib.suppress(BrokenPipeError, ConnectionResetError):
            control.send(msgspec.json.encode(WorkerEnded(worker, os.waitstatus_to_exitcode(status))))


if __name__ == "__main__":
    with contextlib.suppress(ConnectionResetError):
        serve(socket.socket(fileno=int(sys.argv[1])))
