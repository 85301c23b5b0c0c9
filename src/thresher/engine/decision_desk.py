"""Freezing verdicts, closing jobs with what they turned out to be, and what the shop has learnt from that."""

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from thresher.diagnosis.knowledge import Knowledge
from thresher.diagnosis.shop_priors import prior_changes, with_closed_jobs
from thresher.engine.protocol import DecisionsEvent
from thresher.engine.record import Record
from thresher.model.decisions import (
    ClosedJob,
    Culprit,
    Decisions,
    FrozenVerdict,
    PriorChange,
    TurnedOut,
    chance_given,
    compare,
)
from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.model.findings import Severity
from thresher.model.port import System
from thresher.model.verdict import Verdict
from thresher.shop.store import closed_jobs_path, put_aside, read_closed_jobs, write_closed_jobs

_SUSPECTS_KEPT = 8
_MOST_FROZEN = 50


class DecisionDesk:
    """Holds the decisions of the job and the closed jobs of the shop; `knowledge` is adjusted by those."""

    def __init__(self, system: System, record: Record, stored: Decisions, shop: Path | None, base: Knowledge) -> None:
        """Go on with what the job file holds. A file of closed jobs that cannot be read is put aside and said."""
        self._system, self._record, self._shop, self._base = system, record, shop, base
        self.decisions = stored
        self.closed = self._read_closed()
        self.knowledge = with_closed_jobs(base, self.closed)

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
    def changes(self) -> tuple[PriorChange, ...]:
        """What the shop's closed jobs have changed."""
        return prior_changes(self._base, self.closed)

    def event(self) -> DecisionsEvent:
        """Return everything as it is told."""
        return DecisionsEvent(self.decisions, self.closed, self.changes)

    def freeze(self, verdict: Verdict | None, trials: int, note: str = "") -> FrozenVerdict:
        """Keep a verdict as it stands with date and reasons. Raises InputError."""
        if verdict is None:
            raise InputError("verdict", [InputFault("freeze", "there is none yet")])
        if len(self.decisions.frozen) >= _MOST_FROZEN:
            raise InputError("verdict", [InputFault("freeze", f"{_MOST_FROZEN} are frozen already")])
        act = verdict.advice.act if verdict.advice is not None else None
        frozen = FrozenVerdict(
            self._system.wall(), verdict.sentence, act.words if act is not None else "nothing yet",
            act.steps if act is not None else (), verdict.suspects[:_SUSPECTS_KEPT], trials, " ".join(note.split()),
        )  # fmt: skip
        self._put(replace(self.decisions, frozen=(*self.decisions.frozen, frozen)))
        self._record.note("Verdict frozen", f"{frozen.sentence}; to be done: {frozen.act}")
        return frozen

    def close(self, culprits: Sequence[Culprit], note: str = "", number: str = "") -> TurnedOut:
        """Keep what it turned out to be, with the job and with the shop; `number` is the job's.

        Raises InputError, EnvironmentFault.
        """
        known = {mode.name: mode.part for mode in self._base.modes if not mode.harmless}
        faults = [
            InputFault(each.mode, "is no way of being faulty that the knowledge base has")
            for each in culprits
            if each.mode and each.mode not in known
        ]
        faults += [
            InputFault(each.mode, f"belongs to the {known[each.mode].value}, not to the {each.kind.value}")
            for each in culprits
            if each.mode in known and known[each.mode] is not each.kind
        ]
        if faults:
            raise InputError("turned out", faults)
        turned_out = TurnedOut(self._system.wall(), tuple(dict.fromkeys(culprits)), " ".join(note.split()))
        last = self.decisions.frozen[-1] if self.decisions.frozen else None
        said = chance_given(last, turned_out) if last is not None else None
        path = self._record.writer.path
        job = ClosedJob(path.stem, number, turned_out.wall, turned_out.culprits, said)
        self._keep((*(each for each in self.closed if each.job != job.job), job))
        self._put(replace(self.decisions, turned_out=turned_out))
        words = compare(last, turned_out) if last is not None else "No verdict was frozen before."
        self._record.note("It turned out", words)
        return turned_out

    def reopen(self) -> None:
        """Take back what it turned out to be. Raises InputError when nothing was said."""
        if self.decisions.turned_out is None:
            raise InputError("job", [InputFault("reopen", "it was not closed")])
        self._keep(tuple(each for each in self.closed if each.job != self._record.writer.path.stem))
        self._put(replace(self.decisions, turned_out=None))
        self._record.note("The job is open again", "what it turned out to be was taken back")

    def let_count(self, job: str, counts: bool) -> None:
        """Let a closed job count or not. Raises InputError for one that is not there."""
        if not any(each.job == job for each in self.closed):
            raise InputError("closed jobs", [InputFault(job, "is none of them")])
        self._keep(tuple(replace(each, counts=counts) if each.job == job else each for each in self.closed))
        self._record.tell(self.event())

    def _keep(self, closed: tuple[ClosedJob, ...]) -> None:
        if self._shop is not None:
            write_closed_jobs(self._shop, closed)
        self.closed = closed
        self.knowledge = with_closed_jobs(self._base, closed)
        self._record.changed = True

    def _put(self, decisions: Decisions) -> None:
        self.decisions = decisions
        self._record.writer.set_decisions(decisions)
        self._record.tell(self.event())
