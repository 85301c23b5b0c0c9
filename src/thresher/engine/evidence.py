"""Findings made from what a team of workers reports, and the circumstances put to a finding."""

from collections.abc import Callable
from dataclasses import replace

from thresher.events.machine_check import MachineCheck
from thresher.loads.team import MismatchSeen, ReferenceDisputed, WorkerLost
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import Inventory, PartKind

STORM_S = 5.0
"""Wrong results of one core are told at most this often, in machine seconds; none is left out of the count."""


def finding_of_team_event(event: object, inventory: Inventory, at: float) -> Finding:
    """Return the finding that a team's event is, at machine time `at`. Raises TypeError for what is none."""
    match event:
        case MismatchSeen(cpu, mismatch):
            core = _core(inventory, cpu)
            word = mismatch.shown[0] if mismatch.shown else None
            bits = ", ".join(str(bit) for bit in word.bits[:6]) if word else ""
            again = "right when repeated" if mismatch.repeated_right else "wrong again when repeated"
            where = f", word {word.index}, bit {bits}" if word else ""
            detail = f"matrix, beat {mismatch.beat}, {mismatch.wrong} of {mismatch.words} words wrong{where}; {again}"
            raw = "\n".join(f"word {w.index}: expected {w.expected}, found {w.found}" for w in mismatch.shown)
            return Finding(
                "P-104", FindingKind.WRONG_RESULT, Severity.FAULT, PartKind.PROCESSOR, at,
                f"Wrong result, core {core}", detail, f"core {core}", core, count=mismatch.count, raw=raw,
            )  # fmt: skip
        case ReferenceDisputed(made_on, confirmed_on, sets):
            made, confirmed = _core(inventory, made_on), _core(inventory, confirmed_on)
            return Finding(
                "P-105", FindingKind.REFERENCE_DISPUTE, Severity.FAULT, PartKind.PROCESSOR, at,
                "Cores disagree about a known answer",
                f"core {made} made the reference, core {confirmed} does not confirm {sets} of its sets",
                f"cores {made} and {confirmed}",
            )  # fmt: skip
        case WorkerLost(cpu, _) as lost:
            core = _core(inventory, cpu)
            return Finding(
                "P-110", FindingKind.WORKER_CRASH, Severity.FAULT, PartKind.PROCESSOR, at,
                f"Worker crashed, core {core}", lost.sentence, f"core {core}", core,
            )  # fmt: skip
    raise TypeError(f"not an event of a team: {event!r}")


def _core(inventory: Inventory, cpu: int) -> int:
    core = inventory.core_of(cpu)
    return cpu if core is None else core


def with_circumstances(finding: Finding, run_at: float | None, load: str, temperature_c: float | None) -> Finding:
    """Return the finding with the circumstances that it came under."""
    known = finding.temperature_c if finding.temperature_c is not None else temperature_c
    return replace(finding, run_at=run_at, load=load, temperature_c=known)


def describe_check(check: MachineCheck) -> dict[str, object]:
    """Return a machine check's registers as plain data for the journal, raw lines included."""
    registers = {"status": check.status, "address": check.address, "misc": check.misc, "mcg_status": check.mcg_status}
    shown = {name: f"{value:#x}" for name, value in registers.items() if value is not None}
    return {"cpu": check.cpu, "bank": check.bank, **shown, "raw": list(check.raw)}


class Storms:
    """Holds equal findings of one core together, so that a core gone wild gives one every few seconds with a count."""

    def __init__(self) -> None:
        """Nothing is held."""
        self._told_at: dict[int | None, float] = {}
        self._held: dict[int | None, Finding] = {}

    def take(self, finding: Finding, find: Callable[[Finding], None]) -> None:
        """Pass a finding on, or hold it when one of its core was told a moment ago."""
        told = self._told_at.get(finding.core)
        if told is None or finding.at - told >= STORM_S:
            self._told_at[finding.core] = finding.at
            find(finding)
            return
        held = self._held.get(finding.core)
        count = finding.count + (held.count if held else 0)
        self._held[finding.core] = replace(finding, count=count)

    def release(self, at: float | None, find: Callable[[Finding], None]) -> None:
        """Pass on what was held long enough at machine time `at`, or everything when it is None."""
        for core, finding in list(self._held.items()):
            if at is None or at - self._told_at[core] >= STORM_S:
                del self._held[core]
                self._told_at[core] = finding.at if at is None else at
                title = f"{finding.count} wrong results, {finding.place}" if finding.count > 1 else finding.title
                find(replace(finding, title=title))
