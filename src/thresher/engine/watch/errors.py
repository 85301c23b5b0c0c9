"""What the machine itself reports of errors: kernel log, traced events, counters, records that firmware left."""

from collections import Counter, deque
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from functools import partial
from io import BytesIO

from thresher.decoding.dumps import FoundDump, find_dumps
from thresher.decoding.groups import EventGroup, Grouper
from thresher.decoding.recognise import Tables, thing_of_stop
from thresher.endings.traces import kept_files, last_words_files
from thresher.engine.run.record import Record
from thresher.engine.run.team_findings import Storms, describe_check
from thresher.events.counters import ErrorCounter, check_settings, finding_of_rise, read_error_counters
from thresher.events.drive_lines import drive_names
from thresher.events.findings import KernelDecoder, PlaceNames, apic_ids, slot_names
from thresher.events.firmware_records import (
    FirmwareRecord,
    finding_of_section,
    looks_like_record,
    parse_record,
    parse_status_block,
)
from thresher.events.kernel_log import KernelLogFollower, KernelRecord
from thresher.events.log_forms import LogReader
from thresher.events.machine_checks.registers import MachineCheck, vendor_of
from thresher.events.trace_lines import parse_trace_line
from thresher.model.errors import SourceUnavailable
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import Fact, Inventory
from thresher.model.port import KernelLog, System, optional_text
from thresher.protocol.status import SourceState
from thresher.sensors.readers import DEADLINE_S, Readers

BOOT_ERRORS = "/sys/firmware/acpi/tables/data/BERT"
_FIRST_LINE = "Linux version "
_START_S = 180.0
_MOST_START_LINES = 6_000
_UNCORRECTED = (FindingKind.UNCORRECTED_CHECK, FindingKind.MEMORY_UNCORRECTED, FindingKind.LINK_UNCORRECTED)
_COUNTERS_EVERY_S = 10.0
_MOST_CHECKS_KEPT = 20
"""Registers kept with the job for each place; a storm reports the same ones over and over."""


_COUNTERS, _DUMPS = 0, 1


@dataclass(frozen=True, slots=True)
class _Slow:
    """What is read with a deadline: counters of drivers, dumps on the customer's drives."""

    counters: dict[str, ErrorCounter] | None = None
    dumps: Sequence[FoundDump] = ()


