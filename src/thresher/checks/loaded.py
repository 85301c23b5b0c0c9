"""Checks that work a part with loads: what they share."""

from collections.abc import Sequence

from thresher.checks.check import Check, CheckSteps, LoadSeen, Steps, progress, under_load
from thresher.model.checks import CheckResult, Figure
from thresher.model.findings import Finding, Severity
from thresher.model.parts import PartKind
from thresher.model.sheet import Block


def in_turn(blocks: Sequence[Block], first: float = 0.0, last: float = 1.0) -> Steps[list[LoadSeen]]:
    """Carry out blocks one after the other, with progress from one share to another."""
    seen = []
    for number, block in enumerate(blocks):
        yield from progress(block.load, first + (last - first) * number / len(blocks))
        seen.append((yield from under_load(block)))
    return seen


def found_in(seen: Sequence[LoadSeen], parts: Sequence[PartKind]) -> list[Finding]:
    """Return what blocks found of some parts, the mild too, first come first."""
    return [
        finding
        for each in seen
        for finding in each.findings
        if finding.part in parts and finding.severity is not Severity.NOTE
    ]


def judged(check: Check, seen: Sequence[LoadSeen], parts: Sequence[PartKind], done: str) -> list[CheckResult]:
    """Return what blocks say of some parts: failed with what was found first, unclear where nothing was worked."""
    found = found_in(seen, parts)
    if found:
        first = found[0]
        others = len(found) - 1
        more = f", and {others} more finding{'s' if others > 1 else ''}" if others else ""
        return [check.failed(f"{first.title}{': ' + first.detail if first.detail else ''}{more}", code=first.code)]
    why = next((each.left_out for each in seen if each.left_out), "")
    worked = sum(each.checked_s for each in seen)
    if why or worked <= 0:
        return [check.unclear(why or "no work was checked; it ended too early")]
    return [check.passed(done, Figure("checked work", round(worked, 1), "s"))]


def worked_check(blocks: Sequence[Block], check: Check, parts: Sequence[PartKind], done: str) -> CheckSteps:
    """Carry out blocks and judge by what they found; the findings themselves are evidence already."""
    seen = yield from in_turn(blocks)
    return tuple(judged(check, seen, parts, done))
