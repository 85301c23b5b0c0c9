"""From kernel records, traced events and registers to findings with a fault code."""

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

from thresher.events.firmware_lines import FirmwareAssembler, FirmwareBlock
from thresher.events.kernel_lines import LineMatch, LineRules, finding_of_line, load_rules
from thresher.events.kernel_log import KernelRecord
from thresher.events.machine_checks.decode import CheckKnowledge, decode_check, load_check_knowledge
from thresher.events.machine_checks.lines import MARK, MachineCheckAssembler
from thresher.events.machine_checks.registers import CheckSeverity, DecodedCheck, MachineCheck, Unit
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import Inventory, PartKind
from thresher.model.vendors import Vendor

_APIC = re.compile(r"^(processor|apicid)\s*:\s*(\d+)", re.MULTILINE)


@dataclass(frozen=True, slots=True)
class KernelFindings:
    """What one batch of records came to: findings, the machine checks they were made from, and lines to be noted.

    `reported` are the findings in the order of the log, each with the machine check it was made from, if it was.
    `checks` also holds those whose register is not valid; `notes` are lines that a rule knows and that are no
    evidence."""

    with_checks: tuple[tuple[Finding, MachineCheck | None], ...]
    checks: tuple[MachineCheck, ...]
    notes: tuple[LineMatch, ...] = ()

    @property
    def findings(self) -> tuple[Finding, ...]:
        """The findings alone."""
        return tuple(finding for finding, _ in self.with_checks)


@dataclass(frozen=True, slots=True)
class EventKnowledge:
    """The tables that decoding events needs."""

    lines: LineRules
    checks: CheckKnowledge


def load_event_knowledge() -> EventKnowledge:
    """Return the tables that come with the program. Raises InputError for tables that contradict themselves."""
    return EventKnowledge(load_rules(), load_check_knowledge())


def apic_ids(cpuinfo: str) -> dict[int, int]:
    """Return which logical CPU has which APIC id, from the text of `/proc/cpuinfo`."""
    cpus: dict[int, int] = {}
    cpu = 0
    for name, number in _APIC.findall(cpuinfo):
        if name == "processor":
            cpu = int(number)
        else:
            cpus[int(number)] = cpu
    return cpus


_SHARED_CODES: Mapping[Unit, tuple[str, str, PartKind]] = {
    Unit.CORE: ("P-310", "P-320", PartKind.PROCESSOR),
    Unit.CORE_CACHE: ("P-310", "P-320", PartKind.PROCESSOR),
    Unit.SHARED_CACHE: ("P-311", "P-321", PartKind.PROCESSOR),
    Unit.INTERCONNECT: ("P-312", "P-322", PartKind.PROCESSOR),
    Unit.POWER_CONTROL: ("P-313", "P-323", PartKind.PROCESSOR),
    Unit.SECURITY: ("P-313", "P-323", PartKind.PROCESSOR),
    Unit.MEMORY: ("M-310", "M-320", PartKind.MEMORY),
    Unit.MEMORY_CONTROLLER: ("M-311", "M-321", PartKind.PROCESSOR),
    Unit.MEMORY_CHANNEL: ("M-312", "M-322", PartKind.MEMORY),
    Unit.PCIE: ("S-510", "S-520", PartKind.BOARD),
    Unit.BOARD_LINKS: ("S-511", "S-522", PartKind.BOARD),
    Unit.OUTSIDE: ("S-512", "S-523", PartKind.BOARD),
    Unit.UNKNOWN: ("P-319", "P-329", PartKind.PROCESSOR),
}
_OF_CORE = (Unit.CORE, Unit.CORE_CACHE)
_OF_MEMORY = (Unit.MEMORY, Unit.MEMORY_CONTROLLER, Unit.MEMORY_CHANNEL)
_OF_LINKS = (Unit.PCIE, Unit.BOARD_LINKS, Unit.OUTSIDE)


