"""The verified load: what is written comes back or is named for what it is, and its file never stays."""

import errno
import json
import os
import signal
import subprocess
import sys
import threading
from collections.abc import Callable
from pathlib import Path

import numpy as np
import numpy.typing as npt
import pytest
from hypothesis import given
from hypothesis import strategies as st

from thresher.drives.scratch import Nature, Patterns, Scratch, ScratchPlan
from thresher.drives.scratch_process import ScratchProcess
from thresher.drives.scratch_worker import ScratchOrder
from thresher.machine.scratch_file import KernelScratchFile, remove_left_over, scratch_name
from thresher.model.errors import SourceUnavailable
from thresher.shop.scratch_files import forget_scratch_file, note_scratch_file, remove_scratch_files

Words = npt.NDArray[np.uint64]
PLAN = ScratchPlan(64, 4096, seed=7, depths=(1, 3))


class Memory:
    """A scratch file in memory, whose time is counted in requests."""

    def __init__(self) -> None:
        self.kept: dict[int, Words] = {}
        self.requests = 0
        self.flushed = 0
        self.on_write: Callable[[int, Words], Words | None] = lambda _offset, words: words
        self.error: OSError | None = None
        self.lock = threading.Lock()

    def _count(self) -> None:
        with self.lock:
            self.requests += 1
            if self.error is not None:
                raise self.error

    def write_at(self, offset: int, words: Words) -> None:
        self._count()
        written = self.on_write(offset, words.copy())
        if written is not None:
            self.kept[offset] = written

    def read_at(self, offset: int, into: Words) -> int:
        self._count()
        into[:] = self.kept.get(offset, 0)
        return into.nbytes

    def rest(self, length: int) -> None:
        """A request stands for itself."""

    def flush(self) -> None:
        self._count()
        self.flushed += 1

    def clock(self) -> float:
        return float(self.requests)


def test_a_sound_file_is_written_read_back_and_found_as_written() -> None:
    memory = Memory()
    scratch = Scratch(PLAN, memory)
    scratch.advance(1000)
    found = scratch.progress()
    assert found.wrong == ()
    assert found.failures == ()
    assert found.rounds >= 5  # 64 written, 64 read, two times 16 mixed and three flushes are a round
    assert memory.flushed >= 15
    assert set(memory.kept) == {number * 4096 for number in range(64)}
    assert found.compared >= 5 * 64 * 4096
    assert {each.what for each in found.timings} == {"write", "read", "flush"}


def test_threads_do_the_same_work_and_stop_when_told() -> None:
    memory = Memory()
    scratch = Scratch(PLAN, memory)
    work = threading.Thread(target=scratch.run)
    work.start()
    while scratch.progress().rounds < 3:
        assert work.is_alive()
    scratch.stop()
    work.join(10)
    assert not work.is_alive()
    assert scratch.progress().wrong_count == 0


def turned(_offset: int, words: Words) -> Words:
    words[100] ^= np.uint64(1 << 9)
    return words


def lost(offset: int, words: Words) -> Words | None:
    return None if words[3] == 2 and offset == 8192 else words  # its second generation never arrives


@pytest.mark.parametrize(
    ("on_write", "nature", "words"),
    [
        (lambda offset, words: turned(offset, words) if offset == 4096 else words, Nature.FLIPPED, "word 100: bit 9"),
        (lost, Nature.LOST, "generation 1 where 2 was written"),
        (lambda offset, words: np.zeros_like(words) if offset == 0 else words, Nature.ZEROS, "zero"),
        (lambda offset, words: words[::-1].copy() if offset == 0 else words, Nature.FOREIGN, "words differ"),
    ],
)
def test_a_wrong_block_is_named_for_what_it_is(
    on_write: Callable[[int, Words], Words | None], nature: Nature, words: str
) -> None:
    memory = Memory()
    memory.on_write = on_write
    scratch = Scratch(PLAN, memory)
    scratch.advance(600)
    wrong = scratch.progress().wrong[0]
    assert wrong.nature is nature
    assert words in wrong.words


def test_the_data_of_another_place_is_told_from_damage() -> None:
    memory = Memory()
    memory.on_write = lambda _offset, words: words
    scratch = Scratch(PLAN, memory)
    scratch.advance(65)  # all is written once
    memory.kept[4096] = memory.kept[12288].copy()
    scratch.advance(140)
    (wrong,) = scratch.progress().wrong
    assert (wrong.offset, wrong.nature, wrong.words) == (4096, Nature.MISPLACED, "holds what belongs to byte 12288")


@given(st.integers(0, 60), st.integers(1, 9), st.binary(min_size=128, max_size=128))
def test_any_block_is_judged_without_fail(number: int, generation: int, data: bytes) -> None:
    patterns = Patterns(ScratchPlan(64, 128, seed=7))
    expected = np.zeros(16, np.uint64)
    patterns.fill(expected, number, generation)
    wrong = patterns.judge(np.frombuffer(data, np.uint64), expected, number, generation)
    assert wrong.offset == number * 128
    assert wrong.nature is Nature.ZEROS if data == bytes(128) else wrong.nature is not Nature.MISPLACED


