"""What was seen of drives as findings: health, read scans, self-tests, verified loads, counts that rise.

Times are left at 0; whoever keeps a finding sets when it came.
"""

import os
from dataclasses import dataclass

from thresher.drives.health import DriveHealth, DriveStatus, Meaning, Sign
from thresher.drives.scan import ScanProgress
from thresher.drives.scratch import ScratchProgress
from thresher.drives.self_test import Progress
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import PartKind

BY_HEALTH, BY_SCAN, BY_TEST, BY_LOAD = "drive health", "read scan", "self-test", "verified load"
_MOST = 5
_MANY_SLOW = 20
"""Blocks of 150 ms and longer: a healthy drive has a few where it recalibrates itself."""
_GONE = (6, 19)
"""ENXIO and ENODEV."""
_NO_FAULT = (28, 30, 122)
"""A full file system, one gone to read-only and a used-up quota: the drive has not failed by that."""


@dataclass(frozen=True, slots=True)
class Charge:
    """What a sign becomes: its code, its title, and the kind of finding, None for a doubt only."""

    code: str
    title: str
    kind: FindingKind | None


CHARGES = {
    Meaning.SURFACE: Charge("D-341", "The drive counts bad sectors", FindingKind.DRIVE_FAILED),
    Meaning.MECHANICS: Charge("D-340", "The drive reports that it is failing", FindingKind.DRIVE_FAILED),
    Meaning.ELECTRONICS: Charge("D-340", "The drive reports that it is failing", FindingKind.DRIVE_FAILED),
    Meaning.WEAR: Charge("D-342", "The drive is worn", FindingKind.DRIVE_WORN),
    Meaning.LINK: Charge("D-322", "The drive counts damaged transfers", FindingKind.DRIVE_LINK),
    Meaning.LINK_SPEED: Charge("D-321", "The drive's link is slower than both ends can", None),
    Meaning.LINK_OR_SUPPLY: Charge("D-322", "The drive counts commands that timed out", None),
    Meaning.TEMPERATURE: Charge("D-345", "The drive is hot", None),
}
_STRONG = (DriveStatus.COPY, DriveStatus.REPLACE)


def _found(
    code: str,
    kind: FindingKind,
    severity: Severity,
    title: str,
    detail: str,
    drive: str,
    origin: str,
    address: int | None = None,
) -> Finding:
    part = PartKind.DRIVE
    return Finding(code, kind, severity, part, 0.0, title, detail, drive, origin=origin, address=address)


def by_code(signs: tuple[Sign, ...]) -> list[list[Sign]]:
    """Return the signs in groups that have a code in common, the worst group first."""
    groups: dict[str, list[Sign]] = {}
    for sign in signs:
        groups.setdefault(CHARGES[sign.meaning].code, []).append(sign)
    return list(groups.values())


def health_findings(drive: str, health: DriveHealth) -> list[Finding]:
    """Return a finding for each group of strong signs: they stay in the drive, whatever is done to the machine."""
    found = []
    for signs in by_code(health.signs):
        charge = CHARGES[signs[0].meaning]
        strong = [sign for sign in signs if sign.status in _STRONG or charge.kind is FindingKind.DRIVE_LINK]
        if charge.kind is None or not strong:
            continue
        detail = "; ".join(f"{sign.words} ({sign.source})" for sign in strong)
        title = f"{charge.title}, {drive}"
        found.append(_found(charge.code, charge.kind, Severity.WARNING, title, detail, drive, BY_HEALTH))
    return found


def scan_findings(drive: str, progress: ScanProgress) -> list[Finding]:
    """Return what a read scan has shown so far."""
    found = []
    for place in progress.bad[:_MOST]:
        sector, sectors = place.offset // 512, place.length // 512
        what = f"sector {sector}" + (f" to {sector + sectors - 1}" if sectors > 1 else "")
        title, detail = f"Cannot be read, {drive}", f"{what}: found by a read scan"
        kind = FindingKind.DRIVE_FAILED
        found.append(_found("D-310", kind, Severity.FAULT, title, detail, drive, BY_SCAN, place.offset))
    if progress.gone:
        title = f"Dropped out during a scan, {drive}"
        detail = "it cannot be read any more, not even where it could be read before"
        found.append(_found("D-331", FindingKind.DRIVE_SILENT, Severity.FAULT, title, detail, drive, BY_SCAN))
    elif progress.slow >= _MANY_SLOW and not progress.bad:
        title, detail = f"Slow places, {drive}", "blocks took 150 ms and longer, and could be read"
        found.append(_found("D-311", FindingKind.DRIVE_STALL, Severity.WARNING, title, detail, drive, BY_SCAN))
    return found


def test_findings(drive: str, progress: Progress, test: str) -> list[Finding]:
    """Return what a self-test that has ended has shown; `test` names it."""
    if progress.running or not progress.failed:
        return []
    place = f", first bad sector {progress.lba}" if progress.lba is not None else ""
    address = progress.lba * 512 if progress.lba is not None else None
    title, detail = f"Self-test failed, {drive}", f"its {test} {progress.ending}{place}"
    return [_found("D-346", FindingKind.DRIVE_FAILED, Severity.FAULT, title, detail, drive, BY_TEST, address)]


def silent_finding(drive: str, doing: str, why: str) -> Finding:
    """Return the finding of a drive that does not answer a command."""
    title, detail = f"Does not answer, {drive}", f"during {doing}: {why}"
    return _found("D-330", FindingKind.DRIVE_SILENT, Severity.FAULT, title, detail, drive, BY_TEST)


def load_findings(drive: str, progress: ScratchProgress) -> list[Finding]:
    """Return what a verified load has shown so far."""
    found = []
    for wrong in progress.wrong[:_MOST]:
        title, detail = f"Wrong data read back, {drive}", f"{wrong.nature.value}: {wrong.words}"
        kind = FindingKind.DRIVE_DATA
        found.append(_found("D-347", kind, Severity.FAULT, title, detail, drive, BY_LOAD, wrong.offset))
    for failure in [each for each in progress.failures if each.error not in _NO_FAULT][:_MOST]:
        gone = failure.error in _GONE
        detail = f"{failure.what} at byte {failure.offset} of the scratch file: {os.strerror(failure.error)}"
        title = f"{'Dropped out under load' if gone else 'A request failed'}, {drive}"
        kind = FindingKind.DRIVE_SILENT if gone else FindingKind.DRIVE_FAILED
        code = "D-331" if gone else "D-312"
        found.append(_found(code, kind, Severity.FAULT, title, detail, drive, BY_LOAD, failure.offset))
    if any(each.stalls for each in progress.timings):
        title, detail = (
            f"Requests held up, {drive}",
            "a read or write took over 1 s, or a flush over 10 s; programs that wait for the drive hang",
        )
        found.append(_found("D-332", FindingKind.DRIVE_STALL, Severity.WARNING, title, detail, drive, BY_LOAD))
    return found


_GROWS = {
    "media errors": ("D-341", "Its count of bad places grows", FindingKind.DRIVE_FAILED),
    "pending": ("D-341", "Its count of bad places grows", FindingKind.DRIVE_FAILED),
    "reallocated": ("D-341", "Its count of bad places grows", FindingKind.DRIVE_FAILED),
    "link CRC": ("D-322", "Its count of damaged transfers grows", FindingKind.DRIVE_LINK),
}


def growth_finding(drive: str, count: str, words: str) -> Finding:
    """Return the finding of a count that rises while the drive is on the bench; `count` is the end of its channel."""
    code, title, kind = _GROWS[count]
    return _found(code, kind, Severity.WARNING, f"{title}, {drive}", words, drive, "drive count")
