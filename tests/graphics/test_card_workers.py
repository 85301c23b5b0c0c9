"""Workers of cards as processes: totals, stop, kill, hang; which device is meant; what errors have in common."""

import os
import signal
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from thresher.graphics.egl import CardDevice, pci_of
from thresher.graphics.error_shape import shape_of
from thresher.graphics.order import CardOrder
from thresher.graphics.results import Beat, CardReport, Source, Wrong
from thresher.graphics.worker import Books, WorkControl, device_for, work
from thresher.graphics.worker_process import CardProcess
from thresher.model.card_port import CardUse
from thresher.model.errors import SourceUnavailable
from thresher.model.sheet import Shape, ShapeKind


def until(condition: Callable[[], bool], seconds: float = 60.0) -> None:
    """Wait for something that another process does."""
    end = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < end
        time.sleep(0.02)


def followed(process: CardProcess, reports: list[CardReport], enough: Callable[[CardReport], bool]) -> None:
    """Take reports until one is enough."""

    def come() -> bool:
        reports.extend(process.take())
        return any(enough(each) for each in reports)

    until(come)


@pytest.mark.parametrize("use", list(CardUse))
def test_a_worker_works_reports_and_stops(renderer: CardDevice, use: CardUse) -> None:
    assert renderer.software
    process = CardProcess(CardOrder(use, amount=4 << 20, size=(160, 90), retention_s=0.05))
    reports: list[CardReport] = []
    try:
        followed(process, reports, lambda each: each.beats >= 3)
        assert reports[0].software
        assert reports[0].renderer
        process.stop()
        followed(process, reports, lambda each: each.ended)
    finally:
        assert not process.close()
    last = reports[-1]
    assert (last.wrong_count, last.trouble, last.reset) == (0, "", "")
    assert last.units > 0
    assert last.covered == (4 << 20 if use is CardUse.MEMORY else 0)


class Minute:
    """A clock that goes on by what the work waits and computes, and an event that is never set before its end."""

    def __init__(self) -> None:
        self.now = 100.0
        self.beats: list[float] = []

    @property
    def covered(self) -> int:
        return 0

    def beat(self) -> Beat:
        self.beats.append(self.now - 100.0)
        self.now += 0.01
        return Beat(1.0)

    def is_set(self) -> bool:
        return self.now >= 102.0

    def wait(self, seconds: float) -> bool:
        self.now += seconds
        return self.is_set()


def test_a_pulse_leaves_the_card_at_rest_for_its_share() -> None:
    minute, reports = Minute(), list[CardReport]()
    order = CardOrder(CardUse.TRANSFER, shape=Shape(ShapeKind.PULSE, 0.4, 0.25), begun=100.0)
    work(minute, order, lambda: "", WorkControl(minute), reports.append, lambda: minute.now)  # type: ignore[arg-type]
    # 0.1 s of every 0.4 s, five times in two seconds, ten beats of 10 ms each; a beat may begin just before the end
    assert all(round(at % 0.4, 6) < 0.1 or round(at % 0.4, 6) == 0.4 for at in minute.beats)
    assert 50 <= len(minute.beats) <= 55
    assert reports[-1].ended
    assert reports[-1].beats == len(minute.beats)


def test_a_reset_ends_the_work_and_is_reported() -> None:
    minute, reports = Minute(), list[CardReport]()
    resets = iter(("", "", "the card was reset, by this work"))
    order, control = CardOrder(CardUse.TRANSFER), WorkControl(minute)  # type: ignore[arg-type]
    work(minute, order, lambda: next(resets), control, reports.append, lambda: minute.now)
    assert (reports[-1].beats, reports[-1].reset) == (3, "the card was reset, by this work")


def test_a_killed_worker_is_reported(renderer: CardDevice) -> None:
    assert renderer.software
    process = CardProcess(CardOrder(CardUse.TRANSFER))
    reports: list[CardReport] = []
    try:
        followed(process, reports, lambda each: each.beats >= 1)
        os.kill(process.pid, signal.SIGKILL)
        followed(process, reports, lambda each: each.ended)
    finally:
        process.close()
    assert reports[-1].trouble == "its worker ended by itself (signal 9)"
    assert process.over