def code_of_check(decoded: DecodedCheck) -> tuple[str, FindingKind, Severity, PartKind]:
    """Return fault code, kind, severity and part that a machine check stands for."""
    corrected = decoded.severity is CheckSeverity.CORRECTED
    low, high, part = _SHARED_CODES[decoded.unit]
    if decoded.severity is CheckSeverity.DEFERRED:
        code = "M-323" if decoded.unit in _OF_MEMORY else "P-324"
    else:
        code = low if corrected else high
    if decoded.unit in _OF_MEMORY:
        kind = FindingKind.MEMORY_CORRECTED if corrected else FindingKind.MEMORY_UNCORRECTED
    elif decoded.unit in _OF_LINKS:
        kind = FindingKind.LINK_CORRECTED if corrected else FindingKind.LINK_UNCORRECTED
    else:
        kind = FindingKind.CORRECTED_CHECK if corrected else FindingKind.UNCORRECTED_CHECK
    mild = corrected or decoded.severity in (CheckSeverity.DEFERRED, CheckSeverity.NO_ACTION)
    return code, kind, Severity.WARNING if mild else Severity.FAULT, part


class KernelDecoder:
    """Turns kernel records into findings; keeps the lines of an error that is not complete yet."""

    def __init__(
        self,
        inventory: Inventory | None,
        vendor: Vendor,
        knowledge: EventKnowledge | None = None,
        apics: Mapping[int, int] | None = None,
    ) -> None:
        """`inventory` names cores by logical CPU, `vendor` is the layout where a record does not report it.

        `apics` is which logical CPU has which APIC id, where known.
        """
        self._inventory = inventory
        self._vendor = vendor
        self.knowledge = knowledge or load_event_knowledge()
        self._apics = dict(apics or {})
        self._checks = MachineCheckAssembler()
        self._firmware = FirmwareAssembler()
        self._quiet_polls = 0

    def decode(self, records: Iterable[KernelRecord], last: bool = False) -> KernelFindings:
        """Decode a batch; one whose lines stop coming is given out after an empty batch, or at the `last`."""
        checks: list[MachineCheck] = []
        with_checks: list[tuple[Finding, MachineCheck | None]] = []
        notes: list[LineMatch] = []
        count = 0
        for record in records:
            count += 1
            if MARK in record.text:
                done = self._checks.feed((record,))
                checks += done
                with_checks += [(each, check) for check in done if (each := self.finding_of(check))]
                with_checks += [(finding_of_block(block), None) for block in self._firmware.feed((record,))]
            match = self.knowledge.lines.match(record.text)
            if match is None:
                continue
            if match.rule.kind is None:
                notes.append(match)
                continue
            meaning = match.meaning()
            finding = finding_of_line(meaning, record)
            if finding is not None:
                with_checks.append((self._on_core(finding, meaning.cpu), None))
        self._quiet_polls = 0 if count else self._quiet_polls + 1
        if last or self._quiet_polls == 1:
            done = self._checks.flush()
            checks += done
            with_checks += [(each, check) for check in done if (each := self.finding_of(check))]
            with_checks += [(finding_of_block(block), None) for block in self._firmware.flush()]
        return KernelFindings(tuple(with_checks), tuple(checks), tuple(notes))

    def with_vendor(self, check: MachineCheck) -> MachineCheck:
        """Return a check with this machine's layout where its lines reported none."""
        return replace(check, vendor=self._vendor) if check.vendor is Vendor.UNKNOWN else check

    def _on_core(self, finding: Finding, cpu: int | None) -> Finding:
        """Put a line about a logical CPU down to its core."""
        if cpu is None or finding.part is not PartKind.PROCESSOR:
            return finding
        core = self._inventory.core_of(cpu) if self._inventory else None
        if core is None:
            return replace(finding, core=cpu)
        title = finding.title.replace(f"CPU {cpu}", f"core {core}")
        return replace(finding, core=core, place=f"core {core}", title=title)

    def finding_of(self, check: MachineCheck) -> Finding | None:
        """Return the finding that a machine check is, or None when its register holds no valid error."""
        check = self.with_vendor(check)
        decoded = decode_check(check, self.knowledge.checks)
        if not decoded.valid:
            return None
        code, kind, severity, part = code_of_check(decoded)
        cpu = check.cpu if check.cpu is not None else self._apics.get(check.apic) if check.apic is not None else None
        core = self._inventory.core_of(cpu) if self._inventory and cpu is not None else None
        told_by = f"core {core}" if core is not None else f"CPU {cpu}" if cpu is not None else "processor"
        place = _place_of(decoded, check, told_by)
        address = f", address {check.address:#x}" if check.address is not None and decoded.address_valid else ""
        lost = "; further errors were lost" if decoded.overflow else ""
        bank = f"Bank {check.bank}, " if check.bank is not None else ""
        of_core = decoded.unit in _OF_CORE or decoded.unit is Unit.UNKNOWN
        return Finding(
            code=code,
            kind=kind,
            severity=severity,
            part=part,
            at=check.at or 0.0,
            title=f"Machine check, {place}",
            detail=f"{bank}{decoded.summary}{address}{lost}",
            place=place,
            core=(core if core is not None else cpu) if of_core else None,
            count=max(1, decoded.corrected_count or 1),
            raw="\n".join(check.raw) or f"status {check.status:#018x}",
        )


