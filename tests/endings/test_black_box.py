"""The black box: what is written comes back, torn rows do not, and a stalled drive delays nobody."""

import os
import struct
import threading
import time
import zlib
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from thresher.engine.watch.black_box import BlackBoxWatch
from thresher.inventory.machine import read_inventory
from thresher.journal.black_box import (
    HEADER_BYTES,
    ROW_BYTES,
    ROWS,
    BlackBox,
    BoxHeader,
    box_path,
    pack_row,
    parse_row,
    read_box,
)
from thresher.machine.live import LiveSystem
from thresher.model.channels import Channel, Quantity
from thresher.model.endings import Moment, WorkerAt
from thresher.model.errors import EnvironmentFault
from thresher.model.parts import PartKind
from thresher.sensors.discovery import discover

CHANNEL = Channel("a/b", "Processor", Quantity.TEMPERATURE, PartKind.PROCESSOR, "/sys/x")
HEADER = BoxHeader("boot-1", 77, 10.0, 1_700_000_000.0, 1_699_999_990.0, (CHANNEL,))
HALVES = st.none() | st.integers(-8000, 8000).map(lambda number: number / 4.0)


@given(
    st.tuples(st.floats(0, 1e7), st.floats(0, 4e9)),
    st.integers(0, 2**32 - 1),
    st.lists(HALVES, max_size=60),
    st.lists(st.tuples(st.integers(0, 500), st.integers(0, 4095), st.integers(0, 2**32 - 1)), max_size=64),
    st.integers(0, 10_000),
)
def test_a_row_that_is_written_reads_back(
    times: tuple[float, float],
    run: int,
    values: list[float | None],
    workers: list[tuple[int, int, int]],
    dropped: int,
) -> None:
    moment = Moment(*times, run, tuple(values), tuple(WorkerAt(*each) for each in workers))
    packed = pack_row(9, moment, dropped)
    assert len(packed) == ROW_BYTES
    assert parse_row(packed) == (9, moment, dropped)


@given(st.binary(min_size=ROW_BYTES, max_size=ROW_BYTES) | st.binary(max_size=40))
def test_bytes_that_are_no_row_are_none(content: bytes) -> None:
    assert parse_row(content) is None


def test_a_row_torn_by_a_power_cut_is_left_out_and_the_one_before_stands(tmp_path: Path) -> None:
    path = box_path(tmp_path / "job.thresher")
    box = BlackBox(path, HEADER)
    for number in range(3):
        box.add(Moment(float(number), 0.0, 1, (50.0 + number,)))
    box.close()
    content = bytearray(path.read_bytes())
    content[HEADER_BYTES + 2 * ROW_BYTES + 40 : HEADER_BYTES + 2 * ROW_BYTES + 60] = b"\xff" * 20
    path.write_bytes(content)
    read = read_box(path)
    assert read is not None
    assert [row.values for row in read[1].rows] == [(50.0,), (51.0,)]


def test_the_ring_keeps_the_newest_rows_in_their_order(tmp_path: Path) -> None:
    path = box_path(tmp_path / "job.thresher")
    box = BlackBox(path, HEADER)
    for number in range(ROWS + 5):
        box.add(Moment(float(number), 0.0, 1, ()), durable=False)
    box.close()
    read = read_box(path)
    assert read is not None
    assert [row.at for row in read[1].rows] == [float(number) for number in range(5, ROWS + 5)]


def test_the_header_says_how_it_was_left(tmp_path: Path) -> None:
    path = box_path(tmp_path / "job.thresher")
    box = BlackBox(path, HEADER)
    box.set_header(power_cycles={"S": 9}, closed="closed", asked_by=15)
    box.close()
    read = read_box(path)
    assert read is not None
    assert (read[0].power_cycles, read[0].closed, read[0].asked_by) == ({"S": 9}, "closed", 15)
    assert read[0].channels == (CHANNEL,)


@pytest.mark.parametrize("spoil", [b"", b"THRBOX01", b"\0" * 70_000, b"THRBOX01" + b"\xff" * 70_000])
def test_a_damaged_box_is_none_and_not_an_error(tmp_path: Path, spoil: bytes) -> None:
    path = tmp_path / "box"
    path.write_bytes(spoil)
    assert read_box(path) is None
    assert read_box(tmp_path / "not there") is None


