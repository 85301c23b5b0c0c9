"""All logs and dumps of an installed system, read file by file and joined: findings, timeline, hours of use."""

import re
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path

from thresher.codes.stop_codes import Stop, read_dump_header
from thresher.decoding.groups import EventGroup, Grouper
from thresher.decoding.logs import LogDecoded, NotedLine
from thresher.decoding.recognise import Tables, thing_of_stop
from thresher.model.errors import EnvironmentFault, InputError, ThresherError
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import PartKind
from thresher.model.regular_file import read_regular
from thresher.model.vendors import Vendor
from thresher.system_logs.event_log import EventLogRead, TimelineEntry, findings_of_record, looks_like_event_log
from thresher.system_logs.installed import FileKind, InstalledSystem, LogFile
from thresher.system_logs.meanings import TimelineKind
from thresher.system_logs.read_process import read_apart, read_journal_apart, read_journal_boots
from thresher.system_logs.use import DayOfUse, use_of

_SAME_S = 2.0
_NEAR = 40
"""How many findings before one are compared with it."""
_SAME_STOP_S = 1800.0
_STOP = re.compile(r"Stop 0x[0-9a-f]+\b")
_LINUX_END_WEIGHT = 0.5
_CHANGES = (TimelineKind.PART, TimelineKind.DRIVER, TimelineKind.UPDATE)
_SOON_S = 7 * 86400.0


@dataclass(frozen=True, slots=True)
class FileRead:
    """A file and how it went: what came of it in words, or why it could not be read."""

    path: str
    words: str
    trouble: str = ""


@dataclass(frozen=True, slots=True)
class SystemLogsRead:
    """What the logs of a system hold: findings with Unix times, and harmless events with their counts (`notes`)."""

    what: str
    place: str
    findings: tuple[Finding, ...]
    groups: tuple[EventGroup, ...]
    notes: tuple[NotedLine, ...]
    timeline: tuple[TimelineEntry, ...]
    use: tuple[DayOfUse, ...]
    files: tuple[FileRead, ...]

    @property
    def count(self) -> int:
        """How many errors were found; equal ones of a day are one finding."""
        return sum(each.count for each in self.findings)

    @property
    def hours(self) -> float:
        """How long the machine was in use in what was read."""
        return sum(day.hours for day in self.use)


def read_system(
    system: InstalledSystem, tables: Tables, vendor: Vendor, progress: Callable[[str], bool] | None = None
) -> SystemLogsRead:
    """Read all files of an installed system. `progress` hears of each and ends the reading by answering False."""
    findings: list[Finding] = []
    notes: list[NotedLine] = []
    timeline: list[TimelineEntry] = []
    files: list[FileRead] = []
    use: tuple[DayOfUse, ...] = ()
    for each in system.files:
        if progress is not None and not progress(str(each.path)):
            files.append(FileRead(str(each.path), "", "reading was stopped before it"))
            continue
        try:
            read = _READERS[each.kind](each, tables, vendor)
        except ThresherError as error:
            files.append(FileRead(str(each.path), "", _reason(error)))
            continue
        findings += read.log.findings
        notes += read.log.notes
        timeline += read.timeline
        if len(read.use) > len(use):
            use = read.use
        files.append(FileRead(str(each.path), _words(read)))
    origin = f"{system.what} on {system.folder}"
    kept = [replace(each, origin=origin) for each in _once(findings)]
    grouper = Grouper(tables.codes)
    grouper.add_all(kept)
    lines = tuple(sorted(set(timeline), key=lambda each: each.at))
    return SystemLogsRead(
        system.what, str(system.folder), tuple(kept), tuple(grouper.groups()), tuple(notes), lines, use, tuple(files)
    )


def _reason(error: ThresherError) -> str:
    return error.happened if isinstance(error, EnvironmentFault) else str(error)


def _words(read: EventLogRead) -> str:
    words = f"{read.log.lines} events" if read.timeline or read.unknown else f"{read.log.lines} lines"
    damaged = f", {read.log.damaged} damaged: {read.damaged[0] if read.damaged else ''}" if read.log.damaged else ""
    counted = sum(each.count for each in read.log.findings)
    older = f", {read.left_out} older days of errors left out" if read.left_out else ""
    return f"{words}, {counted} of them evidence{older}{damaged}"


def _once(findings: list[Finding]) -> list[Finding]:
    """Return findings in the order of their times, each error once: logs of two channels hold the same one."""
    kept: list[Finding] = []
    for each in sorted(findings, key=lambda finding: finding.at):
        twin = next((place for place, other in enumerate(kept[-_NEAR:]) if _same(each, other)), None)
        if twin is None:
            kept.append(each)
        elif each.address is not None:
            place = len(kept) - min(_NEAR, len(kept)) + twin
            kept[place] = replace(each, at=kept[place].at) if kept[place].address is None else kept[place]
    return kept


def _same(one: Finding, other: Finding) -> bool:
    stops = [found[0] for each in (one, other) if (found := _STOP.match(each.title))]
    if len(stops) == 2:  # its dump has its own time, and perhaps a record that says more
        return stops[0] == stops[1] and abs(one.at - other.at) <= _SAME_STOP_S
    same = (one.code, one.place, one.address, one.title) == (other.code, other.place, other.address, other.title)
    return same and abs(one.at - other.at) <= _SAME_S and one.raw[:200] == other.raw[:200]


