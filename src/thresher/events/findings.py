"""From kernel records, traced events and registers to findings with a fault code."""

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace

from thresher.events.drive_lines import DriveLines
from thresher.events.firmware_lines import FirmwareAssembler, FirmwareBlock
from thresher.events.kernel_lines import LineMatch, LineRules, card_of, finding_of_line, load_rules
from thresher.events.kernel_log import KernelRecord
from thresher.events.link_lines import LinkLines
from thresher.events.machine_checks.amd import valid_address
from thresher.events.machine_checks.decode import CheckKnowledge, decode_check, load_check_knowledge
from thresher.events.machine_checks.lines import MARK, MachineCheckAssembler
from thresher.events.machine_checks.registers import CheckSeverity, DecodedCheck, MachineCheck, Unit
from thresher.events.reported_once import MEMORY_KINDS, ReportedOnce, ReportForm, form_of_check, form_of_line, key_of
from thresher.events.trace_lines import TracedEvent
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import PCI_ADDRESS, Inventory, PartKind
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


@dataclass(frozen=True, slots=True)
class PlaceNames:
    """How places are named in this machine: block devices by what the kernel calls them, slots by EDAC label."""

    drives: Mapping[str, str] = field(default_factory=dict)
    slots: Mapping[str, str] = field(default_factory=dict)


def slot_names(inventory: Inventory) -> dict[str, str]:
    """Return the memory slots by what is left of their names without case, blanks and marks.

    The EDAC drivers' labels are the board maker's own where the board is known (admin-guide/ras, "dimm_label").
    """
    return {plain_label(part.place): part.place for part in inventory.parts_of(PartKind.MEMORY) if part.place}


