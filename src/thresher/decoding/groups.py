"""Findings grouped by signature: what, and where. A storm of ten thousand becomes one group with a count."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from thresher.codes.directory import FaultCode
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import PartKind

_BUCKET_S = 60.0
_MOST_BUCKETS = 20_000
_MOST_SAMPLES = 5
_MOST_LOADS = 12
_TREND_FROM = 6
"""Findings from which on a trend is reported."""

Signature = tuple[str, str]
"""Fault code and place."""


@dataclass(frozen=True, slots=True)
class EventGroup:
    """All findings of one signature. Times are machine or Unix time in seconds, as the findings have them.

    `per_hour` is the rate between first and last (None for a single moment); `trend` is `growing`, `steady`, `fading`
    or empty; `noise` is why they are no sign of a fault yet, empty when they are one. `times` are (time, count) for
    drawing; `samples` some of the raw lines, the first ones and the last."""

    code: str
    title: str
    part: PartKind
    kind: FindingKind
    severity: Severity
    place: str
    detail: str
    count: int
    first: float
    last: float
    per_hour: float | None
    trend: str
    noise: str
    loads: tuple[str, ...]
    coolest_c: float | None
    hottest_c: float | None
    times: tuple[tuple[float, int], ...]
    samples: tuple[str, ...]

    @property
    def signature(self) -> Signature:
        """Fault code and place."""
        return self.code, self.place


@dataclass(slots=True)
class _Pile:
    first_finding: Finding
    worst: Severity
    count: int = 0
    first: float = 0.0
    last: float = 0.0
    width: float = _BUCKET_S
    buckets: dict[int, int] = field(default_factory=dict)
    samples: list[str] = field(default_factory=list)
    last_raw: str = ""
    last_detail: str = ""
    loads: list[str] = field(default_factory=list)
    coolest: float | None = None
    hottest: float | None = None

    def add(self, finding: Finding) -> None:
        if self.count == 0:
            self.first = self.last = finding.at
        self.count += finding.count
        self.first, self.last = min(self.first, finding.at), max(self.last, finding.at)
        bucket = int(finding.at // self.width)
        self.buckets[bucket] = self.buckets.get(bucket, 0) + finding.count
        if len(self.buckets) > _MOST_BUCKETS:
            self._coarsen()
        if len(self.samples) < _MOST_SAMPLES and finding.raw:
            self.samples.append(finding.raw)
        self.last_raw, self.last_detail = finding.raw, finding.detail
        if finding.load and finding.load not in self.loads and len(self.loads) < _MOST_LOADS:
            self.loads.append(finding.load)
        if finding.temperature_c is not None:
            warm = finding.temperature_c
            self.coolest = warm if self.coolest is None else min(self.coolest, warm)
            self.hottest = warm if self.hottest is None else max(self.hottest, warm)
        if finding.severity is Severity.FAULT:
            self.worst = Severity.FAULT

    def _coarsen(self) -> None:
        self.width *= 2
        coarser: dict[int, int] = {}
        for bucket, count in self.buckets.items():
            coarser[bucket // 2] = coarser.get(bucket // 2, 0) + count
        self.buckets = coarser


class Grouper:
    """Takes findings in one by one and answers with groups, those with the newest finding first."""

    def __init__(self, codes: Mapping[str, FaultCode]) -> None:
        """`codes` say what is noise."""
        self._codes = codes
        self._piles: dict[Signature, _Pile] = {}

    def add(self, finding: Finding) -> None:
        """Take a finding in."""
        key = (finding.code, finding.place)
        pile = self._piles.get(key)
        if pile is None:
            pile = self._piles[key] = _Pile(finding, finding.severity)
        pile.add(finding)

    def add_all(self, findings: Iterable[Finding]) -> None:
        """Take findings in."""
        for finding in findings:
            self.add(finding)

    def groups(self) -> list[EventGroup]:
        """Return all groups: what may be noise last, faults before warnings, then the newest first."""
        made = [self._group(pile) for pile in self._piles.values()]
        return sorted(made, key=lambda each: (bool(each.noise), each.severity is not Severity.FAULT, -each.last))

    def _group(self, pile: _Pile) -> EventGroup:
        finding = pile.first_finding
        spent = pile.last - pile.first
        samples = list(pile.samples)
        if pile.last_raw and pile.last_raw not in samples:
            samples.append(pile.last_raw)
        times = tuple((bucket * pile.width, count) for bucket, count in sorted(pile.buckets.items()))
        return EventGroup(
            code=finding.code,
            title=finding.title,
            part=finding.part,
            kind=finding.kind,
            severity=pile.worst,
            place=finding.place,
            detail=finding.detail if pile.count == finding.count else pile.last_detail,
            count=pile.count,
            first=pile.first,
            last=pile.last,
            per_hour=(pile.count - 1) / spent * 3600.0 if spent > 0 and pile.count > 1 else None,
            trend=_trend(times, pile),
            noise=self._noise(finding.code, times),
            loads=tuple(pile.loads),
            coolest_c=pile.coolest,
            hottest_c=pile.hottest,
            times=times,
            samples=tuple(samples),
        )

    def _noise(self, code: str, times: tuple[tuple[float, int], ...]) -> str:
        entry = self._codes.get(code)
        if entry is None or entry.noise is None:
            return ""
        if busiest(times, entry.noise.hours * 3600.0) > entry.noise.count:
            return ""
        many = (
            f"up to {entry.noise.count} in {entry.noise.hours:g} h from one place"
            if entry.noise.count > 1
            else (f"a single one in {entry.noise.hours:g} h from one place")
        )
        return f"{many} may be noise: {entry.noise.source}"


def busiest(times: tuple[tuple[float, int], ...], window_s: float) -> int:
    """Return the largest count within a window of so many seconds; `times` are in order."""
    most = inside = first = 0
    for at, count in times:
        inside += count
        while times[first][0] < at - window_s:
            inside -= times[first][1]
            first += 1
        most = max(most, inside)
    return most


def _trend(times: tuple[tuple[float, int], ...], pile: _Pile) -> str:
    spent = pile.last - pile.first
    if pile.count < _TREND_FROM or spent < 4 * pile.width:
        return ""
    middle = pile.first + spent / 2
    early = sum(count for at, count in times if at < middle)
    late = pile.count - early
    if late > 2 * early:
        return "growing"
    return "fading" if early > 2 * late else "steady"
