"""Kernel log records: `/dev/kmsg` (kernel document ABI/testing/dev-kmsg), and following a machine's log."""

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from thresher.model.errors import SourceUnavailable
from thresher.model.port import System

_KMSG = re.compile(rb"^(\d{1,10}),(\d{1,20}),(\d{1,20}),([^;\n]*);(.*)$", re.DOTALL)
_ESCAPE = re.compile(rb"\\x([0-9a-fA-F]{2})")


@dataclass(frozen=True, slots=True)
class KernelRecord:
    """One record: sequence number (None where the text form has none), seconds since boot, level 0 to 7, text.

    `wall` is Unix time where the form gives it, `boot` the boot that it belongs to where several are mixed.
    `facility` is 0 for what the kernel itself reports; others are texts that programs wrote into its log.
    """

    sequence: int | None
    at: float | None
    level: int | None
    text: str
    wall: float | None = None
    boot: str = ""
    facility: int = 0

    @property
    def time(self) -> float | None:
        """Seconds since boot where given, otherwise Unix time."""
        return self.at if self.at is not None else self.wall


@dataclass(frozen=True, slots=True)
class Undecoded:
    """A record that is not in the expected form, kept as it came."""

    raw: bytes
    reason: str


def parse_kmsg(record: bytes) -> KernelRecord | Undecoded:
    """Parse one record of `/dev/kmsg`; never raises."""
    match = _KMSG.match(record)
    if not match:
        return Undecoded(record, "expected 'priority,sequence,microseconds,flags;text'")
    first_line = match[5].split(b"\n", 1)[0]
    text = first_line.decode("utf-8", "replace")
    if b"\\x" in first_line:
        text = _ESCAPE.sub(lambda escape: bytes([int(escape[1], 16)]), first_line).decode("utf-8", "replace")
    priority = int(match[1])
    return KernelRecord(int(match[2]), int(match[3]) / 1e6, priority & 7, text, facility=priority >> 3)


class KernelLogFollower:
    """Hands out the records of a machine's log in order, each once, going on after a given sequence number."""

    def __init__(self, system: System, after: int | None = None) -> None:
        """Open the log; `after` is the last sequence number already seen in this boot. Raises SourceUnavailable."""
        self._log = system.open_kernel_log()
        self.last_sequence = after
        self.undecoded: list[Undecoded] = []

    @property
    def lost(self) -> int:
        """How often the kernel overwrote records before they could be read."""
        return self._log.lost

    def poll(self) -> tuple[list[KernelRecord], str | None]:
        """Return the new records, and the reason when the log cannot be read now."""
        try:
            raw = self._log.read_records()
        except SourceUnavailable as error:
            return [], error.reason
        return list(self._accept(raw)), None

    def _accept(self, raw: Iterable[bytes]) -> Iterator[KernelRecord]:
        for record in raw:
            parsed = parse_kmsg(record)
            if isinstance(parsed, Undecoded):
                self.undecoded.append(parsed)
                continue
            if self.last_sequence is not None and parsed.sequence is not None and parsed.sequence <= self.last_sequence:
                continue
            self.last_sequence = parsed.sequence
            yield parsed

    def close(self) -> None:
        """Close the log."""
        self._log.close()
