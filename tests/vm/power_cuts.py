"""Cut the power under a job again and again: what the black box and the journal lose. Usage: power_cuts.py [CUTS]

As root, on any Linux with loop devices and ext4. A cut is the kernel's own way to try it: EXT4_IOC_SHUTDOWN without a
flush of the log (include/uapi/linux/ext4.h) stops every write of the file system at once, and what was not on the disk
is gone. Then the writing program is killed, the file system is mounted again as after a start, and the files are read.
To reach: at most 0.2 s of the black box and one row of the journal.
"""

import fcntl
import os
import random
import signal
import struct
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from thresher.engine.watch.black_box import BlackBoxWatch
from thresher.inventory.machine import read_inventory
from thresher.journal.black_box import BoxHeader, box_path, read_box
from thresher.journal.jobfile import JobFile
from thresher.journal.writer import JournalWriter
from thresher.machine.live import LiveSystem
from thresher.model.channels import Tick
from thresher.model.endings import WorkerAt
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, RunSheet
from thresher.sensors.discovery import discover
from thresher.sensors.sampler import Sampler

_SHUTDOWN, _WITHOUT_FLUSH = 0x8004587D, 2  # _IOR('X', 125, __u32), EXT4_GOING_FLAGS_NOLOGFLUSH
_TICK_S = 1.0


def write(job: Path) -> None:
    """Keep a job as a run does, until killed: a tick a second, the black box beside it."""
    system = LiveSystem()
    found = read_inventory(system)
    discovery = discover(system, found)
    sampler = Sampler(system, discovery)
    writer = JournalWriter(job)
    sheet = RunSheet("Cut", (Block(PartKind.PROCESSOR, "matrix", 0.0, 60.0),))
    writer.begin_run(1, sheet, found, sampler.channels, "boot", system.now(), system.wall())
    workers = tuple(WorkerAt(0, cpu, 1) for cpu in range(4))
    watch = BlackBoxWatch(system, job, lambda: discover(system, found), (), lambda: (1, workers))
    watch.begin(BoxHeader("boot", os.getpid(), system.now(), system.wall(), 0.0, watch.channels))
    print("begun", flush=True)
    due = time.monotonic()
    while True:
        tick: Tick = sampler.sample()
        writer.add_tick(1, tick)
        due += _TICK_S
        time.sleep(max(0.0, due - time.monotonic()))


def cut(folder: Path, seconds: float) -> tuple[float, float, int]:
    """Let a job be written, cut the power; return seconds lost of box and journal, and how many ticks there are."""
    image, mounted = folder / "disk", folder / "mounted"
    mounted.mkdir(exist_ok=True)
    image.unlink(missing_ok=True)
    with image.open("wb") as stream:
        stream.truncate(96 << 20)
    subprocess.run(["mkfs.ext4", "-q", str(image)], check=True)
    subprocess.run(["mount", "-o", "loop", str(image), str(mounted)], check=True)
    job = mounted / "job.thresher"
    program = subprocess.Popen([sys.executable, __file__, "write", str(job)], stdout=subprocess.PIPE)
    assert program.stdout is not None
    program.stdout.readline()
    time.sleep(seconds)
    root = os.open(mounted, os.O_RDONLY)
    at = time.time()
    fcntl.ioctl(root, _SHUTDOWN, struct.pack("I", _WITHOUT_FLUSH))
    os.close(root)
    program.send_signal(signal.SIGKILL)
    program.wait()
    program.stdout.close()
    subprocess.run(["umount", str(mounted)], check=True)
    subprocess.run(["mount", "-o", "loop", str(image), str(mounted)], check=True)
    try:
        read = read_box(box_path(job))
        assert read is not None and read[1].rows, "the black box holds no row"
        with JobFile(job, read_only=True) as stored:
            (run,) = stored.runs()
            ticks = stored.readings(run).wall
        return at - read[1].rows[-1].wall, at - float(ticks[-1]), len(ticks)
    finally:
        subprocess.run(["umount", str(mounted)], check=True)


def main() -> int:
    """Cut so many times and print what was lost."""
    if sys.argv[1:2] == ["write"]:
        write(Path(sys.argv[2]))
        return 0
    cuts = int(sys.argv[1]) if len(sys.argv) > 1 else 20
    chance = random.Random(20)  # the same times each time
    lost_box, lost_journal = [], []
    with tempfile.TemporaryDirectory() as folder:
        for number in range(cuts):
            box_s, journal_s, ticks = cut(Path(folder), chance.uniform(2.0, 6.0))
            lost_box.append(box_s)
            lost_journal.append(journal_s)
            print(f"cut {number + 1}: black box {box_s:.3f} s, journal {journal_s:.2f} s, {ticks} ticks", flush=True)
    rows = int(max(lost_journal) / _TICK_S)
    print(f"{cuts} cuts: black box at most {max(lost_box):.3f} s (limit 0.2), journal at most {rows} rows (limit 1)")
    return int(max(lost_box) > 0.2 or rows > 1)


if __name__ == "__main__":
    sys.exit(main())
