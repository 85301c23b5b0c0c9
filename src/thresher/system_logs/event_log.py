"""An event log of the other common desktop system: findings with their times, a timeline, and hours of use.

Providers, numbers and data as the system's maker publishes them; the hardware error record in an event 17 to 20 of the
hardware error logger is a Common Platform Error Record (UEFI Specification, appendix N), which is decoded like any.
"""

import re
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import BinaryIO

from thresher.codes.stop_codes import Stop, plain_number, read_stop
from thresher.decoding.groups import Grouper
from thresher.decoding.logs import LogDecoded, NotedLine
from thresher.decoding.recognise import Tables, thing_of_check, thing_of_stop
from thresher.events.findings import KernelDecoder
from thresher.events.firmware_records import finding_of_section, looks_like_record, parse_record
from thresher.events.machine_checks.registers import MachineCheck
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import PartKind
from thresher.model.vendors import Vendor
from thresher.system_logs.meanings import EventMeaning, Meanings, Special, TimelineKind
from thresher.system_logs.records import MAGIC, Damage, Record, read_records
from thresher.system_logs.use import DayOfUse, UseCounter

_MOST_FINDINGS = 500
_DAY_S = 86400.0
_MOST_ENTRIES = 4_000
_SAME_END_S = 900.0
"""Event 41, 6008 and the stop code of one end are all written at the start after it, within minutes."""
_DRIVE = re.compile(r"(?i)\\device\\(?:harddisk(\d+)|raidport(\d+)|ide\\ide(?:port)?(\d+))")
_HARDWARE_STOP = 0x124
_UNCORRECTED = (
    FindingKind.UNCORRECTED_CHECK,
    FindingKind.MEMORY_UNCORRECTED,
    FindingKind.LINK_UNCORRECTED,
)
_Same = tuple[str, str, str, int | None, int]
"""Code, title, place, address and day of equal findings."""
_PLACE = re.compile(r"\{(\w+)\}")


@dataclass(frozen=True, slots=True)
class TimelineEntry:
    """One entry of a machine's timeline: when (Unix seconds), its kind, and what it was."""

    at: float
    kind: TimelineKind
    title: str
    detail: str = ""


@dataclass(frozen=True, slots=True)
class EventLogRead:
    """What an event log came to. `log` has findings and harmless notes like every log; `unknown` counts other events.

    `damaged` are the first words about records that could not be read; `left_out` counts old findings beyond the most
    that are kept.
    """

    log: LogDecoded
    timeline: tuple[TimelineEntry, ...]
    use: tuple[DayOfUse, ...]
    unknown: int
    damaged: tuple[str, ...] = ()
    left_out: int = 0


@dataclass(frozen=True, slots=True)
class _End:
    """A sudden end as the next start found it: the stop code in it, whether a person or sleep had to do with it."""

    at: float
    stop: Stop | None
    held: bool
    asleep: bool
    raw: str


def looks_like_event_log(content: bytes) -> bool:
    """Whether bytes begin as an event log does."""
    return content[:8] == MAGIC


def read_event_log(
    stream: BinaryIO, source: str, tables: Tables, meanings: Meanings, vendor: Vendor = Vendor.UNKNOWN
) -> EventLogRead:
    """Read a log to its end. Raises InputError for a file that is none."""
    reader, damage = _Reader(source, tables, meanings, vendor), Damage()
    for record in read_records(stream, source, damage):
        reader.take(record)
    return reader.outcome(damage)


def findings_of_record(content: bytes, source: str, vendor: Vendor, tables: Tables) -> tuple[Finding, ...]:
    """Return what an error record of firmware is evidence of, section by section, with addresses and registers."""
    record = parse_record(content, source)
    decoder = KernelDecoder(None, vendor, tables.events)
    found: list[Finding | None] = []
    for section in record.sections:
        if section.checks:
            found += [decoder.finding_of(decoder.with_vendor(check)) for check in section.checks]
        else:
            found.append(finding_of_section(record, section, 0.0))
    return tuple(each for each in found if each is not None)


