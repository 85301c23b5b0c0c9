"""Anything that a technician may hold, decoded; whole logs read into groups."""

import io
from dataclasses import replace

import pytest

from tests.unit.test_firmware_records import MEMORY, OTHER, X64, memory_section, record, x64_section
from tests.unit.test_stop_codes import dump
from thresher.codes.directory import load_codes, parse_codes
from thresher.decoding.groups import EventGroup, Grouper, busiest
from thresher.decoding.logs import LogDecoded, read_log
from thresher.decoding.recognise import (
    Decoded,
    decode_bytes,
    decode_text,
    load_tables,
    thing_of_job_group,
    things_of_log,
)
from thresher.model.errors import InputError
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import PartKind
from thresher.model.vendors import Vendor

TABLES = load_tables()
CE = "EDAC MC0: 1 CE memory read error on DIMM_A1"


def decode(text: str, vendor: Vendor = Vendor.INTEL) -> Decoded:
    return decode_text(text, vendor, TABLES)


def test_one_of_our_codes_gives_meaning_parts_and_steps() -> None:
    (thing,) = decode(" p-310 ").things
    assert (thing.what, thing.code, thing.title) == ("fault code", "P-310", "Corrected machine check")
    assert thing.shares[0].part is PartKind.PROCESSOR
    assert thing.steps
    assert "may be noise" in thing.lines[0]
    assert thing.findings == ()
    assert "not in the directory" in decode("Q-999").unknown


@pytest.mark.parametrize("text", ["0x9c00004000000135", "9C00004000000135", "  9c00004000000135\n"])
def test_a_bare_register_is_a_machine_check(text: str) -> None:
    (thing,) = decode(text).things
    assert (thing.what, thing.code) == ("machine check", "P-310")
    assert [strip.name for strip in thing.strips] == ["STATUS"]
    assert thing.findings[0].kind is FindingKind.CORRECTED_CHECK


def test_named_registers_are_decoded_together() -> None:
    text = "bank 17 STATUS 0xdc2040000000011b ADDR 0x12ab40 IPID 0x0000009600150f00 SYND 0x1"
    (thing,) = decode(text).things
    assert (thing.code, thing.findings[0].place) == ("M-310", "channel 1, chip select 1")
    assert [strip.name for strip in thing.strips] == ["STATUS", "ADDR", "IPID", "SYND"]


def test_a_register_that_holds_nothing_is_no_evidence() -> None:
    (thing,) = decode("0x1c00004000000135").things
    assert (thing.title, thing.findings) == ("No valid error", ())


def test_a_stop_code_with_a_machine_check_becomes_the_finding_of_that_check() -> None:
    (thing,) = decode("0x124 (0x0, 0xffffa2831f2f1028, 0xbe000000, 0x00800400)").things
    (finding,) = thing.findings
    assert (finding.code, finding.kind) == ("P-320", FindingKind.UNCORRECTED_CHECK)
    assert finding.title.startswith("Stop 0x124 WHEA_UNCORRECTABLE_ERROR")
    assert thing.strips


def test_other_stop_codes_point_at_their_parts_or_at_software() -> None:
    (memory,) = decode("0x1a (0x41792, 0, 0, 0)").things
    assert (memory.findings[0].code, memory.findings[0].part) == ("E-920", PartKind.MEMORY)
    (software,) = decode("bug check 0xC4").things
    assert (software.findings, software.shares) == ((), ())
    (hung,) = decode("CLOCK_WATCHDOG_TIMEOUT (0x18, 0, 0, 7)").things
    assert hung.findings[0].place == "processor 7"
    (unknown,) = decode("stop 0x7777").things
    assert "nothing is guessed" in unknown.words
    assert unknown.findings == ()


def test_a_dump_is_decoded_from_its_header() -> None:
    (thing,) = decode_bytes(dump(0x124, (0, 5, 0xBE000000, 0x800400)), "a.dmp", Vendor.INTEL, TABLES).things
    assert any("45 min" in line for line in thing.lines)
    assert thing.findings[0].code == "P-320"
    with pytest.raises(InputError, match="32-bit"):
        decode_bytes(b"PAGEDUMP" + b"\0" * 500, "old.dmp", Vendor.INTEL, TABLES)