def test_a_hanging_worker_is_noticed_and_ended_by_force(renderer: CardDevice) -> None:
    assert renderer.software
    process = CardProcess(CardOrder(CardUse.TRANSFER))
    reports: list[CardReport] = []
    try:
        followed(process, reports, lambda each: each.beats >= 1)
        os.kill(process.pid, signal.SIGSTOP)
        until(lambda: process.silent_s > 1.0)
    finally:
        assert process.close(seconds=0.3)  # by force
    assert process.silent_s > 1.0


def test_a_card_that_is_not_offered_is_said() -> None:
    process = CardProcess(CardOrder(CardUse.COMPUTE, pci="0000:77:00.0"))
    reports: list[CardReport] = []
    try:
        followed(process, reports, lambda each: each.ended)
    finally:
        process.close()
    assert "0000:77:00.0" in reports[-1].trouble or "OpenGL" in reports[-1].trouble


# ---- which device


CARDS = (
    CardDevice(1, False, "/dev/dri/card0", pci="0000:01:00.0"),
    CardDevice(0, False, "/dev/dri/card1", pci="0000:06:00.0"),
    CardDevice(2, True),
)


def test_the_device_is_chosen_by_its_address() -> None:
    assert device_for(CardOrder(CardUse.COMPUTE, "0000:06:00.0"), CARDS).index == 0
    assert device_for(CardOrder(CardUse.COMPUTE), CARDS).software
    with pytest.raises(SourceUnavailable, match=r"offers 0000:01:00\.0, 0000:06:00\.0, a software renderer"):
        device_for(CardOrder(CardUse.COMPUTE, "0000:02:00.0"), CARDS)
    with pytest.raises(SourceUnavailable, match="It offers nothing"):
        device_for(CardOrder(CardUse.COMPUTE), ())


def test_a_node_leads_to_its_address(tmp_path: Path) -> None:
    card = tmp_path / "devices" / "pci0000:00" / "0000:06:00.0"
    (card / "drm" / "card1").mkdir(parents=True)
    (tmp_path / "class").mkdir()
    (tmp_path / "class" / "card1").symlink_to(card / "drm" / "card1")
    (card / "drm" / "card1" / "device").symlink_to(card)
    assert pci_of("/dev/dri/card1", tmp_path / "class") == "0000:06:00.0"
    assert pci_of("/dev/dri/card7", tmp_path / "class") == ""
    assert pci_of("") == ""


# ---- totals and the shape of errors


def wrong(place: int, turned: int) -> Wrong:
    return Wrong(Source.MEMORY, 1, place, 0xFFFFFFFF, 0xFFFFFFFF ^ turned)


def test_books_name_what_is_new_and_count_everything() -> None:
    books = Books()
    for number in range(50):
        books.note(Beat(2.0, 3, (wrong(number, 1), wrong(number, 2), wrong(number, 4))), 0.01 * (number + 1))
    found, pictures, frames = books.take()
    assert len(found) == 64
    assert (books.wrong_count, books.units, books.beats) == (150, 100.0, 50)
    assert pictures == ()
    assert frames is not None
    assert (frames.middle_ms, frames.longest_ms, len(frames.recent_ms)) == (255.0, 500.0, 50)
    assert books.take() == ((), (), None)


def test_what_errors_have_in_common() -> None:
    words = 1 << 24
    rng = np.random.default_rng(4)
    one_lane = [wrong(int(place), 1 << 7) for place in rng.integers(0, words, 60)]
    assert shape_of(one_lane, words) == "always bit 7"
    region = [wrong(4096 + place, 1 << place % 32) for place in range(0, 2000, 7)]
    assert shape_of(region, words) == "all within 7.8 KiB from 16.0 KiB on"
    line = [wrong(int(place) | 1 << 20, int(rng.integers(1, 1 << 32))) for place in rng.integers(0, words, 40)]
    assert shape_of(line, words) == "address bit 22 is always 1"
    assert shape_of(line[:2], words) == ""
    scattered = [wrong(int(place), int(rng.integers(1, 1 << 32))) for place in rng.integers(0, words, 60)]
    assert shape_of(scattered, words) == ""
