"""A live flood in the kernel log: are all lines counted, and does the window stay responsive?

Usage, as root: python bench/log_flood.py [LINES A SECOND] [SECONDS]. Lines are written to this computer's
own `/dev/kmsg` (`kernel.printk_devkmsg` is set to allow it meanwhile), read by an engine of its own, and shown by
a window without a display whose longest wait is measured. They name a module BENCH_FLOOD, so nobody is misled later.
"""

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtCore import QTimer

from thresher.app.launch import start_engine_process
from thresher.protocol.commands import QuitEngine
from thresher.ui.app import make_app, take_down
from thresher.ui.link import EngineLink
from thresher.ui.look import Look
from thresher.ui.state import BenchState
from thresher.ui.window import MainWindow

GATE = Path("/proc/sys/kernel/printk_devkmsg")
PLACE = "BENCH_FLOOD"
WRITER = """
import sys, time
rate, seconds = int(sys.argv[1]), float(sys.argv[2])
log = open("/dev/kmsg", "wb", buffering=0)
began, sent = time.monotonic(), 0
while sent < rate * seconds:
    due = int((time.monotonic() - began) * rate)
    while sent < min(due, rate * seconds):
        log.write(b"<4>EDAC MC0: 1 CE memory read error on BENCH_FLOOD (channel:0 slot:0 page:0x%x)\\n" % sent)
        sent += 1
    time.sleep(0.002)
print(sent, time.monotonic() - began)
"""


def main() -> None:
    """Flood, count, measure."""
    rate = int(sys.argv[1]) if len(sys.argv) > 1 else 5_000
    seconds = float(sys.argv[2]) if len(sys.argv) > 2 else 20.0
    before = GATE.read_text().strip()
    GATE.write_text("on\n")
    app = make_app([])
    try:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            socket = folder / "flood.sock"
            start_engine_process(socket, ["--job", str(folder / "flood.thresher")], folder / "engine.log")
            state, link = BenchState(), EngineLink(socket)
            window = MainWindow(state, Look(), link)
            link.opened.connect(state.take_snapshot)
            link.rows_came.connect(state.take_rows)
            link.event_came.connect(state.take_event)
            window.resize(1280, 800)
            window.show()
            window.show_station(2)
            link.open()
            wait(app, lambda: state.tick is not None, 30)
            waits = [0.0, time.monotonic()]

            def beat() -> None:
                now = time.monotonic()
                waits[0], waits[1] = max(waits[0], now - waits[1]), now

            wait(app, lambda: False, 3)
            timer = QTimer()
            timer.setInterval(5)
            timer.timeout.connect(beat)
            waits[1] = time.monotonic()
            timer.start()
            command = [sys.executable, "-c", WRITER, str(rate), str(seconds)]
            writer = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)

            def counted() -> int:
                return sum(each.count for each in state.findings if each.place == PLACE)

            wanted = int(rate * seconds)
            wait(app, lambda: writer.poll() is not None, seconds * 3 + 30)
            wait(app, lambda: counted() >= wanted, 90)
            reported = writer.stdout.read().split() if writer.stdout is not None else ["0", "1"]
            lost = [entry.detail for entry in state.tape if entry.title == "Kernel log overflowed"]
            health = state.health
            cost = f"{health.sampling_share:.1%}" if health is not None else "?"
            print(
                f"{reported[0]} lines in {float(reported[1]):.1f} s, {counted()} counted in"
                f" {sum(each.place == PLACE for each in state.findings)} findings; the kernel overwrote some"
                f" {len(lost)} times; longest wait of the window {waits[0] * 1000:.0f} ms; sampling {cost} of a core"
            )
            link.call(QuitEngine())
            link.finish()
            take_down(app, window)
    finally:
        GATE.write_text(f"{before}\n")


def wait(app: object, condition: object, seconds: float) -> None:
    """Let the window live until a condition holds, or time is up."""
    until = time.monotonic() + seconds
    while not condition() and time.monotonic() < until:  # type: ignore[operator]
        app.processEvents()  # type: ignore[attr-defined]
        time.sleep(0.001)


if __name__ == "__main__":
    main()