def plain_label(label: str) -> str:
    """Return a slot's label so that `DIMM_A1`, `DIMM A1` and `A1` are the same."""
    return re.sub(r"[^0-9a-z]", "", label.lower()).removeprefix("dimm")


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
    Unit.POISONED: ("M-325", "M-325", PartKind.MEMORY),
    Unit.PCIE: ("S-510", "S-520", PartKind.BOARD),
    Unit.BOARD_LINKS: ("S-511", "S-522", PartKind.BOARD),
    Unit.OUTSIDE: ("S-512", "S-523", PartKind.BOARD),
    Unit.UNKNOWN: ("P-319", "P-329", PartKind.PROCESSOR),
}
_OF_CORE = (Unit.CORE, Unit.CORE_CACHE)
_OF_MEMORY = (Unit.MEMORY, Unit.MEMORY_CONTROLLER, Unit.MEMORY_CHANNEL, Unit.POISONED)
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
        places: PlaceNames | None = None,
    ) -> None:
        """`inventory` names cores by logical CPU, `vendor` is the layout where a record does not report it.

        `apics` is which logical CPU has which APIC id, `places` how drives and slots are named here, where known.
        """
        self._inventory = inventory
        self._vendor = vendor
        self.knowledge = knowledge or load_event_knowledge()
        self._apics = dict(apics or {})
        self._checks = MachineCheckAssembler()
        self._firmware = FirmwareAssembler()
        self._links = LinkLines()
        self._slots = dict(places.slots) if places is not None else {}
        self._drives = DriveLines(places.drives if places is not None else None)
        graphics = inventory.parts_of(PartKind.GRAPHICS) if inventory is not None else ()
        self._cards = {part.fact(PCI_ADDRESS): part.place for part in graphics if part.fact(PCI_ADDRESS)}
        self._often: dict[tuple[str, str], list[float]] = {}
        self._once = ReportedOnce()
        self._quiet_polls = 0

    def decode(self, records: Iterable[KernelRecord], last: bool = False) -> KernelFindings:
        """Decode a batch; one whose lines stop coming is given out after an empty batch, or at the `last`.

        Texts that programs wrote into the kernel's log are passed over.
        """
        checks: list[MachineCheck] = []
        with_checks: list[tuple[Finding, MachineCheck | None]] = []
        notes: list[LineMatch] = []
        count = 0
        for record in records:
            count += 1
            if record.facility:
                continue
            if MARK in record.text:
                done = self._checks.feed((record,))
                checks += done
                with_checks += self._of_checks(done)
                with_checks += self._of_blocks(self._firmware.feed((record,)))
            else:
                with_checks += self._of_blocks(self._firmware.flush())
            with_checks += self._as_reported(self._links.feed(record), ReportForm.LINE)
            match = self.knowledge.lines.match(record.text)
            if match is not None:
                with_checks += self._of_line(match, record, notes)
        self._quiet_polls = 0 if count else self._quiet_polls + 1
        if last or self._quiet_polls == 1:
            done = self._checks.flush()
            checks += done
            with_checks += self._of_checks(done)
            with_checks += self._of_blocks(self._firmware.flush())
            with_checks += self._as_reported(self._links.flush(), ReportForm.LINE)
        return KernelFindings(tuple(with_checks), tuple(checks), tuple(notes))

    def fresh(self, finding: Finding, check: MachineCheck | None, form: ReportForm) -> Finding | None:
        """Return a finding with what no other source has reported of it yet, None when all of it is known."""
        key = key_of(finding, check)
        if key is None:
            return finding
        fresh = self._once.new_count(form, key, finding.count, finding.at)
        if fresh and finding.kind in MEMORY_KINDS:
            # some sources report the address and some do not
            form = ReportForm.WITH_ADDRESS if finding.address is not None else form
            fresh = min(fresh, self._once.new_count(form, (finding.kind, "any page"), fresh, finding.at))
        if not fresh:
            return None
        return finding if fresh == finding.count else replace(finding, count=fresh)

    def of_trace(self, event: TracedEvent) -> tuple[Finding, MachineCheck | None] | None:
        """Return the finding of a traced event, with the machine check it was made from; None for what is known."""
        if event.check is not None:
            finding = self.finding_of(event.check)
            form = form_of_check(finding, traced=True) if finding is not None else ReportForm.CHECK_TRACE
        else:
            finding = self._in_slot(event.finding) if event.finding is not None else None
            form = form_of_line(finding, traced=True) if finding is not None else ReportForm.TRACE
        fresh = self.fresh(finding, event.check, form) if finding is not None else None
        return (fresh, event.check) if fresh is not None else None

    def _as_reported(self, findings: Iterable[Finding], form: ReportForm) -> list[tuple[Finding, MachineCheck | None]]:
        return [(fresh, None) for each in findings if (fresh := self.fresh(each, None, form)) is not None]

    def _of_checks(self, checks: Iterable[MachineCheck]) -> list[tuple[Finding, MachineCheck | None]]:
        found: list[tuple[Finding, MachineCheck | None]] = []
        for check in checks:
            finding = self.finding_of(check)
            if finding is not None and (fresh := self.fresh(finding, check, form_of_check(finding))) is not None:
                found.append((fresh, check))
        return found

    def _of_blocks(self, blocks: Iterable[FirmwareBlock]) -> list[tuple[Finding, MachineCheck | None]]:
        return self._as_reported((self._in_slot(finding_of_block(block)) for block in blocks), ReportForm.FIRMWARE)

    def _of_line(
        self, match: LineMatch, record: KernelRecord, notes: list[LineMatch]
    ) -> list[tuple[Finding, MachineCheck | None]]:
        rule = match.rule
        if rule.kind is None:
            notes.append(match)
            again = self._come_often(match, record)
            return [(again, None)] if again is not None else []
        meaning = match.meaning()
        finding = finding_of_line(meaning, record)
        if finding is None:
            return []
        if self._links.begin(finding):
            return []  # its details follow
        named = self._in_slot(self._of_card(self._on_core(finding, meaning.cpu)))
        placed = self._drives.take(named, meaning.sector)
        return self._as_reported((placed,), form_of_line(placed)) if placed is not None else []

    def _come_often(self, match: LineMatch, record: KernelRecord) -> Finding | None:
        """Return a finding when a line that is harmless by itself has come too often from one place."""
        rule = match.rule
        if not rule.often or rule.often_kind is None:
            return None
        meaning, at = match.meaning(), record.time or 0.0
        times = [each for each in self._often.get((rule.form, meaning.place), []) if at - each <= rule.often_s]
        times.append(at)
        self._often[rule.form, meaning.place] = times[-rule.often :]
        if len(times) < rule.often:
            return None
        title = f"{rule.often_title}, {meaning.place}" if meaning.place else rule.often_title
        detail = f"{rule.often} times within {max(1.0, at - times[0]):.0f} s"
        self._often[rule.form, meaning.place] = []
        return Finding(
            rule.often_code,
            rule.often_kind,
            Severity.WARNING,
            rule.part,
            at,
            title,
            detail,
            meaning.place,
            raw=match.text,
        )

    def _of_card(self, finding: Finding) -> Finding:
        """Return a finding under the kernel's name of the graphics card where its line has the address."""
        card = self._cards.get(finding.place) if finding.part is PartKind.GRAPHICS else None
        if card is None:
            return finding
        return replace(finding, place=card, title=finding.title.replace(finding.place, card))

    def _in_slot(self, finding: Finding) -> Finding:
        """Name the slot of a memory error as the board does, where the driver's label is known."""
        slot = self._slots.get(plain_label(finding.place)) if finding.part is PartKind.MEMORY else None
        if slot is None or slot == finding.place:
            return finding
        title = finding.title.removesuffix(f", {finding.place}") + f", {slot}"
        return replace(finding, place=slot, title=title)

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
        if not decoded.valid or _names_no_error(check):
            return None
        code, kind, severity, part = code_of_check(decoded)
        cpu = check.cpu if check.cpu is not None else self._apics.get(check.apic) if check.apic is not None else None
        core = self._inventory.core_of(cpu) if self._inventory and cpu is not None else None
        reporter = f"core {core}" if core is not None else f"CPU {cpu}" if cpu is not None else "processor"
        place = _place_of(decoded, check, reporter, self._socket_words(check))
        scalable = check.vendor is Vendor.AMD and check.ipid is not None
        at = valid_address(check.address) if check.address is not None and scalable else check.address
        address = f", address {at:#x}" if at is not None and decoded.address_valid else ""
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
            address=_physical_address(check, decoded),
        )

    def _socket_words(self, check: MachineCheck) -> str:
        """Name the socket where there may be several."""
        if check.socket is None or (
            self._inventory is not None and len({c.package for c in self._inventory.cpus}) == 1
        ):
            return ""
        return f" of socket {check.socket}"


