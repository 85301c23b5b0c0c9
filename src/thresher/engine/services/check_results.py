"""Results of component checks over all visits of a machine: read when the bench opens, kept after each run."""

import queue
import threading
from dataclasses import dataclass, field

from thresher.engine.run.record import Record
from thresher.engine.services.intake import IntakeService
from thresher.model.checks import CheckResult
from thresher.model.errors import ThresherError
from thresher.model.findings import Severity
from thresher.shop.check_history import keep_results, past_results

_SETTLE_S = 5.0


@dataclass(slots=True)
class CheckResults:
    """The results of this job and of those before it. A shop folder that cannot be used is reported."""

    record: Record
    intake: IntakeService
    job: str
    before: tuple[CheckResult, ...] = field(init=False)
    _kept: int = field(init=False)
    _writing: threading.Thread | None = field(default=None, init=False)
    _troubles: "queue.SimpleQueue[str]" = field(default_factory=queue.SimpleQueue, init=False)

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
        """Keep what is new, once a run has ended: on a thread, because the shop's disk may be slow or dying."""
        shop, key, results = self.intake.shop, self.intake.key, self.record.check_results
        if shop is None or key is None or len(results) == self._kept:
            return
        self._kept = len(results)
        kept, earlier = tuple(results), self._writing

        def write() -> None:
            if earlier is not None:
                earlier.join()
            try:
                keep_results(shop, key, self.job, kept)
            except ThresherError as error:
                self._troubles.put(str(error))

        self._writing = threading.Thread(target=write, name="results of checks", daemon=True)
        self._writing.start()

    def report(self) -> None:
        """Put on the tape what could not be written."""
        while not self._troubles.empty():
            self.record.note("Cannot write the shop's files", self._troubles.get(), Severity.WARNING, "X-861")

    def settle(self) -> None:
        """Wait for what is being written, but not for ever, and report."""
        if self._writing is not None:
            self._writing.join(_SETTLE_S)
            if self._writing.is_alive():
                self._troubles.put(f"the results of this job are not written after {_SETTLE_S:.0f} s; the job has them")
        self.report()
