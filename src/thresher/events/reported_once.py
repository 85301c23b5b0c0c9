"""One error of the hardware is reported by several sources: each is to count once.

A memory error may come as a machine check (log and trace), as an EDAC line and trace event, as a firmware record that
the kernel prints, and as lines about the page that was given up. The n-th report of one source about a key is the same
error as the n-th report of another, so that the errors of a key are the most that one source has reported of it.
"""

from dataclasses import dataclass, field
from enum import StrEnum

from thresher.events.machine_checks.registers import MachineCheck
from thresher.model.findings import Finding, FindingKind

_FORGET_AFTER_S = 120.0
_MOST_KEYS = 4096
_PAGE_BITS = 12


class ReportForm(StrEnum):
    """By what an error was reported."""

    CHECK_LOG = "machine check in the log"
    CHECK_TRACE = "machine check in the trace"
    CONSUMED_LOG = "machine check of a core that read poisoned data, in the log"
    CONSUMED_TRACE = "machine check of a core that read poisoned data, in the trace"
    LINE = "line of the log"
    GIVEN_UP = "line about a page that was given up"
    PROGRAM_ENDED = "line about a program that was ended"
    FIRMWARE = "firmware record in the log"
    TRACE = "trace event"
    PAGE_TRACE = "trace event about a page that was given up"
    WITH_ADDRESS = "any source that reports the address"


@dataclass(slots=True)
class _Tally:
    last: float
    most: int = 0
    by_form: dict[ReportForm, int] = field(default_factory=dict)


class ReportedOnce:
    """Counts what each source has reported of each error."""

    def __init__(self) -> None:
        """Nothing has been reported."""
        self._tallies: dict[object, _Tally] = {}

    def new_count(self, form: ReportForm, key: object, count: int, at: float) -> int:
        """Return how many of `count` errors that a source reports are not known from the others, 0 for none."""
        tally = self._tallies.get(key)
        if tally is None or at - tally.last > _FORGET_AFTER_S:
            if len(self._tallies) >= _MOST_KEYS:
                self._tallies.pop(next(iter(self._tallies)))
            tally = self._tallies[key] = _Tally(at)
        tally.last = max(tally.last, at)
        mine = tally.by_form[form] = tally.by_form.get(form, 0) + count
        fresh = max(0, mine - tally.most)
        tally.most = max(tally.most, mine)
        return fresh


MEMORY_KINDS = (FindingKind.MEMORY_CORRECTED, FindingKind.MEMORY_UNCORRECTED)
_CONSUMED, _PROGRAM_ENDED, _GIVEN_UP = "M-325", "M-326", ("M-330", "M-331")
_LINK = (FindingKind.LINK_CORRECTED, FindingKind.LINK_UNCORRECTED)


def key_of(finding: Finding, check: MachineCheck | None) -> object | None:
    """Return what all reports of an error have in common; None for an error that only one source can report.

    Errors of memory are compared by their page, because each source rounds the address in its own way.
    """
    if finding.kind in MEMORY_KINDS and finding.address is not None:
        return finding.kind, finding.address >> _PAGE_BITS
    if check is not None:
        return check.cpu, check.bank, check.status, check.address
    if finding.kind in MEMORY_KINDS:
        return finding.kind, "no address"
    return (finding.code, finding.place) if finding.kind in _LINK else None


def form_of_check(finding: Finding, traced: bool = False) -> ReportForm:
    """Return the form of a machine check; a core that met wrong data reports beside the controller that found them."""
    if finding.code == _CONSUMED:
        return ReportForm.CONSUMED_TRACE if traced else ReportForm.CONSUMED_LOG
    return ReportForm.CHECK_TRACE if traced else ReportForm.CHECK_LOG


def form_of_line(finding: Finding, traced: bool = False) -> ReportForm:
    """Return the form of a line of the log, or of an event of the trace."""
    if finding.code in _GIVEN_UP:
        return ReportForm.PAGE_TRACE if traced else ReportForm.GIVEN_UP
    if finding.code == _PROGRAM_ENDED:
        return ReportForm.PROGRAM_ENDED
    return ReportForm.TRACE if traced else ReportForm.LINE