# ---- one file


def _event_log(file: LogFile, tables: Tables, vendor: Vendor) -> EventLogRead:
    if not looks_like_event_log(_head(file.path, 64)):
        raise EnvironmentFault(f"reading {file.path}", "it does not begin as an event log does", "It is damaged.")
    return read_apart(file.path, file.kind.value, vendor)


def _text_log(file: LogFile, tables: Tables, vendor: Vendor) -> EventLogRead:
    return read_apart(file.path, file.kind.value, vendor)


def _journal(file: LogFile, tables: Tables, vendor: Vendor) -> EventLogRead:
    read = read_journal_apart(file.path, vendor)
    timeline = read_journal_boots(file.path)
    ends = [
        Finding(
            code="E-906",
            kind=FindingKind.ENDED_SUDDENLY,
            severity=Severity.FAULT,
            part=PartKind.BOARD,
            at=each.at,
            title=each.title,
            detail="The previous journal ends without a shutdown: reset, freeze, power cut, or held power button.",
            weight=_LINUX_END_WEIGHT,
        )
        for each in timeline
        if each.kind is TimelineKind.SUDDEN_END
    ]
    log = replace(read.log, findings=tuple(sorted((*read.log.findings, *ends), key=lambda each: each.at)))
    # a sudden end stands at the start after it: until then the machine may have been off for days
    seen = [(each.at, each.kind) for each in timeline if each.kind is not TimelineKind.SUDDEN_END]
    return replace(read, log=log, timeline=timeline, use=use_of(seen))


def _dump(file: LogFile, tables: Tables, vendor: Vendor) -> EventLogRead:
    content = _head(file.path, _SEARCHED)
    try:
        stop = read_dump_header(content, file.path.name)
    except InputError as error:
        words = "; ".join(fault.message for fault in error.faults)
        raise EnvironmentFault(f"reading {file.path}", words, "Type the stop code in.") from error
    at = _unix(stop, file.path)
    in_words = thing_of_stop(stop, vendor, tables)
    record = _record_in(content, file.path.name, vendor, tables)
    found = tuple(replace(each, title=f"Stop {in_words.title}: {each.title}") for each in record) or in_words.findings
    log = replace(_NOTHING, lines=1, findings=tuple(replace(each, at=at) for each in found))
    entry = TimelineEntry(at, TimelineKind.STOP, f"Stop {stop.number:#x}", file.path.name)
    return EventLogRead(log, (entry,), (), 0)


_NOTHING = LogDecoded((), (), (), (), 0, 0, 0, None, None, by_wall=True)
_RECORD = re.compile(rb"CPER..\xff\xff\xff\xff", re.DOTALL)
_SEARCHED = 1 << 20
"""A small dump has less; in a whole one the record lies elsewhere, and its parameters say what the record would."""


def _record_in(content: bytes, name: str, vendor: Vendor, tables: Tables) -> tuple[Finding, ...]:
    """Return what a hardware error record in a dump says: small dumps of stop 124H carry it behind their header."""
    for found in _RECORD.finditer(content):
        findings = findings_of_record(content[found.start() :], name, vendor, tables)
        if findings:
            return findings
    return ()


def _head(path: Path, most: int) -> bytes:
    try:
        return read_regular(path, most)
    except OSError as error:
        reason = error.strerror or str(error)
        raise EnvironmentFault(f"reading {path}", reason, "The drive may be failing.") from error


def _unix(stop: Stop, path: Path) -> float:
    """Return when a dump was made: by its header, else by the file's own time."""
    if stop.when:
        return datetime.fromisoformat(stop.when).timestamp()
    try:
        return path.stat().st_mtime
    except OSError:
        return 0.0


_READERS: dict[FileKind, Callable[[LogFile, Tables, Vendor], EventLogRead]] = {
    FileKind.EVENT_LOG: _event_log,
    FileKind.DUMP: _dump,
    FileKind.JOURNAL: _journal,
    FileKind.TEXT_LOG: _text_log,
}


# ---- what changed before


def changes_before(read: SystemLogsRead) -> tuple[str, ...]:
    """Return sentences on errors that began within a week after a change of parts, drivers or updates."""
    sentences = []
    changes = [each for each in read.timeline if each.kind in _CHANGES]
    for group in read.groups:
        if group.noise or group.count < 2:
            continue
        before = [each for each in changes if 0 <= group.first - each.at <= _SOON_S]
        earlier = [each for each in read.timeline if each.at < group.first - _SOON_S]
        if before and earlier:  # with nothing older in the log, all would be new
            last = before[-1]
            day = f"{datetime.fromtimestamp(last.at, UTC):%Y-%m-%d}"
            detail = f" ({last.detail[:80]})" if last.detail else ""
            sentences.append(
                f"{group.title}: {group.count}, beginning within a week after a change on {day}: {last.title}{detail}."
            )
    return tuple(sentences)
