"""From kernel records to findings with a fault code."""

import re
from collections.abc import Iterable
from dataclasses import dataclass

from thresher.events.kernel_log import KernelRecord
from thresher.events.machine_check import (
    CheckPlace,
    DecodedStatus,
    MachineCheck,
    MachineCheckAssembler,
    Vendor,
    decode_status,
)
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import Inventory, PartKind

_THROTTLED = re.compile(r"CPU(\d+): (Core|Package) temperature (?:is )?above threshold.*total events = (\d+)")
_EDAC = re.compile(r"EDAC MC(\d+): (\d+) (CE|UE) (.*)")


@dataclass(frozen=True, slots=True)
class KernelFindings:
    """What one batch of records came to: findings, and the machine checks they were made from."""

    findings: tuple[Finding, ...]
    checks: tuple[MachineCheck, ...]


class KernelDecoder:
    """Turns kernel records into findings; keeps the lines of a machine check that is not complete yet."""

    def __init__(self, inventory: Inventory | None, vendor: Vendor) -> None:
        """`inventory` names cores by logical CPU, `vendor` is the layout where a record does not tell it."""
        self._inventory = inventory
        self._vendor = vendor
        self._assembler = MachineCheckAssembler()
        self._quiet_polls = 0

    def decode(self, records: Iterable[KernelRecord], last: bool = False) -> KernelFindings:
        """Decode a batch; one whose lines stop coming is given out after an empty batch, or at the `last`."""
        batch = list(records)
        checks = self._assembler.feed(batch)
        self._quiet_polls = 0 if batch else self._quiet_polls + 1
        if last or self._quiet_polls == 1:
            checks += self._assembler.flush()
        findings = [finding for check in checks if (finding := self.finding_of(check))]
        findings += [finding for record in batch if (finding := self._simple(record))]
        return KernelFindings(tuple(findings), tuple(checks))

    def finding_of(self, check: MachineCheck) -> Finding | None:
        """Return the finding that a machine check is, or None when its register holds no valid error."""
        vendor = check.vendor if check.vendor is not Vendor.UNKNOWN else self._vendor
        status = decode_status(check.status, vendor)
        if not status.valid:
            return None
        core = self._inventory.core_of(check.cpu) if self._inventory else None
        place = f"core {core}" if core is not None else f"CPU {check.cpu}"
        memory = status.place is CheckPlace.MEMORY_CONTROLLER
        code, kind, severity = _classify(status, memory)
        address = f", address {check.address:#x}" if check.address is not None and status.address_valid else ""
        return Finding(
            code=code,
            kind=kind,
            severity=severity,
            part=PartKind.MEMORY if memory else PartKind.PROCESSOR,
            at=check.at or 0.0,
            title=f"Machine check, {place}",
            detail=f"Bank {check.bank}, {status.summary}{address}",
            place=place,
            core=core if core is not None else check.cpu,
            count=max(1, status.corrected_count or 1),
            raw="\n".join(check.raw),
        )

    def _simple(self, record: KernelRecord) -> Finding | None:
        if match := _THROTTLED.search(record.text):
            return Finding(
                "C-210", FindingKind.HEAT_THROTTLE, Severity.WARNING, PartKind.COOLING, record.at or 0.0,
                "Throttled by heat", f"{match[2].lower()} above its threshold, event {match[3]} since boot",
                raw=record.text,
            )  # fmt: skip
        if match := _EDAC.search(record.text):
            bad = match[3] == "UE"
            return Finding(
                "M-320" if bad else "M-310",
                FindingKind.MEMORY_UNCORRECTED if bad else FindingKind.MEMORY_CORRECTED,
                Severity.FAULT if bad else Severity.WARNING, PartKind.MEMORY, record.at or 0.0,
                f"Memory error, controller {match[1]}", match[4], f"controller {match[1]}",
                count=max(1, int(match[2])), raw=record.text,
            )  # fmt: skip
        return None


def _classify(status: DecodedStatus, memory: bool) -> tuple[str, FindingKind, Severity]:
    if memory:
        if status.uncorrected:
            return "M-320", FindingKind.MEMORY_UNCORRECTED, Severity.FAULT
        return "M-310", FindingKind.MEMORY_CORRECTED, Severity.WARNING
    if status.uncorrected:
        return "P-320", FindingKind.UNCORRECTED_CHECK, Severity.FAULT
    return "P-310", FindingKind.CORRECTED_CHECK, Severity.WARNING
