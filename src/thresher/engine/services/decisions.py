"""Locking verdicts, closing jobs with the actual cause, and what the shop has learnt from that."""

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

from thresher.diagnosis.knowledge import Knowledge
from thresher.diagnosis.shop_priors import prior_changes, with_closed_jobs
from thresher.engine.run.record import Record
from thresher.model.decisions import (
    ActualCause,
    ClosedJob,
    Culprit,
    Decisions,
    LockedVerdict,
    PriorChange,
    chance_given,
    compare,
)
from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.model.findings import Severity
from thresher.model.port import System
from thresher.model.verdict import Verdict
from thresher.protocol.events import DecisionsEvent
from thresher.seal.seal import NewSeal, add_seal
from thresher.shop.store import change_closed_jobs, closed_jobs_path, put_aside, read_closed_jobs

_SUSPECTS_KEPT = 8
_MOST_LOCKED = 50


class DecisionService:
    """Holds the decisions of the job and the closed jobs of the shop; `knowledge` is adjusted by those."""

    def __init__(self, system: System, record: Record, stored: Decisions, shop: Path | None, base: Knowledge) -> None:
        """Continue with what the job file holds; an unreadable file of closed jobs is moved aside and reported."""
        self._system, self._record, self._shop, self._base = system, record, shop, base
        self.decisions = stored
        self.closed = self._read_closed()
        self.knowledge = self._adjusted()

    def _adjusted(self) -> Knowledge:
        """Return the knowledge with every closed job but this one: its own outcome is no evidence for itself."""
        return with_closed_jobs(self._base, _without(self.closed, self._record.writer.path.stem))

    def _read_closed(self) -> tuple[ClosedJob, ...]:
        if self._shop is None:
            return ()
        try:
            return read_closed_jobs(self._shop)
        except InputError as error:
            kept = ""
            try:
                kept = f"; kept as {put_aside(closed_jobs_path(self._shop))}"
            except EnvironmentFault as fault:
                kept = f"; {fault}"
            detail = f"{error}{kept}"
            self._record.note("A file of the shop cannot be read", detail, Severity.WARNING, "X-860")
            return ()

    @property
    def shop_folder(self) -> str:
        """The folder of what the shop keeps, empty where nothing is kept."""
        return str(self._shop) if self._shop is not None else ""

    def keep_seal(self, new: NewSeal) -> None:
        """Keep a seal that a report of this job was given. Raises InputError for one of another job."""
        sealed = new.seal.sealed
        if sealed.job != self._record.writer.path.stem:
            raise InputError("seal", [InputFault("job", f"it is of the job {sealed.job}")])
        add_seal(self._record.writer, new)  # and no note of it: that would come after what the seal covers

    @property
    def changes(self) -> tuple[PriorChange, ...]:
        """What the shop's closed jobs have changed."""
        return prior_changes(self._base, self.closed)

    def event(self) -> DecisionsEvent:
        """Return everything as it is announced."""
        return DecisionsEvent(self.decisions, self.closed, self.changes)

    def lock(self, verdict: Verdict | None, trials: int, note: str = "") -> LockedVerdict:
        """Keep a verdict as it stands with date and reasons. Raises InputError."""
        if verdict is None:
            raise InputError("verdict", [InputFault("lock", "there is none yet")])
        if len(self.decisions.locked) >= _MOST_LOCKED:
            raise InputError("verdict", [InputFault("lock", f"{_MOST_LOCKED} are locked already")])
        act = verdict.advice.act if verdict.advice is not None else None
        frozen = LockedVerdict(
            self._system.wall(),
            verdict.sentence,
            act.words if act is not None else "nothing yet",
            act.steps if act is not None else (),
            verdict.suspects[:_SUSPECTS_KEPT],
            trials,
            " ".join(note.split()),
        )
        self._put(replace(self.decisions, locked=(*self.decisions.locked, frozen)))
        self._record.note("Verdict locked", f"{frozen.sentence}; do: {frozen.act}")
        return frozen

    def close(self, culprits: Sequence[Culprit], note: str = "", number: str = "") -> ActualCause:
        """Keep the actual cause, with the job and with the shop; `number` is the job's.

        Raises InputError, EnvironmentFault.
        """
        known = {mode.name: mode.part for mode in self._base.modes if not mode.harmless}
        faults = [
            InputFault(each.mode, "is not a fault mode of the knowledge base")
            for each in culprits
            if each.mode and each.mode not in known
        ]
        faults += [
            InputFault(each.mode, f"belongs to the {known[each.mode].value}, not to the {each.kind.value}")
            for each in culprits
            if each.mode in known and known[each.mode] is not each.kind
        ]
        if faults:
            raise InputError("actual cause", faults)
        actual_cause = ActualCause(self._system.wall(), tuple(dict.fromkeys(culprits)), " ".join(note.split()))
        last = self.decisions.locked[-1] if self.decisions.locked else None
        text = chance_given(last, actual_cause) if last is not None else None
        path = self._record.writer.path
        job = ClosedJob(path.stem, number, actual_cause.wall, actual_cause.culprits, text)
        self._keep(lambda closed: (*_without(closed, job.job), job))
        self._put(replace(self.decisions, actual_cause=actual_cause))
        words = compare(last, actual_cause) if last is not None else "No verdict had been locked."
        self._record.note("Actual cause recorded", words)
        return actual_cause

    def reopen(self) -> None:
        """Undo the actual cause. Raises InputError when there is none."""
        if self.decisions.actual_cause is None:
            raise InputError("job", [InputFault("reopen", "it was not closed")])
        self._keep(lambda closed: _without(closed, self._record.writer.path.stem))
        self._put(replace(self.decisions, actual_cause=None))
        self._record.note("Job reopened", "its actual cause was removed")

    def set_counted(self, job: str, counted: bool) -> None:
        """Let a closed job count or not. Raises InputError for one that is not there."""
        if not any(each.job == job for each in self.closed):
            raise InputError("closed jobs", [InputFault(job, "is none of them")])
        self._keep(lambda closed: tuple(replace(each, counted=counted) if each.job == job else each for each in closed))
        self._record.publish(self.event())

    def _keep(self, change: Callable[[tuple[ClosedJob, ...]], tuple[ClosedJob, ...]]) -> None:
        self.closed = change(self.closed) if self._shop is None else change_closed_jobs(self._shop, change)
        self.knowledge = self._adjusted()
        self._record.changed = True

    def _put(self, decisions: Decisions) -> None:
        self.decisions = decisions
        self._record.writer.set_decisions(decisions)
        self._record.publish(self.event())


def _without(closed: tuple[ClosedJob, ...], job: str) -> tuple[ClosedJob, ...]:
    return tuple(each for each in closed if each.job != job)
