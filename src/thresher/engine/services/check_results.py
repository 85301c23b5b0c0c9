"""Results of component checks over all visits of a machine: read when the bench opens, kept after each run."""

from dataclasses import dataclass, field

from thresher.engine.run.record import Record
from thresher.engine.services.intake import IntakeService
from thresher.model.checks import CheckResult
from thresher.model.errors import ThresherError
from thresher.model.findings import Severity
from thresher.shop.check_history import keep_results, past_results


@dataclass(slots=True)
class CheckResults:
    """The results of this job and of those before it. A shop folder that cannot be used is reported."""

    record: Record
    intake: IntakeService
    job: str
    before: tuple[CheckResult, ...] = field(init=False)
    _kept: int = field(init=False)

    def __post_init__(self) -> None:
        """Read what is known of the machine."""
        self.before, self._kept = (), len(self.record.check_results)
        shop, key = self.intake.shop, self.intake.key
        if shop is None or key is None:
            return
        try:
            self.before = past_results(shop, key, self.job)
        except ThresherError as error:
            self.record.note("A file of the shop cannot be read", str(error), Severity.WARNING, "X-860")

    def keep(self) -> None:
        """Keep what is new, once a run has ended."""
        shop, key, results = self.intake.shop, self.intake.key, self.record.check_results
        if shop is None or key is None or len(results) == self._kept:
            return
        self._kept = len(results)
        try:
            keep_results(shop, key, self.job, tuple(results))
        except ThresherError as error:
            self.record.note("Cannot write the shop's files", str(error), Severity.WARNING, "X-861")
