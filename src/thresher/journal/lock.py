"""Locks on files and folders that two programs must not write at the same time, with who holds them.

The lock is the kernel's own (flock(2)), so it ends with the process that holds it, however that dies. The text in the
lock file is for people.
"""

import contextlib
import fcntl
import os
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from thresher.model.errors import EnvironmentFault
from thresher.model.regular_file import is_folder

_RETRY_S = 0.02
_HELD = "Close it there, wait until it ends, or look at it read only: thresher --look FILE."


@dataclass(frozen=True, slots=True)
class Lock:
    """A lock that is held; `close` releases it."""

    stream: IO[str]

    def close(self) -> None:
        """Release the lock."""
        self.stream.close()


def lock_path(path: Path) -> Path:
    """Return the lock file of a file or folder: beside a file, inside a folder."""
    return path / ".lock" if is_folder(path) else path.with_name(f".{path.name}.lock")


def acquire(path: Path, what: str, wait_s: float = 0.0) -> Lock:
    """Lock a file or folder for this process. Raises EnvironmentFault that names who holds it."""
    file = lock_path(path)
    try:
        descriptor = os.open(file, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)
    except OSError as error:
        raise EnvironmentFault(
            f"opening {what} {path}", error.strerror or str(error), "Choose a folder that you can write to."
        ) from error
    stream = os.fdopen(descriptor, "r+", encoding="utf-8")
    until = time.monotonic() + wait_s
    while True:
        try:
            fcntl.flock(stream, fcntl.LOCK_EX | fcntl.LOCK_NB)
            break
        except OSError:
            if time.monotonic() >= until:
                holder = stream.read(200).strip() or "another process"
                stream.close()
                raise EnvironmentFault(f"opening {what} {path}", f"{holder} has it open", _HELD) from None
            time.sleep(_RETRY_S)
    with contextlib.suppress(OSError):  # on a full drive the lock holds all the same; only who holds it stays unsaid
        os.truncate(descriptor, 0)
        os.write(descriptor, f"process {os.getpid()} of user {os.getuid()}\n".encode())
    return Lock(stream)


def holder(path: Path) -> str | None:
    """Return who holds the lock of a file or folder, None when nobody does or that cannot be seen."""
    try:
        descriptor = os.open(lock_path(path), os.O_RDONLY | os.O_CLOEXEC | os.O_NOFOLLOW)
    except OSError:
        return None
    with os.fdopen(descriptor, encoding="utf-8", errors="replace") as stream:
        try:
            fcntl.flock(stream, fcntl.LOCK_SH | fcntl.LOCK_NB)
        except OSError:
            return stream.read(200).strip() or "another process"
    return None


@contextlib.contextmanager
def locked(path: Path, what: str, wait_s: float = 2.0) -> Iterator[None]:
    """Hold a lock for a moment. Raises EnvironmentFault when it cannot be had in time."""
    held = acquire(path, what, wait_s)
    try:
        yield
    finally:
        held.close()
