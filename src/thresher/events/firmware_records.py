"""Error records that firmware leaves: ACPI's boot error region and UEFI's Common Platform Error Records.

UEFI Specification, appendix N "Common Platform Error Record" (header N.2.1, section descriptor N.2.2, processor
generic N.2.4.1, IA32/X64 N.2.4.2, memory N.2.5 and N.2.6, PCI Express N.2.7); ACPI Specification, section 18.3.1 "Boot
Error Source" and 18.3.2.7 "Generic Hardware Error Source" (generic error status block and data entries).

Everything is little-endian. A record that says more than it holds is read as far as it goes and said to be damaged.
"""

import struct
import uuid
from dataclasses import dataclass, field

from thresher.events.machine_checks.registers import BitField, MachineCheck, bits
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import PartKind

_SEVERITIES = {0: "recoverable", 1: "fatal", 2: "corrected", 3: "informational"}
_HEADER_BYTES, _DESCRIPTOR_BYTES, _MOST_SECTIONS = 128, 72, 64

_PROCESSOR_GENERIC = uuid.UUID("9876ccad-47b4-4bdb-b65e-16f193c4f3db")
_PROCESSOR_X64 = uuid.UUID("dc3ea0b0-a144-4797-b95b-53fa242b6e1d")
_MEMORY = uuid.UUID("a5bc1114-6f64-4ede-b863-3e83ed7c83b1")
_MEMORY_2 = uuid.UUID("61ec04fc-48e6-d813-25c9-8daa44750b12")
_PCIE = uuid.UUID("d995e954-bbc1-430f-ad91-b44dcb3c6f35")
_OTHERS = {
    uuid.UUID("e429faf1-3cb7-11d4-bca7-0080c73c8881"): "Itanium processor",
    uuid.UUID("e19e3d16-bc11-11e4-9caa-c2051d5d46b0"): "ARM processor",
    uuid.UUID("81212a96-09ed-4996-9471-8d729c8e69ed"): "firmware's own record",
    uuid.UUID("c5753963-3b84-4095-bf78-eddad3f9c9dd"): "PCI bus",
    uuid.UUID("eb5e4685-ca66-4769-b6a2-26068b001326"): "PCI component",
    uuid.UUID("5b51fef7-c79d-4434-8f1b-aa62de3e2c64"): "memory remapping",
}
_CHECKS = {
    uuid.UUID("a55701f5-e3ef-43de-ac72-249b573fad2c"): "cache",
    uuid.UUID("fc06b535-5e1f-4562-9f25-0a3b9adb63c3"): "TLB",
    uuid.UUID("1cf3f8b3-c5b1-49a2-aa59-5eef92ffa63c"): "bus",
    uuid.UUID("48ab7f57-dc34-4f6c-a7d3-b0b5b0a74314"): "micro-architecture",
}
_PROCESSOR_ERRORS = {1: "cache", 2: "TLB", 4: "bus", 8: "micro-architecture"}
_OPERATIONS = {1: "data read", 2: "data write", 3: "instruction execution"}
_MEMORY_ERRORS = (
    "unknown",
    "no error",
    "single-bit ECC",
    "multi-bit ECC",
    "single-symbol chip kill",
    "multi-symbol chip kill",
    "master abort",
    "target abort",
    "parity error",
    "watchdog timeout",
    "invalid address",
    "mirror broken",
    "memory sparing",
    "scrub corrected error",
    "scrub uncorrected error",
    "physical memory map-out",
)
_PORTS = {
    0: "endpoint",
    1: "legacy endpoint",
    4: "root port",
    5: "upstream switch port",
    6: "downstream switch port",
    7: "PCI Express to PCI bridge",
    8: "PCI to PCI Express bridge",
    9: "root complex endpoint",
    10: "root complex event collector",
}
AER_UNCORRECTED = {
    4: "data link protocol error",
    5: "surprise link down",
    12: "poisoned packet",
    13: "flow control protocol error",
    14: "completion timeout",
    15: "completer abort",
    16: "unexpected completion",
    17: "receiver overflow",
    18: "malformed packet",
    19: "end-to-end CRC error",
    20: "unsupported request",
    21: "access control violation",
    22: "internal error",
    23: "blocked multicast packet",
    24: "blocked atomic operation",
    25: "blocked packet prefix",
}
AER_CORRECTED = {
    0: "receiver error",
    6: "bad packet",
    7: "bad link packet",
    8: "replay number rolled over",
    12: "replay timer ran out",
    13: "advisory non-fatal error",
    14: "corrected internal error",
    15: "header log overflow",
}
"""PCI Express Base Specification, sections 7.8.4.2 and 7.8.4.5: bits of the error status registers."""


