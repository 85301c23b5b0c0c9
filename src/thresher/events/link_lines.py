"""PCI Express errors as the kernel prints them: a line with the severity, then one for each kind of error.

Source of the lines: drivers/pci/pcie/aer.c.
"""

import re
from dataclasses import replace

from thresher.events.kernel_lines import card_of
from thresher.events.kernel_log import KernelRecord
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import PartKind

_DETAIL = re.compile(r"^\S+ (?P<dev>[0-9a-f:.]{7,12}):\s+\[ ?(?P<bit>\d{1,2})\] (?P<name>[A-Z][A-Za-z]{2,20})\b")
_MASK = re.compile(r"^\S+ (?P<dev>[0-9a-f:.]{7,12}):\s+device \[[0-9a-f]{4}:[0-9a-f]{4}\] error status/mask=")
_CODES = ("S-510", "S-520", "S-521")
_CORRECTED = ("RxErr", "BadTLP", "BadDLLP", "Rollover", "Timeout", "NonFatalErr", "CorrIntErr", "HeaderOF")
"""The kernel's short names of corrected errors; all others are of uncorrected ones."""
_WORDS = {
    "RxErr": "receiver error",
    "BadTLP": "bad packet",
    "BadDLLP": "bad link packet",
    "Rollover": "replay number rolled over",
    "Timeout": "replay timer ran out",
    "NonFatalErr": "advisory non-fatal error",
    "DLP": "data link protocol error",
    "SDES": "surprise link down",
    "TLP": "poisoned packet",
    "FCP": "flow control protocol error",
    "CmpltTO": "completion timeout",
    "CmpltAbrt": "completer abort",
    "UnxCmplt": "unexpected completion",
    "RxOF": "receiver overflow",
    "MalfTLP": "malformed packet",
    "ECRC": "end-to-end CRC error",
    "UnsupReq": "unsupported request",
    "ACSViol": "access control violation",
}


class LinkLines:
    """Joins the lines of one error of a link; feed it records in order."""

    def __init__(self) -> None:
        """Nothing is pending."""
        self._pending: Finding | None = None

    def begin(self, finding: Finding) -> bool:
        """Hold a finding back if details of it may follow."""
        if finding.code not in _CODES or "PCIe Bus Error: severity=" not in finding.raw or "TLP Header" in finding.raw:
            return False
        self._pending = finding
        return True

    def feed(self, record: KernelRecord) -> list[Finding]:
        """Take a record in and return the findings that are complete now."""
        if (
            self._pending is not None
            and (mask := _MASK.match(record.text))
            and card_of(mask["dev"]) == self._pending.place
        ):
            return []
        detail = _DETAIL.match(record.text)
        if detail is None:
            return self.flush()
        name, place = detail["name"], card_of(detail["dev"])
        words = f"{name} ({_WORDS[name]})" if name in _WORDS else name
        if self._pending is not None and self._pending.place == place:
            raw = f"{self._pending.raw}\n{record.text.rstrip()}"
            self._pending = replace(self._pending, detail=f"{self._pending.detail}; {words}", raw=raw)
            return []
        done = self.flush()
        corrected = name in _CORRECTED
        self._pending = Finding(
            "S-510" if corrected else "S-520",
            FindingKind.LINK_CORRECTED if corrected else FindingKind.LINK_UNCORRECTED,
            Severity.WARNING if corrected else Severity.FAULT,
            PartKind.BOARD,
            record.time or 0.0,
            f"{'Corrected error' if corrected else 'Error'} on a PCI Express link, {place}",
            words,
            place,
            raw=record.text.rstrip(),
        )
        return done

    def flush(self) -> list[Finding]:
        """Return what is pending."""
        pending, self._pending = self._pending, None
        return [pending] if pending is not None else []