@pytest.mark.parametrize(
    ("number", "words"),
    [
        (errno.ENOSPC, "the file system is full"),
        (errno.EROFS, "the file system has gone to read-only"),
        (errno.ENODEV, "the drive has gone"),
    ],
)
def test_what_cannot_go_on_ends_with_its_reason(number: int, words: str) -> None:
    memory = Memory()
    scratch = Scratch(PLAN, memory)
    scratch.advance(10)
    memory.error = OSError(number, "no")
    scratch.run()
    found = scratch.progress()
    assert found.over == words
    assert found.failures[0].error == number


def test_a_drive_that_fails_everything_does_not_keep_it_busy_for_ever() -> None:
    memory = Memory()
    memory.error = OSError(errno.EIO, "no")
    scratch = Scratch(PLAN, memory)
    scratch.run()
    assert "operations have failed" in scratch.progress().over


# ---- the real file


def own_name(folder: Path) -> Path:
    return folder / scratch_name(os.urandom(8))


def test_a_real_file_has_its_room_is_private_and_goes(tmp_path: Path) -> None:
    path = own_name(tmp_path)
    file = KernelScratchFile(str(path), 1 << 20)
    assert path.stat().st_size == 1 << 20
    assert path.stat().st_mode & 0o777 == 0o600
    assert remove_left_over(str(path)) is None  # it is in use
    scratch = Scratch(ScratchPlan(8, seed=3), file)
    work = threading.Thread(target=scratch.run)
    work.start()
    while scratch.progress().rounds < 2 and work.is_alive():
        pass
    scratch.stop()
    work.join(20)
    assert scratch.progress().wrong_count == 0
    assert scratch.progress().failures == ()
    file.remove()
    assert list(tmp_path.iterdir()) == []


def test_no_other_file_is_opened_or_removed(tmp_path: Path) -> None:
    path = own_name(tmp_path)
    target = tmp_path / "letters.txt"
    target.write_text("dear customer")
    path.symlink_to(target)
    with pytest.raises(SourceUnavailable, match="File exists"):
        KernelScratchFile(str(path), 1 << 20)
    with pytest.raises(OSError, match=r"Too many levels|symbolic"):
        remove_left_over(str(path))
    assert remove_left_over(str(target)) is None
    assert target.read_text() == "dear customer"


def test_no_room_is_said_and_nothing_is_left(tmp_path: Path) -> None:
    with pytest.raises(SourceUnavailable, match=r"no room for|too large|Invalid"):
        KernelScratchFile(str(own_name(tmp_path)), 1 << 60)
    assert list(tmp_path.iterdir()) == []


def started(folder: Path) -> tuple[ScratchProcess, Path]:
    path = own_name(folder)
    process = ScratchProcess(ScratchOrder(str(path), ScratchPlan(16, seed=5)))
    reports = process.reports()
    while (report := next(reports)) is None or report.progress is None:
        continue
    return process, path


def gone(path: Path) -> bool:
    for _ in range(600):
        if not path.exists():
            return True
        threading.Event().wait(0.05)
    return False


def test_the_file_goes_when_the_load_is_closed(tmp_path: Path) -> None:
    process, path = started(tmp_path)
    removed = threading.Event()
    process.close(removed.set)
    assert removed.wait(30)
    assert not path.exists()


def test_the_file_goes_when_whoever_wanted_it_dies(tmp_path: Path) -> None:
    path = own_name(tmp_path)
    order = json.dumps({"path": str(path), "plan": {"blocks": 16, "block": 131072, "seed": 5, "depths": [1, 4]}})
    script = (
        "import subprocess, sys, time\n"
        "child = subprocess.Popen([sys.executable, '-m', 'thresher.drives.scratch_worker'], stdin=subprocess.PIPE)\n"
        f"child.stdin.write({order!r}.encode() + b'\\n'); child.stdin.flush()\n"
        "time.sleep(60)\n"
    )
    parent = subprocess.Popen([sys.executable, "-c", script], stdout=subprocess.DEVNULL)
    for _ in range(600):
        if path.exists():
            break
        threading.Event().wait(0.05)
    assert path.exists()
    parent.send_signal(signal.SIGKILL)
    parent.wait()
    assert gone(path)


def test_what_a_crash_of_everything_leaves_is_removed_at_the_next_start(tmp_path: Path) -> None:
    shop, drive = tmp_path / "shop", tmp_path / "drive"
    shop.mkdir()
    drive.mkdir()
    left, lost_mount = own_name(drive), tmp_path / "not-mounted" / scratch_name(os.urandom(8))
    left.write_bytes(bytes(3 << 20))
    other = drive / "photos.zip"
    other.write_bytes(b"precious")
    for path in (left, other, lost_mount):
        note_scratch_file(shop, str(path))
    (words,) = remove_scratch_files(shop)
    assert words == f"{left}, 3 MiB, left by a run that was cut off: removed"
    assert not left.exists()
    assert other.read_bytes() == b"precious"
    kept = json.loads((shop / "scratch-files.json").read_text())["paths"]
    assert str(lost_mount) in kept  # its drive may come back
    assert str(left) not in kept
    forget_scratch_file(shop, str(lost_mount))
    assert remove_scratch_files(shop) == ()
