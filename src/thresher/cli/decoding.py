"""What `thresher decode` does: reading what was given, and printing what it is."""

import io
import shutil
import subprocess
import sys
from pathlib import Path
from typing import cast

from thresher.cli.output import say, say_json
from thresher.codes.stop_codes import HEADER_BYTES, looks_like_dump
from thresher.decoding.logs import read_log
from thresher.decoding.recognise import (
    Decoded,
    Tables,
    decode_bytes,
    decode_text,
    load_tables,
    things_of_log,
)
from thresher.decoding.text import lines_of
from thresher.events.firmware_records import looks_like_record
from thresher.events.log_forms import ByteStream
from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.model.regular_file import is_file, shown_name
from thresher.model.vendors import Vendor
from thresher.system_logs.event_log import looks_like_event_log
from thresher.system_logs.installed import FileKind
from thresher.system_logs.read_process import read_apart

_LARGEST_RECORD = 1 << 20
_TYPED_BYTES = 4096
"""What is shorter on standard input may be a register or a code, not a log."""


def decode_given(what: str, vendor: Vendor) -> Decoded:
    """Decode a file by its name, standard input for `-`, or a text. Raises InputError or EnvironmentFault."""
    tables = load_tables()
    if what == "-":
        return _decode_input(tables, vendor)
    path = Path(what)
    if len(what) < 4096 and "\n" not in what and is_file(path):
        return decode_file(path, vendor, tables)
    decoded = decode_text(what, vendor, tables)
    if decoded.unknown:
        expected = (
            "expected a fault code such as P-310, a register, a stop code with its parameters in brackets, lines of a"
            " kernel log, the name of a file, or -"
        )
        raise InputError(repr(what[:60]), [InputFault("decode", f"{decoded.unknown}; {expected}")])
    return decoded


def _decode_input(tables: Tables, vendor: Vendor) -> Decoded:
    if sys.stdin is None:
        raise EnvironmentFault("reading standard input", "it is closed", "Give a file, or pipe something in.")
    stream: ByteStream = sys.stdin.buffer
    head = stream.read(_TYPED_BYTES)
    if looks_like_record(head) or looks_like_dump(head):
        return decode_bytes(head + stream.read(_LARGEST_RECORD), "standard input", vendor, tables)
    if len(head) < _TYPED_BYTES and not (typed := decode_text(head.decode("utf-8", "replace"), vendor, tables)).unknown:
        return typed
    log = read_log(io.BufferedReader(_Continued(head, stream)), vendor, tables.codes, tables.events)
    return Decoded(tuple(things_of_log(log, vendor, tables)), log)


class _Continued(io.RawIOBase):
    """A stream with its first bytes, which were read already, put back."""

    def __init__(self, head: bytes, rest: ByteStream) -> None:
        self._head = io.BytesIO(head)
        self._rest = rest

    def readable(self) -> bool:
        """It can be read."""
        return True

    def readinto(self, buffer: "bytearray | memoryview", /) -> int:  # type: ignore[override]  # the typed form is private
        """Fill a buffer as far as possible and return with how many bytes, 0 at the end."""
        more = self._head.read(len(buffer)) or self._rest.read(len(buffer))
        buffer[: len(more)] = more
        return len(more)


def decode_file(path: Path, vendor: Vendor, tables: Tables) -> Decoded:
    """Decode a file: a firmware record, a crash dump's header, an event log, or a log of any size, read as a stream.

    Raises InputError for a file in a form that cannot be read, EnvironmentFault for one that cannot be opened.
    """
    try:
        with path.open("rb") as stream:
            head = stream.read(HEADER_BYTES)
            if looks_like_event_log(head):
                log = read_apart(path, FileKind.EVENT_LOG.value, vendor).log
                return Decoded(tuple(things_of_log(log, vendor, tables)), log)
            if looks_like_record(head):
                return decode_bytes(head + stream.read(_LARGEST_RECORD), shown_name(path), vendor, tables)
            if looks_like_dump(head):
                return decode_bytes(head, shown_name(path), vendor, tables)
            if len(head) < 400:
                return decode_bytes(head, shown_name(path), vendor, tables)
            stream.seek(0)
            log = read_log(stream, vendor, tables.codes, tables.events)
    except OSError as error:
        raise EnvironmentFault(
            f"reading {path}", error.strerror or str(error), "Choose a file that can be read."
        ) from error
    return Decoded(tuple(things_of_log(log, vendor, tables)), log)


def decode_boot(boot: int, vendor: Vendor) -> Decoded:
    """Decode the kernel log of this boot (0) or an earlier one (-1, -2 …) as the system's journal keeps it.

    Raises EnvironmentFault where there is no journal, or none of that boot.
    """
    tried = f"reading the kernel log of boot {boot}"
    program = shutil.which("journalctl")
    if program is None:
        raise EnvironmentFault(tried, "this system keeps no journal", "Give a saved log, such as one of /var/log.")
    tables = load_tables()
    command = [program, "--dmesg", f"--boot={boot}", "--output=json", "--no-pager", "--quiet"]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE) as process:
        assert process.stdout is not None
        assert process.stderr is not None
        log = read_log(cast(ByteStream, process.stdout), vendor, tables.codes, tables.events)
        words = process.stderr.read().decode("utf-8", "replace").strip()
        code = process.wait()
    if code or not log.lines:
        happened = words or "the journal holds nothing of that boot"
        raise EnvironmentFault(tried, happened, "thresher decode FILE reads saved logs.")
    return Decoded(tuple(things_of_log(log, vendor, tables)), log)


def print_decoded(decoded: Decoded, json: bool) -> None:
    """Print what came of it."""
    if json:
        say_json(decoded)
        return
    if (log := decoded.log) is not None and (log.lines > 1 or not decoded.things):
        others = f", {log.others} of other programs" if log.others else ""
        damaged = f", {log.damaged} in no form that is known" if log.damaged else ""
        lines = "1 line" if log.lines == 1 else f"{log.lines} lines"
        signs = f"{log.count} sign{'s' if log.count != 1 else ''} of trouble"
        groups = f" in {len(log.groups)} groups" if len(log.groups) > 1 else ""
        say(f"{lines} read{others}{damaged}: {signs}{groups}\n")
    for number, thing in enumerate(decoded.things):
        if number:
            say("")
        for line in lines_of(thing):
            say(line)
