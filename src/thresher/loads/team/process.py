"""Starting the spawner, the memory that workers share, and reading packets without waiting."""

import os
import socket
import subprocess
from collections.abc import Iterator

from thresher.loads.team.messages import PACKET
from thresher.model.errors import EnvironmentFault
from thresher.model.own_program import own_command


def waiting_packets(source: socket.socket) -> Iterator[bytes]:
    """Yield the packets waiting in a socket; an empty one when the other end is closed."""
    while True:
        try:
            packet = source.recv(PACKET, socket.MSG_DONTWAIT)
        except BlockingIOError:
            return
        except ConnectionResetError:
            packet = b""
        yield packet
        if not packet:
            return


def memory_file(name: str, size: int) -> int:
    """Return a file descriptor of shared memory of so many bytes. Raises EnvironmentFault."""
    fd = os.memfd_create(name, os.MFD_CLOEXEC)
    try:
        os.ftruncate(fd, size)
    except OSError as error:
        os.close(fd)
        raise EnvironmentFault(
            f"taking {size >> 20} MiB of memory", os.strerror(error.errno or 0), "Choose a smaller working set."
        ) from error
    return fd


def start_spawner(frames: int | None = None) -> tuple[socket.socket, subprocess.Popen[bytes]]:
    """Start the spawner; return our end of its socket and the process.

    `frames` is the socket by which workers get their page frames; they have it under the same number.
    """
    mine, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    # more than one BLAS thread a worker would fight with the neighbours for their cores
    environment = os.environ | {"OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}
    with theirs:
        process = subprocess.Popen(
            own_command("thresher.loads.worker.spawner", str(theirs.fileno())),
            pass_fds=[theirs.fileno(), *(() if frames is None else (frames,))],
            env=environment,
            start_new_session=True,
            stdin=subprocess.DEVNULL,
        )
    return mine, process
