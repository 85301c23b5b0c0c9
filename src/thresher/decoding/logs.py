"""A whole log read into groups, a record in memory at a time."""

from collections.abc import Callable
from dataclasses import dataclass, replace

from thresher.codes.directory import FaultCode
from thresher.decoding.groups import EventGroup, Grouper
from thresher.events.findings import EventKnowledge, KernelDecoder
from thresher.events.kernel_lines import LineMatch
from thresher.events.kernel_log import KernelRecord
from thresher.events.log_forms import ByteStream, LogReader
from thresher.events.machine_checks.registers import MachineCheck
from thresher.model.findings import Finding
from thresher.model.vendors import Vendor

_BATCH = 2_000
_MOST_FINDINGS = 500
_MOST_NOTES = 200


@dataclass(frozen=True, slots=True)
class NotedLine:
    """A line that looks alarming or odd and is no evidence: how often, an example, and what it is."""

    title: str
    says: str
    code: str
    count: int
    sample: str


@dataclass(frozen=True, slots=True)
class LogDecoded:
    """What a log came to. `findings` are single ones, up to some hundreds of them, for those who want each.

    `lines` is how many lines there were, `others` how many were of other programs, `damaged` how many in no form.
    Times are Unix time where the log gives it (`by_wall`), otherwise seconds since boot.
    """

    groups: tuple[EventGroup, ...]
    findings: tuple[Finding, ...]
    checks: tuple[MachineCheck, ...]
    notes: tuple[NotedLine, ...]
    lines: int
    others: int
    damaged: int
    first: float | None
    last: float | None
    by_wall: bool

    @property
    def count(self) -> int:
        """How many signs of trouble there were."""
        return sum(group.count for group in self.groups)


def read_log(
    stream: ByteStream,
    vendor: Vendor,
    codes: dict[str, FaultCode],
    knowledge: EventKnowledge,
    progress: Callable[[int], bool] | None = None,
) -> LogDecoded:
    """Read a log in any form. `progress` hears of the lines so far and ends the reading by answering False."""
    reader, decoder = LogReader(stream), KernelDecoder(None, vendor, knowledge)
    collector = _Collector(codes)
    batch: list[KernelRecord] = []
    for record in reader.records():
        batch.append(record)
        if len(batch) >= _BATCH:
            collector.take(decoder, batch)
            batch = []
            if progress is not None and not progress(reader.lines):
                break
    collector.take(decoder, batch, last=True)
    return LogDecoded(
        tuple(collector.grouper.groups()),
        tuple(collector.findings),
        tuple(collector.checks),
        collector.notes(),
        reader.lines,
        reader.others,
        reader.damaged,
        collector.first,
        collector.last,
        collector.by_wall,
    )


class _Collector:
    def __init__(self, codes: dict[str, FaultCode]) -> None:
        self.grouper = Grouper(codes)
        self.findings: list[Finding] = []
        self.checks: list[MachineCheck] = []
        self.first: float | None = None
        self.last: float | None = None
        self.by_wall = False
        self._often: dict[str, int] = {}
        self._first: dict[str, LineMatch] = {}

    def take(self, decoder: KernelDecoder, batch: list[KernelRecord], last: bool = False) -> None:
        """Decode a batch. Logs that give the time of day are sorted by it: they may hold several boots."""
        if batch:
            self.by_wall = self.by_wall or batch[0].wall is not None
            if self.by_wall:
                batch = [replace(each, at=None) if each.wall is not None else each for each in batch]
            times = [time for each in (batch[0], batch[-1]) if (time := each.time) is not None]
            if times:
                self.first = min(times) if self.first is None else min(self.first, *times)
                self.last = max(times) if self.last is None else max(self.last, *times)
        found = decoder.decode(batch, last)
        self.grouper.add_all(found.findings)
        room = _MOST_FINDINGS - len(self.findings)
        self.findings += found.findings[:room]
        self.checks += found.checks[: max(0, _MOST_FINDINGS - len(self.checks))]
        for match in found.notes:
            form = match.rule.form
            if form in self._often:
                self._often[form] += 1
            elif len(self._often) < _MOST_NOTES:
                self._often[form] = 1
                self._first[form] = match

    def notes(self) -> tuple[NotedLine, ...]:
        """Return the lines that are no evidence, those that came most often first."""
        noted = []
        for form, count in sorted(self._often.items(), key=lambda each: -each[1]):
            meaning = self._first[form].meaning()
            noted.append(NotedLine(meaning.title, meaning.detail, meaning.rule.code, count, self._first[form].text))
        return tuple(noted)
