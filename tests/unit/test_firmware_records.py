"""Common Platform Error Records and the boot error region, put together by the specification's tables."""

import struct
import uuid

import pytest

from thresher.events.firmware_records import (
    aer_fields,
    finding_of_section,
    hex_dump,
    looks_like_record,
    parse_record,
    parse_status_block,
)
from thresher.model.parts import PartKind

MEMORY = uuid.UUID("a5bc1114-6f64-4ede-b863-3e83ed7c83b1")
MEMORY_2 = uuid.UUID("61ec04fc-48e6-d813-25c9-8daa44750b12")
PCIE = uuid.UUID("d995e954-bbc1-430f-ad91-b44dcb3c6f35")
GENERIC = uuid.UUID("9876ccad-47b4-4bdb-b65e-16f193c4f3db")
X64 = uuid.UUID("dc3ea0b0-a144-4797-b95b-53fa242b6e1d")
OTHER = uuid.UUID("81212a96-09ed-4996-9471-8d729c8e69ed")
FATAL, CORRECTED = 1, 2


def memory_section() -> bytes:
    """N.2.5: validation, status, address, mask, then node to column as 16 bits, bit position, ids, type."""
    valid = 1 << 1 | 1 << 3 | 1 << 4 | 1 << 5 | 1 << 6 | 1 << 8 | 1 << 9 | 1 << 14
    body = struct.pack("<4Q", valid, 0x400, 0x12AB340000, ~0 & (1 << 64) - 1)
    body += struct.pack("<8H", 0, 1, 2, 3, 4, 8123, 64, 0)
    return body + struct.pack("<3QB", 0, 0, 0, 2) + b"\0" * 7


def pcie_section(corrected: int = 0, uncorrected: int = 0) -> bytes:
    """N.2.7: port type at 8, device identity at 24, slot in bits 15:3, the error capability at 112."""
    body = bytearray(208)
    struct.pack_into("<QI", body, 0, 1 << 0 | 1 << 3 | 1 << 7, 4)
    struct.pack_into("<HH", body, 24, 0x1022, 0x1483)
    body[31], body[32], body[35] = 0, 0x1C, 0x00
    struct.pack_into("<H", body, 33, 0)
    struct.pack_into("<H", body, 37, 4 << 3)
    struct.pack_into("<I", body, 112 + 4, uncorrected)
    struct.pack_into("<I", body, 112 + 16, corrected)
    return bytes(body)


def generic_section() -> bytes:
    """N.2.4.1: validation bits for error type, operation, level, processor id and target address."""
    body = bytearray(192)
    struct.pack_into("<Q", body, 0, 1 << 2 | 1 << 3 | 1 << 5 | 1 << 8 | 1 << 9)
    body[10], body[11], body[13] = 1, 2, 1
    struct.pack_into("<QQ", body, 152, 0x0A, 0xDEAD000)
    return bytes(body)


def x64_section(first: int, registers: tuple[int, ...]) -> bytes:
    """N.2.4.2: one error structure and one context of machine-check registers that begin at `first`."""
    valid = 1 | 2 | 1 << 2 | 1 << 8
    body = struct.pack("<QQ", valid, 0x0B) + struct.pack("<I", 0x870F10) + b"\0" * 44
    cache_check = uuid.UUID("a55701f5-e3ef-43de-ac72-249b573fad2c")
    body += cache_check.bytes_le + struct.pack("<6Q", 1, 0x11, 0, 0, 0, 0)
    values = struct.pack(f"<{len(registers)}Q", *registers)
    return body + struct.pack("<HHIQ", 1, len(values), first, 0) + values


def record(kind: uuid.UUID, body: bytes, severity: int = CORRECTED, fru: bytes = b"") -> bytes:
    """N.2.1 and N.2.2: header of 128 bytes, one descriptor of 72, the section."""
    length = 128 + 72 + len(body)
    head = b"CPER" + struct.pack("<HI", 0x101, 0xFFFFFFFF) + struct.pack("<HIII", 1, severity, 2, length)
    head += bytes([0x45, 0x09, 0x13, 0x01, 0x17, 0x03, 0x26, 0x20])  # 2026-03-17 13:09:45 in binary-coded decimal
    head = head.ljust(128, b"\0")
    descriptor = struct.pack("<IIHBBI", 200, len(body), 0x300, 2 if fru else 0, 0, 0)
    descriptor += kind.bytes_le + b"\0" * 16 + struct.pack("<I", severity) + fru.ljust(20, b"\0")
    return head + descriptor + body


def status_block(kind: uuid.UUID, body: bytes, severity: int = FATAL) -> bytes:
    """ACPI, generic error status block with one entry of revision 3."""
    entry = kind.bytes_le + struct.pack("<IHBBI", severity, 0x300, 0, 0, len(body)) + b"\0" * 44 + body
    return struct.pack("<IIIII", 1, 0, 0, len(entry), severity) + entry


def test_a_memory_record_names_module_address_and_kind() -> None:
    found = parse_record(record(MEMORY, memory_section(), fru=b"DIMM_A2"), "mce-erst-1")
    assert (found.severity, found.when, found.problems) == ("corrected", "2026-03-17T13:09:45", ())
    (section,) = found.sections
    fields = dict(section.fields)
    assert fields["physical address"] == "0x12ab340000"
    assert (fields["card"], fields["module"], fields["row"], fields["column"]) == ("1", "2", "8123", "64")
    assert fields["error"] == "single-bit ECC"
    finding = finding_of_section(found, section, 5.0)
    assert finding is not None
    assert (finding.code, finding.part, finding.place, finding.at) == ("M-310", PartKind.MEMORY, "DIMM_A2", 5.0)


