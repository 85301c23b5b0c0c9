"""The process that reads what the log service has stored of one boot. Usage: python -m thresher.machine.boot_log ID
MOST

It reads through the public interface of systemd's library, sd-journal(3), and prints a line of JSON an entry, newest
first: Unix time, seconds since boot, who wrote it, text. A process of its own, because the files may lie on a drive
that does not answer, and because a library that stumbles over a damaged file must not take the engine with it.
"""

import contextlib
import ctypes
import ctypes.util
import json
import os
import sys
from collections.abc import Iterator

_LOCAL_ONLY = 1
_MOST_TEXT = 2_000
_ID_BYTES = 16


class NoLog(Exception):
    """Why there is nothing to be read."""


def main(boot_id: str, most: str) -> int:
    """Print the entries; the exit code is 1 with a reason on standard error when there are none."""
    try:
        for entry in entries(boot_id, int(most)):
            print(json.dumps(entry))
    except NoLog as reason:
        print(reason, file=sys.stderr)
        return 1
    return 0


def entries(boot_id: str, most: int) -> Iterator[tuple[float, float, str, str]]:
    """Yield the newest entries of a boot. Raises NoLog."""
    library = _library()
    journal = ctypes.c_void_p()
    code = library.sd_journal_open(ctypes.byref(journal), _LOCAL_ONLY)
    if code < 0:
        raise NoLog(f"the log service's files cannot be opened: {os.strerror(-code)}")
    try:
        match = f"_BOOT_ID={boot_id.replace('-', '')}".encode()
        if library.sd_journal_add_match(journal, match, 0) < 0 or library.sd_journal_seek_tail(journal) < 0:
            raise NoLog("the log service's files cannot be searched")
        found = 0
        while found < most and library.sd_journal_previous(journal) > 0:
            found += 1
            yield (
                _time(library.sd_journal_get_realtime_usec, journal),
                # without room for the boot's id the library refuses entries of any boot but the present one (ESTALE)
                _time(library.sd_journal_get_monotonic_usec, journal, ctypes.create_string_buffer(_ID_BYTES)),
                "kernel" if _field(library, journal, "_TRANSPORT") == "kernel" else _writer(library, journal),
                _field(library, journal, "MESSAGE")[:_MOST_TEXT],
            )
        if not found:
            raise NoLog(_why_nothing(bool(library.sd_journal_has_persistent_files(journal) > 0)))
    finally:
        library.sd_journal_close(journal)


def _library() -> ctypes.CDLL:
    try:
        library = ctypes.CDLL("libsystemd.so.0")
    except OSError as error:
        raise NoLog("this system has no log service of systemd") from error
    for name in ("sd_journal_get_data", "sd_journal_get_realtime_usec", "sd_journal_get_monotonic_usec"):
        getattr(library, name).restype = ctypes.c_int
    library.sd_journal_close.restype = None
    return library


def _why_nothing(persistent: bool) -> str:
    if not persistent:
        return "the log of earlier boots is not kept: make /var/log/journal, or the user may not read it"
    return "nothing of that boot is stored, or this user may not read it (group systemd-journal)"


def _time(function: object, journal: ctypes.c_void_p, *more: object) -> float:
    value = ctypes.c_uint64()
    code = function(journal, ctypes.byref(value), *more)  # type: ignore[operator]  # a function of the library
    return value.value / 1e6 if code >= 0 else 0.0


def _field(library: ctypes.CDLL, journal: ctypes.c_void_p, name: str) -> str:
    data, length = ctypes.c_void_p(), ctypes.c_size_t()
    if library.sd_journal_get_data(journal, name.encode(), ctypes.byref(data), ctypes.byref(length)) < 0:
        return ""
    content = ctypes.string_at(data, length.value) if data.value else b""
    return content.partition(b"=")[2].decode("utf-8", "replace")


def _writer(library: ctypes.CDLL, journal: ctypes.c_void_p) -> str:
    return _field(library, journal, "SYSLOG_IDENTIFIER") or _field(library, journal, "_COMM")


if __name__ == "__main__":
    with contextlib.suppress(BrokenPipeError, KeyboardInterrupt):
        sys.exit(main(sys.argv[1], sys.argv[2]))
