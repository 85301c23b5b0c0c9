"""Who is at the other end of a Unix socket, as the kernel says it (SO_PEERCRED, unix(7))."""

import os
import socket
import struct

_ROOT = 0


def peer_user(connection: socket.socket) -> int:
    """Return the user number of the process at the other end. Raises OSError."""
    credentials = connection.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, struct.calcsize("3i"))
    _process, user, _group = struct.unpack("3i", credentials)
    return int(user)


def is_trusted(user: int) -> bool:
    """Whether a process of that user may talk to one of ours: our own, and root, who can do everything anyway."""
    return user in (os.geteuid(), _ROOT)