@dataclass(slots=True)
class _Reader:
    source: str
    tables: Tables
    meanings: Meanings
    vendor: Vendor
    findings: dict[_Same, Finding] = field(default_factory=dict)
    checks: list[MachineCheck] = field(default_factory=list)
    timeline: list[TimelineEntry] = field(default_factory=list)
    ends: list[_End] = field(default_factory=list)
    stops: list[tuple[float, Stop]] = field(default_factory=list)
    notes: Counter[tuple[str, int]] = field(default_factory=Counter)
    samples: dict[tuple[str, int], str] = field(default_factory=dict)
    use: UseCounter = field(default_factory=UseCounter)
    records: int = 0
    unknown: int = 0
    first: float | None = None
    last: float | None = None

    def take(self, record: Record) -> None:
        self.records += 1
        self.first = record.at if self.first is None else min(self.first, record.at)
        self.last = record.at if self.last is None else max(self.last, record.at)
        key = (record.provider.lower(), record.number)
        meaning = self.meanings.get(key)
        self.use.take(record.at, meaning.timeline if meaning is not None else None)
        if meaning is None:
            self.unknown += 1
            return
        if meaning.special is not None:
            _READERS[meaning.special](self, record, meaning)
        elif meaning.kind is not None:
            self._find(_finding(record, meaning))
        else:
            self._note(record)
        if meaning.timeline is not None and meaning.special is not Special.SUDDEN_END:
            self._enter(record, meaning.timeline, meaning.title)

    def _find(self, finding: Finding) -> None:
        """Keep a finding; equal ones of one day become one with their count, so that a storm loses nothing."""
        key = (finding.code, finding.title, finding.place, finding.address, int(finding.at // _DAY_S))
        before = self.findings.get(key)
        self.findings[key] = replace(before, count=before.count + finding.count) if before is not None else finding

    def _enter(self, record: Record, kind: TimelineKind, title: str) -> None:
        if len(self.timeline) < _MOST_ENTRIES:
            self.timeline.append(TimelineEntry(record.at, kind, title, _detail(record)))

    # ---- events that hold more than a line of the directory says

    def read_hardware_record(self, record: Record, meaning: EventMeaning) -> None:
        """A Common Platform Error Record in hexadecimal digits, or the registers of a machine check by name."""
        found: tuple[Finding, ...] = ()
        content = _from_hex(record.first("RawData", "Binary"))
        status = record.value("MciStat", "MciStatus")
        if looks_like_record(content):
            found = findings_of_record(content, self.source, self.vendor, self.tables)
        elif status is not None:
            check = MachineCheck(
                None,
                record.value("MCABank", "MciBank"),
                status,
                None,
                address=record.value("MciAddr") or None,
                misc=record.value("MciMisc") or None,
                apic=record.value("ApicId"),
                vendor=self.vendor,
                raw=(_raw(record),),
            )
            self.checks.append(check)
            found = thing_of_check(check, self.tables).findings
        if not found:
            self._note(record)
        for each in found:
            self._find(replace(each, at=record.at))

    def read_stop(self, record: Record, meaning: EventMeaning) -> None:
        """A stop code with its parameters in one text."""
        text = record.first("param1", "1")
        stop = read_stop(f"stop {text}", self.tables.stops) if text else None
        if stop is None:
            self._note(record)
            return
        self.stops.append((record.at, replace(stop, source=self.source)))

    def read_sudden_end(self, record: Record, meaning: EventMeaning) -> None:
        """An end that the next start found: with the stop code where the system had written one."""
        number = record.value("BugcheckCode") or 0
        stop = None
        if number:
            parameters = tuple(record.value(f"BugcheckParameter{place}") or 0 for place in range(1, 5))
            stop = Stop(number, parameters, self.source)
        held = bool(record.value("PowerButtonTimestamp")) or record.first("LongPowerButtonPressDetected") == "true"
        asleep = (record.value("SleepInProgress") or 0) > 0
        self.ends.append(_End(record.at, stop, held, asleep, _raw(record)))

    def read_drive(self, record: Record, meaning: EventMeaning) -> None:
        """An event of a drive, which names it by the system's own number."""
        found = next((match for text in record.data.values() if (match := _DRIVE.search(text))), None)
        place = ""
        if found is not None:
            place = f"drive {found[1]}" if found[1] else f"port {found[2] or found[3]}"
        self._find(replace(_finding(record, meaning), place=place))

    def _note(self, record: Record) -> None:
        key = (record.provider.lower(), record.number)
        self.notes[key] += 1
        if key not in self.samples:
            self.samples[key] = _raw(record)

    # ---- the end

    def outcome(self, damage: Damage) -> EventLogRead:
        """Join what belongs together and return everything."""
        self._join_ends()
        findings = sorted(self.findings.values(), key=lambda each: each.at)
        grouper = Grouper(self.tables.codes)
        grouper.add_all(findings)
        log = LogDecoded(
            tuple(grouper.groups()),
            tuple(findings[-_MOST_FINDINGS:]),
            tuple(self.checks[-_MOST_FINDINGS:]),
            self._noted(),
            self.records,
            self.unknown,
            damage.records,
            self.first,
            self.last,
            by_wall=True,
        )
        timeline = tuple(sorted(self.timeline, key=lambda each: each.at))
        left_out = max(0, len(findings) - _MOST_FINDINGS)
        return EventLogRead(log, timeline, self.use.days(), self.unknown, tuple(damage.words), left_out)

    def _join_ends(self) -> None:
        """Make one finding of each sudden end: its stop code where one is known, however often it was reported."""
        stops = list(self.stops)
        ends: list[_End] = []
        for end in sorted(self.ends, key=lambda each: each.at):
            if ends and end.at - ends[-1].at <= _SAME_END_S:
                ends[-1] = _joined(ends[-1], end)
            else:
                ends.append(end)
        for end in ends:
            has_stop = any(abs(at - end.at) <= _SAME_END_S for at, _ in stops)
            if not has_stop and end.stop is not None:
                stops.append((end.at, end.stop))
            elif not has_stop:
                self._sudden_end(end)
        kept: list[tuple[float, Stop]] = []
        for at, stop in sorted(stops, key=lambda each: each[0]):
            if kept and at - kept[-1][0] <= _SAME_END_S and kept[-1][1].number == stop.number:
                continue
            kept.append((at, stop))
            if self._recorded(at, stop):
                continue
            for finding in thing_of_stop(stop, self.vendor, self.tables).findings:
                self._find(replace(finding, at=at))

    def _recorded(self, at: float, stop: Stop) -> bool:
        """Whether the hardware error that a stop is about is here as a record, which has more of it."""
        about = plain_number(stop.number) == _HARDWARE_STOP
        near = (each for each in self.findings.values() if abs(each.at - at) <= _SAME_END_S)
        return about and any(each.kind in _UNCORRECTED for each in near)

    def _sudden_end(self, end: _End) -> None:
        meaning = self.meanings["eventlog", 6008]
        title, weight = meaning.title, meaning.weight
        kinds: tuple[tuple[FindingKind, float], ...] = _KINDS
        if end.asleep:  # drivers and firmware fail at sleep on sound machines
            title, weight = "Did not wake from sleep", weight * 0.4
        elif end.held:
            title, kinds = "Power button held: the machine did not respond", ((FindingKind.FROZE, 1.0),)
        self.timeline.append(TimelineEntry(end.at, TimelineKind.SUDDEN_END, title))
        self._find(
            Finding(
                code="E-903" if end.held and not end.asleep else "E-906",
                kind=kinds[0][0],
                severity=Severity.FAULT,
                part=PartKind.BOARD,
                at=end.at,
                title=title,
                detail=f"{meaning.says} No stop code was recorded ({self.source}).",
                raw=end.raw,
                weight=weight,
                kinds=kinds if len(kinds) > 1 else (),
            )
        )

    def _noted(self) -> tuple[NotedLine, ...]:
        return tuple(
            NotedLine(self.meanings[key].title, self.meanings[key].says, "", count, self.samples[key])
            for key, count in self.notes.most_common()
        )


_KINDS = (
    (FindingKind.ENDED_SUDDENLY, 0.45),
    (FindingKind.FROZE, 0.25),
    (FindingKind.SWITCHED_OFF, 0.30),
)
"""What an end without a stop code may have been: the log does not know (judgement)."""

_READERS: dict[Special, Callable[[_Reader, Record, EventMeaning], None]] = {
    Special.RECORD: _Reader.read_hardware_record,
    Special.STOP: _Reader.read_stop,
    Special.SUDDEN_END: _Reader.read_sudden_end,
    Special.DRIVE: _Reader.read_drive,
}


def _joined(one: _End, other: _End) -> _End:
    return replace(
        one,
        stop=one.stop or other.stop,
        held=one.held or other.held,
        asleep=one.asleep or other.asleep,
        raw=f"{one.raw}\n{other.raw}",
    )


def _finding(record: Record, meaning: EventMeaning) -> Finding:
    assert meaning.kind is not None
    assert meaning.part is not None
    names = set(_PLACE.findall(meaning.place))
    place = _PLACE.sub(lambda found: record.data.get(found[1], ""), meaning.place) if names else meaning.place
    if names and not any(record.data.get(name) for name in names):
        place = ""
    return Finding(
        code=meaning.code,
        kind=meaning.kind,
        severity=meaning.severity,
        part=meaning.part,
        at=record.at,
        title=meaning.title,
        detail=f"{meaning.says} {_detail(record)}".strip(),
        place=place.strip(),
        raw=_raw(record),
        weight=meaning.weight,
    )


def _detail(record: Record) -> str:
    shown = [(name, text) for name, text in record.data.items() if text and name not in ("RawData", "Binary")]
    return ", ".join(text if name.isdigit() else f"{name} {text}" for name, text in shown[:6])[:300]


def _raw(record: Record) -> str:
    pairs = ", ".join(f"{name}={text}" for name, text in record.data.items())
    return f"{record.provider} {record.number}: {pairs}"[:1500]


def _from_hex(text: str) -> bytes:
    try:
        return bytes.fromhex(text)
    except ValueError:
        return b""