class EventWatch:
    """Follows all sources of errors of one machine; what cannot be read is reported once and kept in `sources`."""

    def __init__(self, system: System, record: Record, inventory: Inventory, tables: Tables) -> None:
        """Open the sources. `unknown` afterwards holds those that cannot be read."""
        self._system = system
        self._record = record
        cpuinfo = optional_text(system, "/proc/cpuinfo")
        self._tables, self._vendor = tables, vendor_of(cpuinfo)
        places = PlaceNames(drive_names(system), slot_names(inventory))
        self._new_decoder = partial(KernelDecoder, inventory, self._vendor, tables.events, apic_ids(cpuinfo), places)
        self._decoder = self._new_decoder()
        self._earlier = Grouper(tables.codes)
        self._storms = Storms()
        self._checks_kept: Counter[tuple[int | None, int | None]] = Counter()
        self._by_line: Counter[tuple[str, str]] = Counter()
        self._reported: Counter[tuple[str, str]] = Counter()
        self._risen: Counter[tuple[str, str]] = Counter()
        self._now = self._looked_at = system.now()
        self._lost = 0
        self.sources: list[SourceState] = []
        self.unknown: list[Fact] = []
        self._readers: Readers[_Slow] = Readers(DEADLINE_S)
        self._came: dict[int, _Slow] = {}
        self._dumps_pending = True
        self._first = self._open_counters()
        self._started_with: deque[str] = deque(maxlen=_MOST_START_LINES)
        self._started_at = 0.0
        self._log = self._open_log()
        self._trace = self._open_trace()
        self._read_settings()
        self._read_left_behind()
        self._take_dumps()

    @property
    def earlier(self) -> tuple[EventGroup, ...]:
        """What the log, counters and firmware reported of the time before the bench was opened."""
        return tuple(self._earlier.groups())

    def report_earlier(self) -> None:
        """Say on the tape what was there before."""
        groups = self._earlier.groups()
        if groups:
            many = sum(group.count for group in groups)
            text = ", ".join(sorted({f"{group.code} {group.title}" for group in groups})[:6])
            self._record.note(
                f"{many} hardware event{'s' if many > 1 else ''} from before the bench was opened",
                text,
                Severity.WARNING,
            )

    def close(self) -> None:
        """Close the sources."""
        for source in (self._log, self._trace):
            if source is not None:
                source.close()
        self._readers.close()

    # ---- opening

    def _state(self, name: str, words: str, path: str = "", reads: bool = True) -> None:
        self.sources.append(SourceState(name, reads, words))
        if not reads:
            self.unknown.append(Fact(name, words, path))

    def _open_log(self) -> KernelLogFollower | None:
        try:
            log = KernelLogFollower(self._system)
        except SourceUnavailable as error:
            words = f"{error.reason}; machine checks will not be seen"
            self._state("kernel log", words, error.path, reads=False)
            self._record.note("Kernel log cannot be read", words, Severity.WARNING)
            return None
        records, _ = log.poll()
        self._note_start(records)
        self._earlier.add_all(self._decoder.decode(records, last=True).findings)
        self._lost = log.lost
        self._state("kernel log", f"followed, {len(records)} lines from before")
        return log

    def _open_trace(self) -> KernelLog | None:
        try:
            trace = self._system.open_trace()
        except SourceUnavailable as error:
            # registers come through the log as well; the trace only has them complete
            self.sources.append(SourceState("traced errors", False, error.reason))
            return None
        self._state("traced errors", "followed")
        self._earlier.add_all(finding for finding, _ in self._traced(trace.read_records()))
        return trace

    def _traced(self, lines: list[bytes]) -> Iterator[tuple[Finding, MachineCheck | None]]:
        for event in map(parse_trace_line, lines):
            if (made := self._decoder.of_trace(event)) is not None:
                yield made

    def _open_counters(self) -> dict[str, ErrorCounter]:
        counters = self._read_counters()
        if counters is None:
            self._state("error counters", "late: they do not answer", reads=False)
            return {}
        memory = sum(each.code.startswith("M-") for each in counters.values())
        links = len({each.place for each in counters.values() if each.code.startswith("S-")})
        words = (
            f"{memory} counters of memory, {links} devices with counters of link errors"
            if counters
            else ("this machine keeps none, or no driver is loaded")
        )
        self._state("error counters", words)
        for each in counters.values():
            if each.count:
                finding = finding_of_rise(each, each.count, self._system.now())
                self._earlier.add(finding)
        return counters

    def _read_settings(self) -> None:
        for fact in check_settings(self._system):
            if fact.name.startswith("X-"):
                title = "Corrected errors are not reported" if fact.name == "X-880" else "Machine checks are not polled"
                self._record.note(title, f"{fact.value} ({fact.source})", Severity.WARNING, fact.name)
                self.sources.append(SourceState("machine-check settings", True, fact.value))
            else:
                self.sources.append(SourceState("machine-check settings", True, f"{fact.name}: {fact.value}"))

    def _read_left_behind(self) -> None:
        """Read what firmware and the kernel's last words left from the boots before."""
        reported = 0
        for record in self._records_left():
            for problem in record.problems:
                self._record.note("Error record of firmware", f"{record.source}: {problem}", Severity.WARNING, "X-883")
            reported += self._take_record(record)
        for path in last_words_files(self._system):
            reported += self._take_last_words(path)
        self._state("firmware records", f"{reported} errors left from before" if reported else "none left from before")

    def _read_counters(self) -> dict[str, ErrorCounter] | None:
        """Return the counters as they are now, None when they do not answer in time."""
        slow = self._ask(_COUNTERS)
        return slow.counters if slow is not None else None

    def _ask(self, number: int) -> _Slow | None:
        self._came |= self._readers.read((number,), self._read_slow)
        return self._came.pop(number, None)

    def _read_slow(self, number: int) -> _Slow:
        if number == _COUNTERS:
            return _Slow(counters=read_error_counters(self._system))
        return _Slow(dumps=find_dumps(self._system))

    def _take_dumps(self) -> None:
        """Read the headers of crash dumps on the customer's drives, as far as they are mounted.

        A dying drive may take its time; until it answers, nothing waits for it."""
        slow = self._ask(_DUMPS)
        if slow is None:
            return
        self._dumps_pending = False
        dumps = slow.dumps
        if not dumps:
            return
        offset = self._system.wall() - self._system.now()
        for dump in dumps:
            if dump.stop is None:
                self.unknown.append(Fact("crash dump", dump.trouble, dump.path))
                continue
            thing = thing_of_stop(dump.stop, self._vendor, self._tables)
            when = datetime.fromisoformat(dump.stop.when).timestamp() - offset if dump.stop.when else 0.0
            self._earlier.add_all(replace(finding, at=when) for finding in thing.findings)
        self._state("crash dumps", f"{len(dumps)} on mounted drives of another system")

    def _records_left(self) -> Iterator[FirmwareRecord]:
        try:
            record = parse_status_block(self._system.read(BOOT_ERRORS), "boot error record")
            if record is not None:
                yield record
        except SourceUnavailable:
            pass  # the table is only there when firmware has something to report
        for path in kept_files(self._system):
            try:
                content = self._system.read(path)
            except SourceUnavailable as error:
                self.unknown.append(Fact("kept record", error.reason, error.path))
                continue
            if looks_like_record(content):
                yield parse_record(content, path.rpartition("/")[2])

    def _take_record(self, record: FirmwareRecord) -> int:
        found = []
        for section in record.sections:
            checks = [self._decoder.finding_of(check) for check in section.checks]
            made = [each for each in checks if each is not None]
            if not made and (finding := finding_of_section(record, section, 0.0)) is not None:
                made = [finding]
            found += made
        self._earlier.add_all(found)
        return len(found)

    def _take_last_words(self, path: str) -> int:
        try:
            content = self._system.read(path)
        except SourceUnavailable as error:
            self.unknown.append(Fact("the kernel's last words", error.reason, path))
            return 0
        found = self._decoder.decode(LogReader(BytesIO(content)).records(), last=True).findings
        self._earlier.add_all(found)
        return len(found)

    # ---- following

    def follow(self, at: float) -> None:
        """Process what came since the last tick."""
        self._now = at
        self._follow_log()
        self._follow_trace()
        if at - self._looked_at >= _COUNTERS_EVERY_S:
            self._looked_at = at
            self._follow_counters(at)
        if self._dumps_pending:
            self._take_dumps()
        self._storms.release(at, self._record.find)

    def flush(self) -> None:
        """Report what is held back, because a run ends."""
        self._storms.release(None, self._record.find)

    def _follow_log(self) -> None:
        if self._log is None:
            return
        records, reason = self._log.poll()
        if reason is not None:
            self._record.note("Kernel log cannot be read any more", reason, Severity.WARNING)
            self._log.close()
            self._log = None
            return
        if self._log.lost > self._lost:
            self._lost = self._log.lost
            detail = "the kernel overwrote records before they were read"
            self._record.note("Kernel log overflowed", detail, Severity.WARNING)
        self._note_start(records)
        for finding, check in self._decoder.decode(records).with_checks:
            self._take(finding, check)

    def _note_start(self, records: Sequence[KernelRecord]) -> None:
        """Keep the lines that the kernel logged when it started: they tell of the boot before."""
        for record in records:
            at = record.at or 0.0
            if record.text.startswith(_FIRST_LINE):
                self._started_with.clear()
                self._started_at = at
            if at - self._started_at <= _START_S:
                self._started_with.append(record.text)

    def started_with(self) -> tuple[str, ...]:
        """Return what the kernel logged when this boot started."""
        return tuple(self._started_with)

    def errors_left(self, lines: Sequence[str]) -> tuple[Finding, ...]:
        """Return the uncorrected errors in lines that the boot before has left."""
        decoder = self._new_decoder()
        found = decoder.decode((KernelRecord(None, 0.0, None, line) for line in lines), last=True).findings
        return tuple(each for each in found if each.kind in _UNCORRECTED)

    def _follow_trace(self) -> None:
        if self._trace is None:
            return
        try:
            lines = self._trace.read_records()
        except SourceUnavailable as error:
            self._record.note("Traced errors cannot be read any more", error.reason, Severity.WARNING)
            self._trace.close()
            self._trace = None
            return
        for finding, check in self._traced(lines):
            self._take(finding, check)

    def _take(self, finding: Finding, check: MachineCheck | None) -> None:
        if check is not None:
            self._keep(check)
        self._find(finding)

    def _follow_counters(self, at: float) -> None:
        """Report rises that no line has reported; a rise waits for one look, since its line may come after it."""
        counters = self._read_counters()
        if counters is None:
            return  # late: what has risen meanwhile is seen at the next look
        before = Counter(self._risen)
        self._risen = Counter()
        steepest: dict[tuple[str, str], tuple[int, ErrorCounter]] = {}
        for path, counter in counters.items():
            first = self._first.get(path)
            rise = counter.count - first.count if first is not None else 0
            if rise < 0:  # the counters were set back
                self._first[path] = counter
                continue
            key = _counter_key(counter.code, counter.place, None)
            self._risen[key] += rise
            if rise > steepest.get(key, (0, counter))[0]:
                steepest[key] = (rise, counter)
        for key, (_, counter) in steepest.items():
            unexplained = min(before[key], self._risen[key]) - self._by_line[key] - self._reported[key]
            if unexplained > 0:
                self._reported[key] += unexplained
                self._storms.take(finding_of_rise(counter, unexplained, at), self._record.find, at)

    def _find(self, finding: Finding) -> None:
        self._by_line[_counter_key(finding.code, finding.place, finding.kind)] += finding.count
        self._storms.take(finding, self._record.find, self._now)

    def _keep(self, check: MachineCheck) -> None:
        key = (check.cpu, check.bank)
        self._checks_kept[key] += 1
        if self._checks_kept[key] <= _MOST_CHECKS_KEPT:
            number = self._record.run_number()
            self._record.writer.add_mark(number, self._system.now(), "kernel", describe_check(check))


_OF_COUNTER = {FindingKind.MEMORY_CORRECTED: "M-310", FindingKind.MEMORY_UNCORRECTED: "M-320"}
"""The counter that each kind of memory error goes into, however it was reported."""


def _counter_key(code: str, place: str, kind: FindingKind | None) -> tuple[str, str]:
    """Lines and counters name modules differently, so memory is compared as a whole; links by device."""
    if kind in _OF_COUNTER or code.startswith("M-"):
        return (_OF_COUNTER.get(kind, code) if kind is not None else code, "")
    return (code, place)