def test_records_of_firmware_are_decoded_section_by_section() -> None:
    (memory,) = decode_bytes(record(MEMORY, memory_section(), fru=b"DIMM_A2"), "r", Vendor.AMD, TABLES).things
    assert (memory.code, memory.findings[0].place) == ("M-310", "DIMM_A2")
    (check,) = decode_bytes(record(X64, x64_section(0x405, (0xBE00000000800400,))), "r", Vendor.INTEL, TABLES).things
    assert (check.what, check.code) == ("machine check", "P-320")
    (other,) = decode_bytes(record(OTHER, b"xyz"), "r", Vendor.AMD, TABLES).things
    assert (other.findings, "points at no part" in other.words) == ((), True)
    damaged = decode_bytes(record(MEMORY, memory_section())[:230], "r", Vendor.AMD, TABLES)
    assert damaged.things[-1].code == "X-883"


def test_what_nobody_knows_stays_unknown() -> None:
    for text in ("the fan makes a noise", "two\nlines of prose", ""):
        decoded = decode(text)
        assert decoded.unknown
        assert decoded.findings == ()


def log_of(text: str) -> LogDecoded:
    return read_log(io.BytesIO(text.encode()), Vendor.INTEL, TABLES.codes, TABLES.events)


def test_a_storm_is_one_group_with_a_count_a_rate_and_samples() -> None:
    log = log_of("".join(f"[{100 + number * 0.36:.6f}] {CE}\n" for number in range(10_001)))
    (group,) = log.groups
    assert (group.count, group.first) == (10_001, 100.0)
    assert group.last == pytest.approx(3700.0)
    assert group.per_hour == pytest.approx(10_000.0)
    assert (group.trend, group.noise) == ("steady", "")
    assert 2 <= len(group.samples) <= 6
    assert sum(count for _, count in group.times) == 10_001
    assert (log.lines, log.count) == (10_001, 10_001)


def test_groups_are_distinguished_by_what_and_where() -> None:
    log = log_of(f"[1.0] {CE}\n[2.0] {CE.replace('A1', 'B1')}\n[3.0] {CE.replace('CE', 'UE')}\n")
    assert [group.signature for group in log.groups] == [
        ("M-320", "DIMM_A1"),
        ("M-310", "DIMM_B1"),
        ("M-310", "DIMM_A1"),
    ]


def test_times_are_reported_by_the_day_where_the_log_knows_it() -> None:
    log = log_of(f"2026-03-17T13:09:45Z bench kernel: [   12.345678] {CE}\n")
    assert log.by_wall
    assert log.groups[0].first == 1773752985.0
    assert not log_of(f"[   12.345678] {CE}\n").by_wall


def test_notes_are_counted_and_are_no_evidence() -> None:
    usb = "usb 1-2: USB disconnect, device number 5"
    log = log_of(f"[1.0] {usb}\n[2.0] {usb}\n[3.0] nothing at all\n")
    (note,) = log.notes
    assert (note.count, note.sample, log.groups) == (2, usb, ())
    (thing,) = things_of_log(log, Vendor.INTEL, TABLES)
    assert (thing.findings, "No evidence" in thing.words) == ((), True)


def test_reading_can_be_given_up() -> None:
    text = "".join(f"[{number}.000000] {CE}\n" for number in range(9_000))
    seen: list[int] = []

    def give_up(lines: int) -> bool:
        seen.append(lines)
        return False

    log = read_log(io.BytesIO(text.encode()), Vendor.INTEL, TABLES.codes, TABLES.events, give_up)
    assert len(seen) == 1
    assert log.lines < 9_000


def finding(at: float, count: int = 1, **other: object) -> Finding:
    fields: dict[str, object] = {"temperature_c": 84.0, "load": "matrix"} | other
    return Finding(
        "M-310",
        FindingKind.MEMORY_CORRECTED,
        Severity.WARNING,
        PartKind.MEMORY,
        at,
        "t",
        "d",
        "DIMM_A1",
        count=count,
        raw="r",
        **fields,  # type: ignore[arg-type]
    )


def grouped(*findings: Finding) -> EventGroup:
    grouper = Grouper(load_codes())
    grouper.add_all(findings)
    (group,) = grouper.groups()
    return group


