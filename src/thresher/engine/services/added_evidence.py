"""Evidence from outside: what a log, a stop code or a dump reported, added to the job by hand, and undone."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

from thresher.engine.run.record import Record
from thresher.model.errors import InputError, InputFault
from thresher.model.findings import NOTE, Finding, TapeEntry
from thresher.model.port import System
from thresher.model.verdict import EVERYDAY_USE, Exposure
from thresher.protocol.events import FindingsEvent

_MOST_MINUTES = 60.0 * 24 * 366 * 10
_MOST_FINDINGS = 1000


@dataclass(frozen=True, slots=True)
class Added:
    """One adding: the findings as they stand in the job, and the time of use that came with them."""

    findings: tuple[Finding, ...]
    use: Exposure | None


class AddedEvidence:
    """Adds evidence to a job and takes it back, newest first."""

    def __init__(self, system: System, record: Record) -> None:
        """Nothing has been added yet."""
        self._system = system
        self._record = record
        self._added: list[Added] = []
        self.use: list[Exposure] = []

    def add(
        self,
        findings: Sequence[Finding],
        origin: str,
        when: float | None,
        configuration: str,
        minutes: float,
        own_times: bool = False,
    ) -> tuple[Finding, ...]:
        """Add findings from outside and return them as they stand in the job.

        `when` is the Unix time they belong to (None: not known, they stand at now), `configuration` what was installed
        then, `minutes` how much everyday use they came in. With `own_times` each finding has its own Unix time in
        `at`. Raises InputError."""
        faults = []
        if not findings:
            faults.append(InputFault("findings", "nothing to add: none of it is evidence"))
        if len(findings) > _MOST_FINDINGS:
            faults.append(InputFault("findings", f"at most {_MOST_FINDINGS} at once, found {len(findings)}"))
        if not 0.0 <= minutes <= _MOST_MINUTES:
            faults.append(InputFault("minutes", f"expected 0 to {_MOST_MINUTES:.0f}, found {minutes:g}"))
        if not origin.strip():
            faults.append(InputFault("origin", "say where it came from"))
        if faults:
            raise InputError("evidence", faults)
        now = self._system.now()
        began = now - self._system.wall()
        at = now if when is None else began + when
        placed = tuple(
            replace(
                each,
                at=began + each.at if own_times else at,
                run_at=None,
                load=EVERYDAY_USE,
                origin=origin.strip(),
                configuration=configuration.strip(),
            )
            for each in findings
        )
        use = Exposure(0, -1, EVERYDAY_USE, minutes, None) if minutes else None
        for finding in placed:
            self._record.add(finding)
        if use is not None:
            self.use.append(use)
            self._record.writer.add_mark(None, now, "use", use)
        self._added.append(Added(placed, use))
        plural = "s" if len(placed) > 1 else ""
        words = f"{sum(each.count for each in placed)} × {placed[0].title}" if len(placed) == 1 else placed[0].title
        self._record.note(f"{len(placed)} finding{plural} added from {origin.strip()}", words)
        return placed

    def undo(self) -> tuple[Finding, ...]:
        """Undo the last evidence and return its findings. Raises InputError when there is none."""
        if not self._added:
            raise InputError("evidence", [InputFault("undo", "nothing was added since the bench was opened")])
        last = self._added.pop()
        now = self._system.now()
        for finding in last.findings:
            self._record.findings.remove(finding)
            self._record.writer.add_mark(None, now, "taken back", finding)
        if last.use is not None:
            self.use.remove(last.use)
            self._record.writer.add_mark(None, now, "use taken back", last.use)
        self._record.changed = True
        self._record.publish(FindingsEvent(tuple(self._record.findings)))
        plural = "s" if len(last.findings) > 1 else ""
        self._record.note(f"{len(last.findings)} finding{plural} removed", last.findings[0].title)
        return last.findings

    def note(self, text: str) -> TapeEntry:
        """Keep a free note with the job, such as a beep or light pattern with what the board's maker says of it.

        Raises InputError for an empty one.
        """
        words = " ".join(text.split())
        if not words:
            raise InputError("note", [InputFault("text", "nothing was written")])
        return self._record.write(TapeEntry(self._system.now(), None, NOTE, words))
