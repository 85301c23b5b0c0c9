"""A small process that does nothing but take records out of `/dev/kmsg` before the kernel overwrites them.

A thread of the engine cannot: each record is one system call, after which the thread waits for the interpreter, and a
flood of thousands a second overwrites the kernel's ring meanwhile. Each record goes to standard output with its length
before it (32 bits, little-endian); the length `LOST` stands for a hole.
"""

import contextlib
import errno
import os
import re
import select
import sys
from collections import deque

LOST = 0xFFFFFFFF
_HOLE = LOST.to_bytes(4, "little")
RECORD_BYTES = 16384
"""Read size for one record: the kernel refuses (EINVAL) a buffer shorter than the record, and no record is longer than
CONSOLE_EXT_LOG_MAX (8192)."""
_MOST_BYTES = 256 << 20
"""What may wait for an engine that is busy; beyond it the oldest is given up and said to be lost."""


def main(path: str) -> None:
    """Pass records on until the engine has gone or the log is broken."""
    given = re.fullmatch(r"/dev/fd/(\d+)", path)  # one that was handed over cannot be opened a second time here
    log = int(given[1]) if given else os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    out = sys.stdout.fileno()
    os.set_blocking(out, False)
    ready = select.poll()
    ready.register(log, select.POLLIN)
    waiting: deque[bytes] = deque()
    held = 0
    while True:
        ready.register(out, select.POLLOUT if waiting else 0)  # a pipe whose other end has gone is always reported
        events = dict(ready.poll())
        if events.get(out, 0) & (select.POLLERR | select.POLLHUP | select.POLLNVAL):
            return
        pieces = _records(log)
        if not pieces and not waiting and events.get(log, 0) & (select.POLLHUP | select.POLLERR):
            return
        waiting.extend(pieces)
        held += sum(map(len, pieces))
        held -= give_up_oldest(waiting, held - _MOST_BYTES)
        while waiting:
            try:
                sent = os.write(out, waiting[0])
            except BlockingIOError:
                break
            held -= sent
            if sent < len(waiting[0]):
                waiting[0] = waiting[0][sent:]
            else:
                waiting.popleft()


def give_up_oldest(waiting: deque[bytes], excess: int) -> int:
    """Take at least so many bytes of the oldest pieces away, one mark of a hole in their place; return how many.

    The very oldest stays: a part of it may have been passed on already."""
    freed = 0
    if excess <= 0 or len(waiting) < 2:
        return freed
    begun = waiting.popleft()
    while waiting and freed < excess + len(_HOLE):
        freed += len(waiting.popleft())
    waiting.extendleft((_HOLE, begun))
    return freed - len(_HOLE)


def _records(log: int) -> list[bytes]:
    """Return what is there now, framed; raises OSError when the log is broken."""
    pieces = []
    for _ in range(2_000):  # then pass on what there is
        try:
            record = os.read(log, RECORD_BYTES)
        except BlockingIOError:
            break
        except OSError as error:
            if error.errno == errno.EPIPE:
                pieces.append(_HOLE)
                continue
            raise
        if not record:
            break
        pieces.append(len(record).to_bytes(4, "little") + record)
    return pieces


if __name__ == "__main__":
    with contextlib.suppress(KeyboardInterrupt, BrokenPipeError):
        main(sys.argv[1])