@dataclass(frozen=True, slots=True)
class RecordSection:
    """One section: what it is about, its severity, what it says in fields, and a machine check it may hold."""

    kind: str
    severity: str
    fru: str
    fields: tuple[tuple[str, str], ...]
    part: PartKind | None
    place: str = ""
    checks: tuple[MachineCheck, ...] = ()
    raw: bytes = b""
    address: int | None = None


@dataclass(frozen=True, slots=True)
class FirmwareRecord:
    """One record: where it came from, its severity, its time (UTC, as text), sections, and what is wrong with it."""

    source: str
    severity: str
    when: str
    sections: tuple[RecordSection, ...]
    problems: tuple[str, ...] = ()
    raw: bytes = field(default=b"", repr=False)


def looks_like_record(content: bytes) -> bool:
    """Whether bytes begin as a Common Platform Error Record does."""
    return content[:4] == b"CPER" and content[6:10] == b"\xff\xff\xff\xff"


def parse_record(content: bytes, source: str) -> FirmwareRecord:
    """Parse a Common Platform Error Record; what cannot be read is listed in `problems`."""
    problems: list[str] = []
    if len(content) < _HEADER_BYTES or not looks_like_record(content):
        return FirmwareRecord(source, "", "", (), ("it does not begin as an error record does",), content)
    count, severity, validation, length = struct.unpack_from("<HIII", content, 10)
    if length > len(content):
        problems.append(f"the record says that it has {length} bytes, {len(content)} are there")
    when = _timestamp(content[24:32]) if validation & 2 else ""
    if count > _MOST_SECTIONS:
        problems.append(f"{count} sections are claimed, {_MOST_SECTIONS} are looked at")
    sections: list[RecordSection] = []
    for number in range(min(count, _MOST_SECTIONS)):
        at = _HEADER_BYTES + number * _DESCRIPTOR_BYTES
        if at + _DESCRIPTOR_BYTES > len(content):
            problems.append(f"section {number + 1} is cut off")
            break
        offset, size = struct.unpack_from("<II", content, at)
        valid = content[at + 10]
        kind = uuid.UUID(bytes_le=content[at + 16 : at + 32])
        section_severity = _SEVERITIES.get(struct.unpack_from("<I", content, at + 48)[0], "unknown")
        fru = _text(content[at + 52 : at + 72]) if valid & 2 else ""
        body = content[offset : offset + size]
        if len(body) < size:
            problems.append(f"section {number + 1} should have {size} bytes, {len(body)} are there")
        sections.append(_section(kind, section_severity, fru, body))
    severity_words = _SEVERITIES.get(severity, "unknown")
    return FirmwareRecord(source, severity_words, when, tuple(sections), tuple(problems), content)


