"""The verdict on the job: worked out when evidence has changed, and now and then while clean minutes add up."""

import time

from thresher.diagnosis.evidence import Evidence, evidence_of
from thresher.diagnosis.verdict import diagnose
from thresher.engine.run.conductor import Conductor
from thresher.engine.run.record import Record
from thresher.engine.services.added_evidence import AddedEvidence
from thresher.engine.services.decisions import DecisionService
from thresher.engine.services.intake import IntakeService
from thresher.engine.services.job_fields import JobFields
from thresher.engine.services.trials import TrialService
from thresher.model.decisions import LockedVerdict
from thresher.model.findings import Severity, trusted_findings
from thresher.model.port import System
from thresher.model.verdict import Verdict
from thresher.protocol.events import VerdictEvent

_DIAGNOSE_EVERY_S = 20.0
_LONG_S, _REST = 0.2, 10.0
"""A verdict on much evidence takes long: while a load runs, the next one then waits ten times as long as it took."""


class VerdictService:
    """Works out the verdict from all evidence of the job."""

    def __init__(
        self,
        system: System,
        record: Record,
        conductor: Conductor,
        job: JobFields,
        added: AddedEvidence,
        trials: TrialService,
        decisions: DecisionService,
        intake: IntakeService,
    ) -> None:
        """Serve one job; there is no verdict before the first tick."""
        self._system = system
        self._record = record
        self._conductor = conductor
        self._job = job
        self._added = added
        self._trials = trials
        self._decisions = decisions
        self._intake = intake
        self._diagnosed_at = 0.0
        self._rests_until = 0.0
        self.verdict: Verdict | None = None

    def evidence(self) -> Evidence:
        """Return everything that speaks for or against a part of this job."""
        spent = (*self._conductor.exposures(), *self._added.use)
        cores = self._record.inventory.core_count
        ignored = frozenset(channel.key for channel in self._record.channels if channel.distrust)
        findings = trusted_findings(self._record.findings, ignored)
        return evidence_of(findings, spent, cores, self._job.symptoms, self._trials.book)

    def follow(self, at: float) -> None:
        """Work out the verdict if evidence has changed, or if it is some time ago and a load runs."""
        busy = bool(self._conductor.busy_cores())
        due = busy and at - self._diagnosed_at >= _DIAGNOSE_EVERY_S
        resting = busy and time.monotonic() < self._rests_until
        if (self._record.changed or due) and not resting:
            self._diagnose(at)

    def _diagnose(self, at: float) -> None:
        prices = self._intake.prices
        now = time.localtime(self._system.wall())
        overnight = prices.leaves_soon(now.tm_hour * 60.0 + now.tm_min)
        begun = time.monotonic()
        found = diagnose(self.evidence(), self._decisions.knowledge, prices, self._trials.book, overnight)
        took = time.monotonic() - begun
        self._rests_until = begun + took * (_REST if took > _LONG_S else 1.0)
        self.verdict = found
        self._diagnosed_at = at
        self._record.changed = False
        self._record.publish(VerdictEvent(found))

    def lock(self, note: str = "") -> LockedVerdict:
        """Lock the verdict as it is now. Raises InputError when there is none."""
        if self._record.changed and self._record.tick is not None:
            self._diagnose(self._record.tick.at)
        return self._decisions.lock(self.verdict, len(self._trials.book.trials), note)

    def reload_prices(self) -> None:
        """Reload the shop's price list, after it was changed in an editor."""
        before = len(self._intake.notes)
        self._intake.prices = self._intake.read_prices()
        for problem in self._intake.notes[before:]:
            self._record.note(problem.title, problem.detail, Severity.WARNING, problem.code)
        self._record.changed = True