def test_a_single_corrected_error_is_noise_and_twenty_are_not() -> None:
    assert "DRAM Errors in the Wild" in grouped(finding(5.0)).noise
    assert grouped(*(finding(float(at)) for at in range(20))).noise == ""
    # two of them a year apart are two single ones
    assert grouped(finding(0.0), finding(366 * 86400.0)).noise
    assert "M-310" in load_codes()


@pytest.mark.parametrize(
    ("times", "trend"),
    [
        ([0, 60, 120, 3000, 3060, 3300, 3310, 3320, 3400, 3500, 3600], "growing"),
        ([0, 10, 20, 60, 100, 200, 300, 400, 3600], "fading"),
        ([0, 600, 1200, 1800, 2400, 3000, 3600], "steady"),
        ([0, 60], ""),
    ],
)
def test_trends_are_reported_by_the_halves(times: list[float], trend: str) -> None:
    assert grouped(*(finding(at) for at in times)).trend == trend


def test_what_ran_and_how_warm_it_was_is_kept() -> None:
    group = grouped(finding(0.0), finding(9.0, temperature_c=91.5, load="memory"), finding(10.0, temperature_c=None))
    assert (group.loads, group.coolest_c, group.hottest_c) == (("matrix", "memory"), 84.0, 91.5)


def test_a_log_of_years_keeps_a_bounded_number_of_times() -> None:
    group = grouped(*(finding(at * 3600.0) for at in range(45_000)))
    assert len(group.times) <= 20_000
    assert sum(count for _, count in group.times) == 45_000


def test_the_busiest_window() -> None:
    times = ((0.0, 3), (50.0, 1), (100.0, 4), (500.0, 2))
    assert busiest(times, 100.0) == 8
    assert busiest(times, 60.0) == 5
    assert busiest((), 60.0) == 0


def test_a_job_s_group_draws_the_register_in_its_raw_lines() -> None:
    raw = (
        "mce: [Hardware Error]: CPU 13: Machine Check: 0 Bank 1: 9c00004000000135\n"
        "mce: [Hardware Error]: PROCESSOR 0:306c3 TIME 1 SOCKET 0 APIC a microcode 12b"
    )
    thing = thing_of_job_group(grouped(finding(1.0), finding(2.0)), Vendor.INTEL, TABLES)
    assert thing.strips == ()
    with_raw = replace(grouped(finding(1.0)), samples=(raw,))
    assert thing_of_job_group(with_raw, Vendor.UNKNOWN, TABLES).strips[0].value == 0x9C00004000000135


def test_codes_with_faulty_shares_or_noise_are_refused() -> None:
    text = (
        'format = "thresher-codes/1"\n[[codes]]\ncode = "P-999"\ntitle = "t"\nmeaning = "m"\ncauses = []\nsteps = []\n'
    )
    text += 'shares = { processor = 0.4 }\nnoise = { count = 0, hours = 1, source = "s" }\n'
    with pytest.raises(InputError) as caught:
        parse_codes(text, "codes.toml")
    assert "add up to 0.4" in str(caught.value)
    assert "count of 1 or more" in str(caught.value)


def test_every_code_that_counts_states_what_to_do() -> None:
    for entry in load_codes().values():
        assert entry.meaning
        assert entry.steps
        assert entry.causes


@pytest.mark.parametrize(
    ("text", "status", "bank"),
    [
        ("BANK 17 STATUS 0xbc00000000010090", 0xBC00000000010090, 17),
        ("bank: 0x11, status: bc00000000010090", 0xBC00000000010090, 17),
        ("STATUS 0xbc00000000010090 MCG_STATUS 0x5", 0xBC00000000010090, None),
        ("MCG_STATUS 0x5 IA32_MC4_STATUS 0xbc00000000010090 IA32_MC4_ADDR 0x40", 0xBC00000000010090, 4),
        ("MCA_STATUS_UMC=none MCA_STATUS 0xbc00000000010090", 0xBC00000000010090, None),
    ],
)
def test_typed_registers_keep_their_names(text: str, status: int, bank: int | None) -> None:
    (thing,) = decode_text(text, Vendor.INTEL, load_tables()).things
    assert thing.strips[0].value == status
    assert (f"bank {bank}" if bank is not None else "bank unknown") in thing.lines[0]
