"""Reads one file of another system in a process of its own, without rights, and writes what came of it as JSON.

Usage: python -m thresher.system_logs.worker KIND NAME VENDOR, with the file on standard input. The file may be crafted
to attack its reader: so this process gives up root once the file is open, and limits its memory and time.
"""

import os
import resource
import stat
import sys
from collections.abc import Callable
from typing import BinaryIO

import msgspec

from thresher.decoding.logs import read_log
from thresher.decoding.recognise import Tables, load_tables
from thresher.model.errors import InputError
from thresher.model.vendors import Vendor
from thresher.system_logs.event_log import EventLogRead, read_event_log
from thresher.system_logs.meanings import load_meanings

MEMORY_BYTES = 2 << 30
LONGEST_S = 600
"""Processor time at most, also for what comes through a pipe."""
_AT_LEAST_S, _BYTES_A_SECOND = 30, 400_000
"""A small file that takes longer than that is made so, or damaged so that its parser turns in circles."""
NOBODY = 65534
"""The account that owns nothing, of the same number on Debian and its relatives."""


def seconds_for(size: int) -> int:
    """Return how much processor time a file of so many bytes may take; 0 bytes is a pipe, whose length is not known."""
    return min(LONGEST_S, _AT_LEAST_S + size // _BYTES_A_SECOND) if size else LONGEST_S


def limit_itself() -> None:
    """Give up root, and limit memory and time (getrlimit(2), setresuid(2))."""
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY_BYTES, MEMORY_BYTES))
    status = os.fstat(sys.stdin.fileno())
    seconds = seconds_for(status.st_size if stat.S_ISREG(status.st_mode) else 0)
    resource.setrlimit(resource.RLIMIT_CPU, (seconds, seconds))
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    if os.geteuid() == 0:
        os.setgroups([])
        os.setresgid(NOBODY, NOBODY, NOBODY)
        os.setresuid(NOBODY, NOBODY, NOBODY)


def _event_log(stream: BinaryIO, name: str, tables: Tables, vendor: Vendor) -> EventLogRead:
    return read_event_log(stream, name, tables, load_meanings(), vendor)


def _text_log(stream: BinaryIO, name: str, tables: Tables, vendor: Vendor) -> EventLogRead:
    return EventLogRead(read_log(stream, vendor, tables.codes, tables.events), (), (), 0)


KINDS: dict[str, Callable[[BinaryIO, str, Tables, Vendor], EventLogRead]] = {
    "event-log": _event_log,
    "text-log": _text_log,
}
"""What can be read, by the word on the command line."""


def main(arguments: list[str]) -> int:
    """Read the file and write one JSON object; 2 and the reason on the error output where it cannot be read."""
    kind, name, vendor = arguments
    read, tables, layout = KINDS[kind], load_tables(), Vendor(vendor)
    limit_itself()
    try:
        found = read(sys.stdin.buffer, name, tables, layout)
    except InputError as error:
        print("; ".join(fault.message for fault in error.faults), file=sys.stderr)
        return 2
    except MemoryError:
        print("it needs more memory than its reader may use", file=sys.stderr)
        return 2
    sys.stdout.buffer.write(msgspec.json.encode(found))
    sys.stdout.buffer.flush()
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
