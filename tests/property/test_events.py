"""Whatever comes in, decoding never crashes or hangs, and what is unknown stays unknown."""

import io
import random
import re
import struct
from datetime import date
from pathlib import Path

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.unit.test_firmware_records import MEMORY, PCIE, X64, memory_section, pcie_section, record, x64_section
from tests.unit.test_stop_codes import dump
from thresher.decoding.logs import read_log
from thresher.decoding.recognise import decode_bytes, decode_text, load_tables
from thresher.events.firmware_records import parse_record, parse_status_block
from thresher.events.log_forms import LogReader
from thresher.events.trace_lines import parse_trace_line
from thresher.model.errors import InputError
from thresher.model.vendors import Vendor

TABLES = load_tables()
CORPUS = Path(__file__).parents[1] / "corpus"
LINES = [
    line.split(" | ", 4)[-1]
    for name in ("kernel_lines.txt", "harmless_lines.txt")
    for line in (CORPUS / name).read_text(encoding="utf-8").splitlines()
    if line and not line.startswith("#")
]
FORMS = (
    "[{t}.000001] {x}",
    "<4>[{t}.5] {x}",
    "6,{t},{t},-;{x}",
    "kern  :err   : [{t}.25] {x}",
    "2026-03-17T13:09:{s:02}Z bench kernel: {x}",
    "Mar 17 13:09:{s:02} bench kernel: {x}",
    "{x}",
    '{{"_TRANSPORT":"kernel","MESSAGE":"{x}","__REALTIME_TIMESTAMP":"{t}"}}',
)
RECORDS = [
    record(MEMORY, memory_section()),
    record(PCIE, pcie_section(3, 5)),
    record(X64, x64_section(0x404, (0, 1 << 63, 2, 3))),
    dump(0x124, (0, 1, 2, 3)),
]


def damaged(rng: random.Random, raw: bytes) -> bytes:
    """Flip, cut, double, insert: what a bad disk, a bad copy and a bad editor do."""
    data = bytearray(raw)
    for _ in range(rng.randint(1, 4)):
        at = rng.randrange(len(data) + 1)
        match rng.randrange(6):
            case 0 if data:
                data[min(at, len(data) - 1)] ^= 1 << rng.randrange(8)
            case 1:
                del data[at : at + rng.randint(1, 40)]
            case 2:
                data[at:at] = data[at : at + rng.randint(1, 60)]
            case 3:
                data[at:at] = bytes(rng.randrange(256) for _ in range(rng.randint(1, 8)))
            case 4:
                data[at:at] = str(rng.choice((0, -1, 2**31, 2**64, 10**30))).encode()
            case _:
                data[at : at + 4] = struct.pack("<I", rng.choice((0, 1, 0xFFFFFFFF, 0x7FFFFFFF)))
    return bytes(data)


def test_a_hundred_thousand_damaged_lines_are_read_in_every_form() -> None:
    rng = random.Random(20260317)
    raw = bytearray()
    for number in range(100_000):
        text = rng.choice(LINES).replace('"', "'").replace("\\", "/") if number % 5 else rng.choice(LINES)
        line = rng.choice(FORMS).format(t=number, s=number % 60, x=text).encode()
        raw += (damaged(rng, line) if number % 10 else line).replace(b"\n", b" ") + b"\n"
    log = read_log(io.BytesIO(bytes(raw)), Vendor.INTEL, TABLES.codes, TABLES.events)
    assert log.lines == 100_000
    assert log.count > 10_000
    for group in log.groups:
        assert re.fullmatch(r"[A-Z]-\d{3}", group.code)
        assert group.code in TABLES.codes


def test_twenty_thousand_damaged_records_are_read_as_far_as_they_go() -> None:
    rng = random.Random(4711)
    for number in range(20_000):
        raw = damaged(rng, RECORDS[number % len(RECORDS)])
        found = parse_record(raw, "x")
        assert found.source == "x"
        parse_status_block(raw, "x")
        if number % 10 == 0:
            try:
                decode_bytes(raw, "x", Vendor.AMD, TABLES)
            except InputError as error:
                assert str(error)


@given(st.binary(max_size=600), st.sampled_from(Vendor))
@settings(max_examples=300, suppress_health_check=[HealthCheck.too_slow])
def test_no_bytes_crash_the_decoder(raw: bytes, vendor: Vendor) -> None:
    try:
        decoded = decode_bytes(raw, "x", vendor, TABLES)
    except InputError:
        return
    assert decoded.unknown or decoded.things or decoded.log is not None


@given(st.text(max_size=300), st.sampled_from(Vendor))
@settings(max_examples=300)
def test_no_text_crashes_the_decoder_and_prose_accuses_nobody(text: str, vendor: Vendor) -> None:
    decoded = decode_text(text, vendor, TABLES)
    for finding in decoded.findings:
        assert finding.code in TABLES.codes


@given(st.text("abcdefghijklmnopqrstuvwxyz ,.\n", max_size=200))
def test_plain_words_are_unknown_and_no_evidence(text: str) -> None:
    decoded = decode_text(text, Vendor.INTEL, TABLES)
    assert decoded.findings == ()


@given(st.binary(max_size=400))
def test_no_bytes_crash_the_log_reader(raw: bytes) -> None:
    reader = LogReader(io.BytesIO(b"__CURSOR=x\n" + raw), date(2026, 3, 17))
    list(reader.records())
    list(LogReader(io.BytesIO(raw), date(2026, 3, 17)).records())


@given(st.binary(max_size=300))
def test_no_bytes_crash_the_trace_reader(raw: bytes) -> None:
    event = parse_trace_line(raw)
    assert event.check is None or event.finding is None
    parse_trace_line(b"x-1 [000] .... 1.0: mce_record: " + raw)
