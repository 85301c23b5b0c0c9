"""Errors that firmware hands to the kernel, as the kernel prints them: a block of lines a record.

Source of the lines: drivers/firmware/efi/cper.c and drivers/acpi/apei (ghes.c, bert.c).
"""

import re
from collections.abc import Iterable
from dataclasses import dataclass, field

from thresher.events.kernel_log import KernelRecord

_LINE = re.compile(r"^(?P<record>\{\d+\})?\[Hardware Error\]:\s{2,}(?:(?P<name>[A-Za-z_ ]{1,40}?): )?(?P<value>.*)$")
"""A line inside a section: it is set in by two blanks at least, which lines of machine checks are not."""
_START = re.compile(r"Hardware error from APEI Generic Hardware Error Source: (\d+)|event severity: (\S+)")
_ERROR = re.compile(r"\s+Error \d+, type: (\S+)")
_SECTION = re.compile(r"section_type: (.+)")
_MOST_LINES = 40


@dataclass(slots=True)
class FirmwareBlock:
    """One section of a record as printed: its kind, severity (`corrected`, `recoverable`, `fatal`, `info`), fields."""

    at: float | None
    section: str
    severity: str
    record: str = ""
    fields: dict[str, str] = field(default_factory=dict)
    raw: list[str] = field(default_factory=list)


class FirmwareAssembler:
    """Joins the lines of one section; feed it records in order."""

    def __init__(self) -> None:
        """Nothing is pending."""
        self._severity = ""
        self._pending: FirmwareBlock | None = None

    def feed(self, records: Iterable[KernelRecord]) -> list[FirmwareBlock]:
        """Take in records and return the sections that are complete now."""
        done: list[FirmwareBlock] = []
        for record in records:
            text = record.text
            line = _LINE.match(text)
            if start := _START.search(text):
                done += self.flush()
                self._severity = start[2] or self._severity
            elif error := _ERROR.search(text):
                done += self.flush()
                self._severity = error[1]
            elif section := _SECTION.search(text) if line is not None else None:
                done += self.flush()
                number = (line["record"] or "") if line is not None else ""
                self._pending = FirmwareBlock(record.time, section[1].strip(), self._severity, number, raw=[text])
            elif line is not None and self._pending is not None and (line["record"] or "") == self._pending.record:
                self._add(self._pending, text, line)
            else:  # another line ends the section
                done += self.flush()
        return done

    def _add(self, pending: FirmwareBlock, text: str, line: "re.Match[str]") -> None:
        if len(pending.raw) >= _MOST_LINES:
            return
        pending.raw.append(text)
        if line["name"]:
            pending.fields[line["name"].strip()] = line["value"].strip()
        for name, value in re.findall(r"\b(node|card|module|rank|bank|device|row|column|bit_position):\s?(\d+)", text):
            pending.fields[name] = value

    def flush(self) -> list[FirmwareBlock]:
        """Return what is pending although its last line never came."""
        pending, self._pending = self._pending, None
        return [pending] if pending else []
