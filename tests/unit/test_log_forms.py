"""Kernel logs in every form that they are saved in."""

import gzip
import io
import json
import lzma
from datetime import UTC, date, datetime

import pytest

from thresher.events.kernel_log import KernelRecord
from thresher.events.log_forms import LONGEST_LINE, LogReader, parse_log_text

TEXT = "EDAC MC0: 1 CE memory read error on DIMM_A1"
WALL = datetime(2026, 3, 17, 13, 9, 45, tzinfo=UTC).timestamp()
LOCAL = datetime(2026, 3, 17, 13, 9, 45).timestamp()


def read(content: str | bytes, today: date = date(2026, 3, 20)) -> tuple[list[KernelRecord], LogReader]:
    raw = content.encode() if isinstance(content, str) else content
    reader = LogReader(io.BytesIO(raw), today)
    return list(reader.records()), reader


@pytest.mark.parametrize(
    ("line", "at", "wall", "level"),
    [
        (f"6,812,12345678,-;{TEXT}", 12.345678, None, 6),
        (f"[   12.345678] {TEXT}", 12.345678, None, None),
        (f"[   12.345678][    T1] {TEXT}", 12.345678, None, None),
        (f"[12.345678] [  C3] {TEXT}", 12.345678, None, None),
        (f"<4>[   12.345678] {TEXT}", 12.345678, None, 4),
        (f"<30>{TEXT}", None, None, 6),
        (f"kern  :err   : [   12.345678] {TEXT}", 12.345678, None, 3),
        (f"kern  :warn  : [Tue Mar 17 13:09:45 2026] {TEXT}", None, LOCAL, 4),
        (f"[Tue Mar 17 13:09:45 2026] {TEXT}", None, LOCAL, None),
        (f"[Mar17 13:09] {TEXT}", None, None, None),
        (f"[  +0.000012] {TEXT}", None, None, None),
        (f"2026-03-17T13:09:45,000000+00:00 {TEXT}", None, WALL, None),
        (f"2026-03-17T14:09:45+0100 bench kernel: {TEXT}", None, WALL, None),
        (f"2026-03-17T13:09:45.000000+00:00 bench kernel: [   12.345678] {TEXT}", 12.345678, WALL, None),
        (f"2026-03-17T13:09:45Z bench kernel: {TEXT}", None, WALL, None),
        (f"Mar 17 13:09:45 bench kernel: {TEXT}", None, LOCAL, None),
        (f"Mar 17 13:09:45 bench kernel: [   12.345678] {TEXT}", 12.345678, LOCAL, None),
        (f"[   12.345678] bench kernel: {TEXT}", 12.345678, None, None),
        (TEXT, None, None, None),
    ],
)
def test_a_line_in_every_form_gives_its_text_and_times(
    line: str, at: float | None, wall: float | None, level: int | None
) -> None:
    (record,), _ = read(line + "\n")
    assert (record.text, record.at, record.level) == (TEXT, at, level)
    assert record.wall == (pytest.approx(wall) if wall is not None else None)


def test_a_date_without_a_year_is_the_newest_that_is_not_in_the_future() -> None:
    (record,), _ = read(f"Dec 30 08:00:00 bench kernel: {TEXT}\n", date(2026, 1, 4))
    assert record.wall == datetime(2025, 12, 30, 8).timestamp()


def test_other_programs_in_the_same_log_are_left_out_and_counted() -> None:
    records, reader = read(
        f"Mar 17 13:09:45 bench planner[211]: EDAC MC0: 1 UE of our own\nMar 17 13:09:46 bench kernel: {TEXT}\n"
    )
    assert [record.text for record in records] == [TEXT]
    assert (reader.lines, reader.others) == (2, 1)


def test_a_kernel_line_that_looks_like_a_program_stays_whole() -> None:
    (record,), _ = read("2026-03-17T13:09:45Z usb 1-2: new high-speed USB device number 7 using xhci_hcd\n")
    assert record.text.startswith("usb 1-2: new")


def entry(**fields: object) -> str:
    base = {
        "_TRANSPORT": "kernel",
        "PRIORITY": "3",
        "_BOOT_ID": "aa11",
        "__REALTIME_TIMESTAMP": str(int(WALL * 1e6)),
        "_SOURCE_MONOTONIC_TIMESTAMP": "12345678",
        "MESSAGE": TEXT,
    }
    return json.dumps(base | fields)


def test_the_journal_in_json_gives_kernel_lines_with_both_times() -> None:
    as_bytes = list("naïve".encode())
    lines = [
        entry(),
        entry(_TRANSPORT="syslog", SYSLOG_IDENTIFIER="planner"),
        entry(MESSAGE=as_bytes),
        entry(MESSAGE=None),
        '{"MESSAGE": ',
        entry(MESSAGE="two\nlines"),
    ]
    records, reader = read("\n".join(lines) + "\n")
    assert [record.text for record in records] == [TEXT, "naïve", "two"]
    assert (records[0].at, records[0].wall, records[0].level, records[0].boot) == (12.345678, WALL, 3, "aa11")
    assert (reader.others, reader.damaged) == (1, 2)


def test_the_journal_as_export_with_fields_of_any_bytes() -> None:
    message = b"first\nsecond"
    export = (
        b"__CURSOR=s=1\n__REALTIME_TIMESTAMP=%d\n_TRANSPORT=kernel\nPRIORITY=4\nMESSAGE=%s\n\n"
        b"__CURSOR=s=2\n_TRANSPORT=kernel\nMESSAGE\n%s%s\n__MONOTONIC_TIMESTAMP=7000000\n\n"
        b"__CURSOR=s=3\n_TRANSPORT=stdout\nMESSAGE=not ours\n"
    ) % (int(WALL * 1e6), TEXT.encode(), len(message).to_bytes(8, "little"), message)
    records, reader = read(export)
    assert [(record.text, record.at, record.wall) for record in records] == [(TEXT, None, WALL), ("first", 7.0, None)]
    assert (reader.lines, reader.others) == (3, 1)


def test_the_last_words_that_the_kernel_kept_are_read() -> None:
    records, _ = read(f"Panic#1 Part1\n<4>[   12.345678] {TEXT}\n<0>[   12.400000] Kernel panic - not syncing: x\n")
    assert [record.level for record in records] == [4, 0]


@pytest.mark.parametrize("pack", [gzip.compress, lzma.compress])
def test_packed_logs_are_unpacked_and_cut_off_ones_give_what_they_have(pack: object) -> None:
    assert callable(pack)
    whole = "".join(f"[{number:6}.000000] {TEXT} {number * 7919 % 10007}\n" for number in range(20_000))
    packed = pack(whole.encode())
    assert len(read(packed)[0]) == 20_000
    half, _ = read(packed[: len(packed) // 2])
    assert all(record.text.startswith(TEXT) for record in half[:-1])


def test_a_line_without_an_end_does_not_fill_memory() -> None:
    records, reader = read(b"[    1.000000] " + b"x" * (5 * LONGEST_LINE) + b"\n[    2.000000] next\n")
    assert len(records[0].text) <= LONGEST_LINE
    assert (records[1].text, reader.lines) == ("next", 2)


def test_text_is_read_like_a_file() -> None:
    assert [record.at for record in parse_log_text("[    1.500000] first\nsecond\n")] == [1.5, None]