def _names_no_error(check: MachineCheck) -> bool:
    """Whether a register is valid and reports no error of this bank: another processor's error was broadcast to it.

    Error code 0, no model-specific code, no address (Intel's manual, "Simple Error Codes": no error has been reported
    to this bank).
    """
    return check.vendor is not Vendor.AMD and not check.status & 0xFFFF_FFFF and not check.status >> 58 & 1


def _physical_address(check: MachineCheck, decoded: DecodedCheck) -> int | None:
    """Return where in memory a check is; the scalable architecture's controllers count within their own channel."""
    if check.address is None or not decoded.address_valid or decoded.unit not in _OF_MEMORY:
        return None
    if check.vendor is Vendor.AMD and check.ipid is not None:
        return valid_address(check.address) if decoded.unit is Unit.POISONED else None
    return check.address


def _place_of(decoded: DecodedCheck, check: MachineCheck, reporter: str, socket: str) -> str:
    """Name the place of an error: what is shared is not assigned to the core that happened to report it."""
    if decoded.unit is Unit.POISONED:
        return f"memory, read by {reporter}"
    if decoded.unit in _OF_MEMORY:
        if decoded.channel is None:
            return f"memory{socket}" if decoded.unit is Unit.MEMORY else f"memory controller{socket}"
        select = f", chip select {decoded.chip_select}" if decoded.chip_select is not None else ""
        return f"channel {decoded.channel}{select}{socket}"
    if decoded.unit in _OF_CORE:
        return reporter
    if decoded.unit is Unit.UNKNOWN:
        bank = f", bank {check.bank}" if check.bank is not None else ""
        return f"{reporter}{bank}"
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
        place = card_of(fields["device_id"])
    details = [fields[name] for name in ("error_type", "error_status", "physical_address") if name in fields]
    return Finding(
        code=low if corrected else high,
        kind=mild if corrected else bad,
        severity=Severity.WARNING if corrected else Severity.FAULT,
        part=part,
        at=block.at or 0.0,
        title=f"Firmware reported a {block.section}{f', {place}' if place else ''}",
        detail=f"{block.severity or 'severity unknown'}; {'; '.join(details) or 'nothing more'}",
        place=place,
        raw="\n".join(block.raw),
        address=_block_address(fields) if part is PartKind.MEMORY else None,
    )


def _block_address(fields: Mapping[str, str]) -> int | None:
    digits = fields.get("physical_address", "").removeprefix("0x")
    return int(digits, 16) if re.fullmatch(r"[0-9a-fA-F]{1,16}", digits) else None