def parse_status_block(content: bytes, source: str) -> FirmwareRecord | None:
    """Parse ACPI's generic error status block, None when it holds no error (block status 0)."""
    if len(content) < 20:
        return FirmwareRecord(source, "", "", (), ("it is shorter than an error block",), content)
    block_status, _raw_offset, raw_length, data_length, severity = struct.unpack_from("<IIIII", content)
    if not block_status & 0xF:
        return None
    problems: list[str] = []
    sections: list[RecordSection] = []
    at, end = 20, 20 + data_length
    if end > len(content):
        problems.append(f"the block says that it has {data_length} bytes of data, {len(content) - 20} are there")
        end = len(content)
    while at + 64 <= end and len(sections) < _MOST_SECTIONS:
        kind = uuid.UUID(bytes_le=content[at : at + 16])
        section_severity, revision, valid = struct.unpack_from("<IHB", content, at + 16)
        (size,) = struct.unpack_from("<I", content, at + 24)
        fru = _text(content[at + 44 : at + 64]) if valid & 2 else ""
        head = 72 if revision >= 0x300 else 64
        body = content[at + head : at + head + size]
        if len(body) < size:
            problems.append(f"an entry should have {size} bytes, {len(body)} are there")
        sections.append(_section(kind, _SEVERITIES.get(section_severity, "unknown"), fru, body))
        at += head + size
    if raw_length:
        problems.append(f"{raw_length} bytes of the board maker's own data are kept as they are")
    return FirmwareRecord(source, _SEVERITIES.get(severity, "unknown"), "", tuple(sections), tuple(problems), content)