def _place_of(decoded: DecodedCheck, check: MachineCheck, told_by: str) -> str:
    """Name the place of an error: what is shared is not assigned to the core that happened to report it."""
    if decoded.unit in _OF_MEMORY:
        if decoded.channel is None:
            return "memory controller"
        select = f", chip select {decoded.chip_select}" if decoded.chip_select is not None else ""
        return f"channel {decoded.channel}{select}"
    if decoded.unit in _OF_CORE or decoded.unit is Unit.UNKNOWN:
        return told_by
    socket = f" of socket {check.socket}" if check.socket else ""
    return f"{decoded.unit_words or decoded.unit.value}{socket}"


_SECTIONS: Mapping[str, tuple[str, str, PartKind, FindingKind, FindingKind]] = {
    "memory error": (
        "M-310",
        "M-320",
        PartKind.MEMORY,
        FindingKind.MEMORY_CORRECTED,
        FindingKind.MEMORY_UNCORRECTED,
    ),
    "PCIe error": ("S-510", "S-520", PartKind.BOARD, FindingKind.LINK_CORRECTED, FindingKind.LINK_UNCORRECTED),
    "processor error": (
        "P-310",
        "P-320",
        PartKind.PROCESSOR,
        FindingKind.CORRECTED_CHECK,
        FindingKind.UNCORRECTED_CHECK,
    ),
}
_OTHER_SECTION = (
    "P-319",
    "P-329",
    PartKind.BOARD,
    FindingKind.CORRECTED_CHECK,
    FindingKind.UNCORRECTED_CHECK,
)


def finding_of_block(block: FirmwareBlock) -> Finding:
    """Return the finding of a section that the kernel printed for firmware."""
    section = next((each for each in _SECTIONS if block.section.endswith(each)), "")
    low, high, part, mild, bad = _SECTIONS.get(section, _OTHER_SECTION)
    corrected = block.severity in ("corrected", "info")
    fields = block.fields
    place = ""
    if part is PartKind.MEMORY:
        where = [f"{name} {fields[name]}" for name in ("node", "card", "module") if name in fields]
        location = fields.get("DIMM location", "")
        known = location and not location.startswith("not present")
        place = location if known else fields.get("fru_text") or ", ".join(where)
    elif "device_id" in fields:
        place = fields["device_id"]
    with_checks = [fields[name] for name in ("error_type", "error_status", "physical_address") if name in fields]
    return Finding(
        code=low if corrected else high,
        kind=mild if corrected else bad,
        severity=Severity.WARNING if corrected else Severity.FAULT,
        part=part,
        at=block.at or 0.0,
        title=f"Firmware reported a {block.section}{f', {place}' if place else ''}",
        detail=f"{block.severity or 'severity unknown'}; {'; '.join(with_checks) or 'nothing more'}",
        place=place,
        raw="\n".join(block.raw),
    )
