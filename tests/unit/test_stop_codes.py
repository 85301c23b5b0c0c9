"""Stop codes as typed, and from the headers of crash dumps."""

import struct

import pytest

from thresher.codes.stop_codes import (
    Stop,
    bank_in,
    load_stop_codes,
    looks_like_dump,
    parse_stop_codes,
    plain_number,
    read_dump_header,
    read_stop,
    source_words,
    status_in,
)
from thresher.model.errors import InputError

CODES = load_stop_codes()


@pytest.mark.parametrize(
    ("text", "number", "parameters"),
    [
        ("0x124 (0x0, 0xffffa2831f2f1028, 0xbe, 0x008)", 0x124, (0, 0xFFFFA2831F2F1028, 0xBE, 8)),
        ("STOP: 0x0000001A (0x41792, fffff6bffe3a1b40, 2000000, 0)", 0x1A, (0x41792, 0xFFFFF6BFFE3A1B40, 0x2000000, 0)),
        ("Stop code: WHEA_UNCORRECTABLE_ERROR", 0x124, ()),
        ("memory_management", 0x1A, ()),
        ("Bug check 0x9C", 0x9C, ()),
        ("CLOCK_WATCHDOG_TIMEOUT (18, 0, ffff8b80`49b80180, 7)", 0x101, (0x18, 0, 0xFFFF8B8049B80180, 7)),
    ],
)
def test_a_stop_is_read_by_number_or_name_with_its_parameters(
    text: str, number: int, parameters: tuple[int, ...]
) -> None:
    stop = read_stop(text, CODES)
    assert stop is not None
    assert (stop.number, stop.parameters) == (number, parameters)


@pytest.mark.parametrize(
    "text", ["", "hello", "0x9c00004000000135", "0x124", "address 0x1000 of the card", "AN_UNKNOWN_NAME"]
)
def test_other_texts_are_no_stop(text: str) -> None:
    assert read_stop(text, CODES) is None


def test_the_bit_of_another_way_of_raising_does_not_hide_the_code() -> None:
    assert plain_number(0x1000007E) == 0x7E
    assert plain_number(0xC000021A) == 0xC000021A


def test_a_hardware_error_carries_a_status_and_its_source() -> None:
    stop = Stop(0x124, (0, 1, 0xBE000000, 0x00800400), "typed")
    assert status_in(stop) == 0xBE00000000800400
    assert source_words(stop) == "a machine check"
    assert status_in(Stop(0x124, (4, 1, 2, 3), "typed")) is None
    assert source_words(Stop(0x124, (4, 1, 2, 3), "typed")) == "a PCI Express error"
    assert "kind 0x77" in source_words(Stop(0x124, (0x77,), "typed"))
    old = Stop(0x9C, (3, 1, 0xB2000000, 0x175), "typed")
    assert (status_in(old), bank_in(old)) == (0xB200000000000175, 3)
    assert status_in(Stop(0x1A, (0, 1, 0xB2000000, 0x175), "typed")) is None


def dump(number: int, parameters: tuple[int, int, int, int], signature: bytes = b"PAGEDU64") -> bytes:
    header = bytearray(b"\0" * 8192)
    header[:8] = signature
    struct.pack_into("<II", header, 0x34, 8, number)
    struct.pack_into("<4Q", header, 0x40, *parameters)
    struct.pack_into("<Q", header, 0xFA8, (1773752985 + 11644473600) * 10**7)  # in 100 ns since 1601
    struct.pack_into("<Q", header, 0x1030, 45 * 60 * 10_000_000)
    return bytes(header)


def test_a_dump_reports_its_code_time_and_processors() -> None:
    stop = read_dump_header(dump(0x124, (0, 5, 0xBE000000, 0x800400)), "031726-0001.dmp")
    assert (stop.number, stop.parameters) == (0x124, (0, 5, 0xBE000000, 0x800400))
    assert (stop.when, stop.up_s, stop.processors) == ("2026-03-17T13:09:45Z", 2700.0, 8)


def test_times_that_cannot_be_are_not_reported() -> None:
    raw = bytearray(dump(0x1A, (1, 2, 3, 4)))
    struct.pack_into("<Q", raw, 0xFA8, 2**63)
    struct.pack_into("<Q", raw, 0x1030, 2**63)
    stop = read_dump_header(bytes(raw), "x.dmp")
    assert (stop.when, stop.up_s) == ("", None)
    short = read_dump_header(bytes(raw)[:0x60], "x.dmp")
    assert (short.number, short.when) == (0x1A, "")


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (b"PAGEDUMP" + b"\0" * 100, "32-bit"),
        (b"MDMP" + b"\0" * 100, "PAGEDU64"),
        (b"PAGEDU64" + b"\0" * 10, "ends after 18"),
    ],
)
def test_dumps_that_cannot_be_read_are_refused_with_what_to_do(content: bytes, words: str) -> None:
    with pytest.raises(InputError, match=words):
        read_dump_header(content, "x.dmp")


def test_what_looks_like_a_dump() -> None:
    assert looks_like_dump(b"PAGEDU64...")
    assert not looks_like_dump(b"[    1.0] text")


def test_the_directory_is_large_and_checked() -> None:
    assert len(CODES) >= 70
    assert CODES[0x124].name == "WHEA_UNCORRECTABLE_ERROR"
    entry = '[[codes]]\nnumber = 1\nname = "A"\nmeaning = "m"\nshares = { memory = 0.5 }\nsteps = []\n'
    with pytest.raises(InputError) as caught:
        parse_stop_codes('format = "thresher-stop-codes/1"\n' + entry + entry, "stops.toml")
    assert "given twice" in str(caught.value)
    assert "add up to 0.5" in str(caught.value)