def test_the_layout_is_the_one_that_is_described() -> None:
    row = pack_row(3, Moment(1.5, 2.5, 7, (4.0, None), (WorkerAt(2, 5, 99),)), 6)
    assert row[:4] == b"ROW1"
    assert struct.unpack("<I", row[4:8])[0] == zlib.crc32(row[8:])
    assert struct.unpack("<QddIHHII", row[8:48]) == (3, 1.5, 2.5, 7, 2, 1, 6, 0)
    assert struct.unpack("<f", row[48:52]) == (4.0,)
    assert struct.unpack("<HHI", row[56:64]) == (2, 5, 99)


def test_on_this_computer_rows_come_by_themselves_and_say_what_the_workers_do(tmp_path: Path) -> None:
    system = LiveSystem()
    found = read_inventory(system)
    watch = BlackBoxWatch(
        system, tmp_path / "job.thresher", lambda: discover(system, found), (), lambda: (4, (WorkerAt(1, 0, 12),))
    )
    watch.begin(replace_header(watch))
    deadline = time.monotonic() + 20
    while watch.state.rows < 5:
        assert time.monotonic() < deadline, watch.state
        time.sleep(0.02)
    watch.close(needed=True)
    read = read_box(box_path(tmp_path / "job.thresher"))
    assert read is not None
    assert len(read[1].rows) >= 5
    last = read[1].rows[-1]
    assert (last.run, last.workers) == (4, (WorkerAt(1, 0, 12),))
    assert len(last.values) == len(read[0].channels)
    assert [row.at for row in read[1].rows] == sorted({row.at for row in read[1].rows})


def replace_header(watch: BlackBoxWatch) -> BoxHeader:
    """The header of a watch's own channels."""
    return BoxHeader("boot-1", 1, 0.0, 0.0, 0.0, watch.channels)


def test_a_drive_that_stalls_costs_rows_and_says_so(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    stalled, go_on = threading.Event(), threading.Event()
    add = BlackBox.add

    def stall(box: BlackBox, moment: Moment, dropped: int = 0, durable: bool = True) -> None:
        if box._number == 2 and not go_on.is_set():
            stalled.set()
            go_on.wait(20)
        add(box, moment, dropped, durable)

    monkeypatch.setattr(BlackBox, "add", stall)
    system = LiveSystem()
    found = read_inventory(system)
    watch = BlackBoxWatch(system, tmp_path / "j", lambda: discover(system, found), (), lambda: (1, ()))
    watch.begin(replace_header(watch))
    assert stalled.wait(20)
    time.sleep(1.0)
    go_on.set()
    deadline = time.monotonic() + 20
    while watch.state.dropped == 0:
        assert time.monotonic() < deadline
        time.sleep(0.02)
    rows = watch.state.rows
    while watch.state.rows < rows + 2:
        assert time.monotonic() < deadline
        time.sleep(0.02)
    watch.close(needed=True)
    read = read_box(box_path(tmp_path / "j"))
    assert read is not None
    assert read[1].dropped >= 5


def test_without_room_for_it_the_reason_is_said(tmp_path: Path) -> None:
    system = LiveSystem()
    found = read_inventory(system)
    watch = BlackBoxWatch(system, tmp_path / "no" / "such" / "j", lambda: discover(system, found), (), lambda: (0, ()))
    watch.begin(HEADER)
    deadline = time.monotonic() + 20
    while not watch.state.trouble:  # its thread says so
        assert time.monotonic() < deadline
        time.sleep(0.02)
    assert "black box" in watch.state.trouble
    watch.close(needed=True)


def test_what_is_no_file_is_not_written_over(tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "pipe")
    (tmp_path / "target").write_bytes(b"kept")
    (tmp_path / "link").symlink_to(tmp_path / "target")
    for name in ("pipe", "link"):
        with pytest.raises(EnvironmentFault, match="black box"):
            BlackBox(tmp_path / name, HEADER)
    assert (tmp_path / "target").read_bytes() == b"kept"