def test_the_second_form_of_memory_has_wider_rows() -> None:
    # N.2.6: node, card, module, bank at 32 to 38 (16 bits), device 40, row 44, column 48, rank 52, bit 56 (32 bits),
    # chip 60, error type 61, status 62; ids at 64, 72, 80; card and module handles at 88 and 92
    body = bytearray(96)
    struct.pack_into("<Q", body, 0, 1 << 1 | 1 << 5 | 1 << 7 | 1 << 8 | 1 << 9 | 1 << 10 | 1 << 13)
    struct.pack_into("<Q", body, 16, 0x3_4000_1000)
    struct.pack_into("<H", body, 36, 2)
    struct.pack_into("<IIII", body, 40, 0x10007, 0x12345, 0x678, 1)
    body[61] = 3
    (section,) = parse_record(record(MEMORY_2, bytes(body)), "x").sections
    fields = dict(section.fields)
    assert (fields["row"], fields["column"], fields["error"]) == (str(0x12345), str(0x678), "multi-bit ECC")
    assert (fields["device"], fields["rank"], fields["module"]) == (str(0x10007), "1", "2")
    assert section.address == 0x3_4000_1000


def test_a_link_record_names_device_slot_and_errors() -> None:
    found = parse_record(record(PCIE, pcie_section(uncorrected=1 << 14 | 1 << 18), FATAL), "x")
    (section,) = found.sections
    fields = dict(section.fields)
    assert (section.place, fields["slot"], fields["port"]) == ("0000:00:1c.0", "4", "root port")
    assert fields["errors"] == "completion timeout, malformed packet"
    finding = finding_of_section(found, section, 0.0)
    assert finding is not None
    assert finding.code == "S-520"


def test_a_processor_record_names_what_and_where() -> None:
    (section,) = parse_record(record(GENERIC, generic_section(), FATAL), "x").sections
    fields = dict(section.fields)
    assert (fields["error"], fields["operation"], fields["level"]) == ("cache", "data write", "1")
    assert (section.place, fields["address"]) == ("APIC id 0xa", "0xdead000")


@pytest.mark.parametrize(
    ("first", "registers", "bank"),
    [
        (0x404, (0, 0x9C00004000000135, 0xA567580, 0x86), 1),
        (0x405, (0x9C00004000000135, 0xA567580, 0x86), 1),
        (0xC0002021, (0x9C20400000020136, 0x1000, 0, 0, 2 << 48 | 0xB0 << 32, 0x1A), 2),
    ],
)
def test_saved_registers_become_a_machine_check(first: int, registers: tuple[int, ...], bank: int) -> None:
    (section,) = parse_record(record(X64, x64_section(first, registers), FATAL), "x").sections
    (check,) = section.checks
    status = next(each for each in registers if each >> 63)
    assert (check.bank, check.status, check.apic, check.cpuid) == (bank, status, 0x0B, 0x870F10)
    if first >= 0xC0000000:
        assert check.ipid == 2 << 48 | 0xB0 << 32


def test_registers_of_another_kind_are_no_machine_check() -> None:
    (section,) = parse_record(record(X64, x64_section(0x1B, (1, 2, 3, 4))), "x").sections
    assert section.checks == ()


def test_a_kind_that_points_at_no_part_is_no_finding() -> None:
    found = parse_record(record(OTHER, b"abc" * 10), "x")
    assert finding_of_section(found, found.sections[0], 0.0) is None
    unknown = parse_record(record(uuid.UUID(int=5), b""), "x")
    assert unknown.sections[0].kind.startswith("unknown kind")


def test_the_boot_error_region_is_read_and_an_empty_one_is_none() -> None:
    found = parse_status_block(status_block(MEMORY, memory_section()), "boot error record")
    assert found is not None
    assert (found.severity, found.sections[0].severity, found.problems) == ("fatal", "fatal", ())
    assert parse_status_block(struct.pack("<IIIII", 0, 0, 0, 0, 0), "x") is None


@pytest.mark.parametrize("cut", [3, 100, 130, 199, 230])
def test_a_record_that_was_cut_off_is_read_as_far_as_it_goes(cut: int) -> None:
    found = parse_record(record(MEMORY, memory_section())[:cut], "x")
    assert found.problems
    assert parse_status_block(status_block(MEMORY, memory_section())[:cut], "x") is not None


def test_what_looks_like_a_record() -> None:
    assert looks_like_record(record(MEMORY, b""))
    assert not looks_like_record(b"CPER" + b"\0" * 200)


def test_error_registers_of_links_are_named_bit_by_bit() -> None:
    assert [each.name for each in aer_fields(1 << 0 | 1 << 12, corrected=True)] == [
        "receiver error",
        "replay timer ran out",
    ]
    assert [each.low for each in aer_fields(1 << 5 | 1 << 20, corrected=False)] == [5, 20]


def test_raw_bytes_are_shown_and_a_long_rest_is_named() -> None:
    assert hex_dump(b"\x01\x02") == "0000  01 02"
    assert hex_dump(b"\0" * 600).endswith("88 bytes more")
