"""A worker's own page frames by way of the access helper (`thresher.privileged.served`, `worker_server`)."""

import os
import socket

_WAIT_S = 3.0


def page_frames(workers: int) -> int | None:
    """Ask for this process's page frames on the socket from `open_workers`; None when they are not given.

    Memory locks are allowed with it.
    """
    mine, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    with mine, theirs, socket.socket(fileno=os.dup(workers)) as ask:
        mine.settimeout(_WAIT_S)
        try:
            socket.send_fds(ask, [b"?"], [theirs.fileno()])
            _, descriptors, _, _ = socket.recv_fds(mine, 256, 1)
        except OSError:
            return None
        return descriptors[0] if descriptors else None