def _timestamp(raw: bytes) -> str:
    """Return the time of a record (N.2.1, table "Timestamp": binary-coded decimal), empty when it cannot be."""
    second, minute, hour, _flags, day, month, year, century = (each // 16 * 10 + each % 16 for each in raw)
    good = second < 60 and minute < 60 and hour < 24 and 1 <= day <= 31 and 1 <= month <= 12
    return f"{century:02}{year:02}-{month:02}-{day:02}T{hour:02}:{minute:02}:{second:02}" if good else ""


def _text(raw: bytes) -> str:
    return raw.split(b"\0", 1)[0].decode("ascii", "replace").strip()


def _section(kind: uuid.UUID, severity: str, fru: str, body: bytes) -> RecordSection:
    if kind in (_MEMORY, _MEMORY_2):
        return _memory(severity, fru, body, wide=kind == _MEMORY_2)
    if kind == _PCIE:
        return _pcie(severity, fru, body)
    if kind == _PROCESSOR_GENERIC:
        return _processor_generic(severity, fru, body)
    if kind == _PROCESSOR_X64:
        return _processor_x64(severity, fru, body)
    name = _OTHERS.get(kind, f"unknown kind {kind}")
    return RecordSection(name, severity, fru, (("bytes", str(len(body))),), None, raw=body)


class _Fields:
    """Reads a section's values, each only when its validation bit is set and the section is long enough for it."""

    def __init__(self, body: bytes) -> None:
        self._body = body
        self.valid = int.from_bytes(body[:8], "little")

    def number(self, bit: int, offset: int, size: int) -> int | None:
        if not self.valid >> bit & 1 or offset + size > len(self._body):
            return None
        return int.from_bytes(self._body[offset : offset + size], "little")


_MEMORY_FIELDS = {
    "node": (3, 32, 2),
    "card": (4, 34, 2),
    "module": (5, 36, 2),
    "bank": (6, 38, 2),
    "device": (7, 40, 2),
    "row": (8, 42, 2),
    "column": (9, 44, 2),
    "error": (14, 72, 1),
}
_MEMORY_2_FIELDS = {
    "node": (3, 32, 2),
    "card": (4, 34, 2),
    "module": (5, 36, 2),
    "bank": (6, 38, 2),
    "device": (7, 40, 4),
    "row": (8, 44, 4),
    "column": (9, 48, 4),
    "rank": (10, 52, 4),
    "error": (13, 61, 1),
}
"""Fields of both memory sections: validation bit, offset and size in bytes."""


def _memory(severity: str, fru: str, body: bytes, wide: bool) -> RecordSection:
    """Parse a memory section (N.2.5), or the second form with wider fields in another order (N.2.6)."""
    read = _Fields(body)
    layout = _MEMORY_2_FIELDS if wide else _MEMORY_FIELDS
    numbers = {name: value for name, field in layout.items() if (value := read.number(*field)) is not None}
    kind = numbers.pop("error", None)
    fields = []
    if kind is not None:
        fields.append(("error", _MEMORY_ERRORS[kind] if kind < len(_MEMORY_ERRORS) else f"type {kind}"))
    address = read.number(1, 16, 8)
    if address is not None:
        fields.append(("physical address", f"{address:#x}"))
    fields += [(name, str(value)) for name, value in numbers.items()]
    where = [f"{name} {numbers[name]}" for name in ("node", "card", "module") if name in numbers]
    place = fru or ", ".join(where)
    return RecordSection("memory", severity, fru, tuple(fields), PartKind.MEMORY, place, raw=body, address=address)


def _pcie(severity: str, fru: str, body: bytes) -> RecordSection:
    """Parse a PCI Express section (N.2.7)."""
    read = _Fields(body)
    fields: list[tuple[str, str]] = []
    place = ""
    port = read.number(0, 8, 4)
    if port is not None:
        fields.append(("port", _PORTS.get(port, f"type {port}")))
    device_id = read.number(3, 24, 16)
    if device_id is not None:
        raw = body[24:40]
        vendor, device = struct.unpack_from("<HH", raw)
        function, number = raw[7], raw[8]
        segment = struct.unpack_from("<H", raw, 9)[0]
        place = f"{segment:04x}:{raw[11]:02x}:{number:02x}.{function:x}"
        fields += [("device", place), ("identity", f"{vendor:04x}:{device:04x}")]
        slot = struct.unpack_from("<H", raw, 13)[0] >> 3
        if slot:
            fields.append(("slot", str(slot)))
    if read.valid >> 7 & 1 and len(body) >= 208:
        aer = body[112:208]
        uncorrected, corrected = struct.unpack_from("<I", aer, 4)[0], struct.unpack_from("<I", aer, 16)[0]
        details = [name for bit, name in AER_UNCORRECTED.items() if uncorrected >> bit & 1]
        details += [name for bit, name in AER_CORRECTED.items() if corrected >> bit & 1]
        if details:
            fields.append(("errors", ", ".join(details)))
    return RecordSection("PCI Express", severity, fru, tuple(fields), PartKind.BOARD, place, raw=body)


def _processor_generic(severity: str, fru: str, body: bytes) -> RecordSection:
    """Parse a generic processor section (N.2.4.1)."""
    read = _Fields(body)
    fields: list[tuple[str, str]] = []
    kind, operation, level = read.number(2, 10, 1), read.number(3, 11, 1), read.number(5, 13, 1)
    if kind is not None:
        details = [name for bit, name in _PROCESSOR_ERRORS.items() if kind & bit]
        fields.append(("error", ", ".join(details) or "unknown"))
    if operation is not None:
        fields.append(("operation", _OPERATIONS.get(operation, "unknown")))
    if level is not None:
        fields.append(("level", str(level)))
    apic, address = read.number(8, 152, 8), read.number(9, 160, 8)
    if apic is not None:
        fields.append(("APIC id", f"{apic:#x}"))
    if address is not None:
        fields.append(("address", f"{address:#x}"))
    place = f"APIC id {apic:#x}" if apic is not None else ""
    return RecordSection("processor", severity, fru, tuple(fields), PartKind.PROCESSOR, place, raw=body)


def _processor_x64(severity: str, fru: str, body: bytes) -> RecordSection:
    """Parse an IA32/X64 processor section (N.2.4.2) with its error structures and saved registers."""
    read = _Fields(body)
    fields: list[tuple[str, str]] = []
    apic = read.number(0, 8, 8)
    if apic is not None:
        fields.append(("APIC id", f"{apic:#x}"))
    cpuid = int.from_bytes(body[16:20], "little") if read.valid & 2 and len(body) >= 20 else None
    errors, contexts = bits(read.valid, 7, 2), bits(read.valid, 13, 8)
    at = 64
    for _ in range(errors):
        if at + 64 > len(body):
            break
        kind = _CHECKS.get(uuid.UUID(bytes_le=body[at : at + 16]), "unknown")
        check_info = int.from_bytes(body[at + 24 : at + 32], "little")
        fields.append((f"{kind} check", f"{check_info:#018x}"))
        at += 64
    checks: list[MachineCheck] = []
    for _ in range(contexts):
        if at + 16 > len(body):
            break
        kind_number, size, first = struct.unpack_from("<HHI", body, at)
        values = body[at + 16 : at + 16 + size]
        if kind_number == 1 and (check := _saved_check(first, values, apic, cpuid)):
            checks.append(check)
        at += 16 + (size + 15) // 16 * 16
    place = f"APIC id {apic:#x}" if apic is not None else ""
    return RecordSection("processor", severity, fru, tuple(fields), PartKind.PROCESSOR, place, tuple(checks), raw=body)


def _saved_check(first: int, values: bytes, apic: int | None, cpuid: int | None) -> MachineCheck | None:
    """Return the machine check in saved registers that begin at register number `first`.

    Banks begin at 400H with four registers each, or at C0002000H with sixteen in the scalable architecture, whose
    order is CTL, STATUS, ADDR, MISC0, CONFIG, IPID, SYND.
    """
    words = [int.from_bytes(values[at : at + 8], "little") for at in range(0, len(values) - 7, 8)]
    scalable = 0xC0002000 <= first < 0xC0004000
    if scalable:
        bank, skip = divmod(first - 0xC0002000, 16)
    elif 0x400 <= first < 0x480:
        bank, skip = divmod(first - 0x400, 4)
    else:
        return None
    names = ("ctl", "status", "address", "misc", "config", "ipid", "syndrome")[: 7 if scalable else 4]
    details = dict(zip(names[skip:], words, strict=False))
    status = details.get("status")
    if status is None:
        return None
    return MachineCheck(
        cpu=None,
        bank=bank,
        status=status,
        at=None,
        address=details.get("address"),
        misc=details.get("misc"),
        ipid=details.get("ipid") or None,
        syndrome=details.get("syndrome") or None,
        apic=apic,
        cpuid=cpuid,
        raw=(f"registers from {first:#x}: " + " ".join(f"{word:016x}" for word in words),),
    )


_CODES = {
    PartKind.MEMORY: ("M-310", "M-320", FindingKind.MEMORY_CORRECTED, FindingKind.MEMORY_UNCORRECTED),
    PartKind.BOARD: ("S-510", "S-520", FindingKind.LINK_CORRECTED, FindingKind.LINK_UNCORRECTED),
    PartKind.PROCESSOR: ("P-310", "P-320", FindingKind.CORRECTED_CHECK, FindingKind.UNCORRECTED_CHECK),
}


def finding_of_section(record: FirmwareRecord, section: RecordSection, at: float) -> Finding | None:
    """Return the finding of a section; None for one whose kind points at no part or is only information."""
    if section.part is None or section.severity == "informational":
        return None
    low, high, mild, bad = _CODES[section.part]
    corrected = section.severity == "corrected"
    details = ", ".join(f"{name} {value}" for name, value in section.fields)
    where = f", {section.place}" if section.place else ""
    when = f", {record.when}" if record.when else ""
    return Finding(
        code=low if corrected else high,
        kind=mild if corrected else bad,
        severity=Severity.WARNING if corrected else Severity.FAULT,
        part=section.part,
        at=at,
        title=f"Firmware recorded a {section.kind} error{where}",
        detail=f"{section.severity}; {details or 'nothing more'} ({record.source}{when})",
        place=section.place,
        raw=hex_dump(section.raw),
        address=section.address,
    )


def aer_fields(value: int, corrected: bool) -> tuple[BitField, ...]:
    """Return the named bits of a PCI Express error status register that are set."""
    names = AER_CORRECTED if corrected else AER_UNCORRECTED
    return tuple(BitField(bit, bit, name, 1, "happened") for bit, name in sorted(names.items()) if value >> bit & 1)


def hex_dump(raw: bytes, most: int = 512) -> str:
    """Return bytes as lines of offset and hexadecimal digits, cut after so many with a word about the rest."""
    lines = [f"{at:04x}  {raw[at : at + 16].hex(' ')}" for at in range(0, min(len(raw), most), 16)]
    if len(raw) > most:
        lines.append(f"... {len(raw) - most} bytes more")
    return "\n".join(lines)
