"""Make the pictures in docs/screenshots from the demo bench: a real engine, a real run, the real window.

Runs without a display. Each picture is taken at a moment of the run, so that it shows what a person sees then.
"""

import os
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtCore import QPoint, QRect
from PyQt6.QtGui import QColor, QPainter, QPixmap
from PyQt6.QtWidgets import QApplication, QScrollArea

from thresher.app.demo import prepare_demo_bench
from thresher.app.launch import start_engine_process
from thresher.compose.rounds import plan_round, round_sheet
from thresher.engine.assembly import open_engine
from thresher.model.access import Allowed, access_of
from thresher.model.card_port import Artefact
from thresher.model.checks import Round
from thresher.model.parts import PartKind
from thresher.model.sheet import GateKind
from thresher.model.vendors import Vendor
from thresher.privileged.allowlist import Right
from thresher.protocol.commands import PutRound, StartScan
from thresher.protocol.events import AccessEvent
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import load_scenario, shipped_scenarios
from thresher.ui import theme
from thresher.ui.__main__ import DEMO_ARGUMENTS
from thresher.ui.access_dialog import AccessDialog
from thresher.ui.app import make_app, take_down
from thresher.ui.link import EngineLink
from thresher.ui.look import Look
from thresher.ui.state import BenchState
from thresher.ui.stations.bench.map_picks import Picks, Target
from thresher.ui.stations.evidence.system_logs_dialog import SystemLogsDialog
from thresher.ui.stations.parts.trials_panel import columns_of
from thresher.ui.window import MainWindow

OUT = Path(__file__).parent.parent / "docs" / "screenshots"


def wait_for(app: QApplication, condition: object, seconds: float) -> None:
    """Let the window live until a condition holds. Raises TimeoutError."""
    deadline = time.monotonic() + seconds
    while not condition():  # type: ignore[operator]
        if time.monotonic() > deadline:
            raise TimeoutError("the demo did not get so far")
        app.processEvents()
        time.sleep(0.01)


def grab(app: QApplication, window: MainWindow, name: str) -> None:
    """Take one picture."""
    window.state.refresh_now()
    for _ in range(5):
        app.processEvents()
    OUT.mkdir(parents=True, exist_ok=True)
    window.grab().save(str(OUT / name))
    print(f"docs/screenshots/{name}")


def bench(app: QApplication, folder: Path, arguments: list[str], job: Path) -> tuple[MainWindow, EngineLink]:
    """Open a window on an engine of its own."""
    socket = folder / f"{job.stem}.sock"
    shop = folder / "bench" / "shop"
    start_engine_process(socket, [*arguments, "--job", str(job), "--shop", str(shop)], folder / "engine.log")
    state, look = BenchState(), Look(theme.LIGHT)
    link = EngineLink(socket)
    window = MainWindow(state, look, link)
    link.opened.connect(state.take_snapshot)
    link.rows_came.connect(state.take_rows)
    link.event_came.connect(state.take_event)
    window.show()
    link.open()
    wait_for(app, lambda: state.tick is not None, 60)
    return window, link


def demo_pictures(app: QApplication, folder: Path) -> None:
    """The Bench before, in and after the demo run, in both schemes, and the smallest size."""
    job, _shop = prepare_demo_bench(folder / "bench", fresh=False)
    window, _link = bench(app, folder, [*DEMO_ARGUMENTS, "--speed", "20"], job)
    state = window.state
    wait_for(app, lambda: state.now >= 0 and len(state.history) > 20, 30)
    compose_picture(app, window)
    window.start()
    wait_for(app, lambda: state.run.run_at >= 385, 60)
    grab(app, window, "bench.png")
    wait_for(app, lambda: state.run.state == "ended", 90)
    window.show_station(2)
    window.evidence.timeline.picked.emit(1)
    grab(app, window, "evidence.png")
    parts_pictures(app, window)
    take_down(app, window)


def compose_picture(app: QApplication, window: MainWindow) -> None:
    """A run sheet being edited: two parts loaded, a gate, a block selected; then back to the proposed sheet."""
    bench, processor = window.bench, PartKind.PROCESSOR
    cores = tuple(Target("processor", processor, core) for core in range(4))
    bench.map.set_picks(Picks((*cores, Target("memory A2", PartKind.MEMORY))))
    bench.put()
    bench.editor.put_gate(GateKind.COOL_DOWN, bench.editor.draft.length_s)
    bench.map.set_picks(Picks(cores))
    bench.picker.fields["load"].setCurrentText("branchy")
    bench.put()
    bench.run_sheet.setFocus()
    wait_for(app, lambda: bench.editor.check is not None, 10)
    grab(app, window, "bench-compose.png")
    while bench.editor.history.past:
        bench.editor.undo()
    bench.map.set_picks(Picks())


def parts_pictures(app: QApplication, window: MainWindow) -> None:
    """The Parts after a run: what is likely, what to do, and a swap in the book."""
    window.show_station(3)
    state, station = window.state, window.parts
    own = next(part.tag for part in state.book.parts if part.kind.value == "processor" and not part.known_good)
    ours = next(part.tag for part in state.book.parts if part.kind.value == "processor" and part.known_good)
    columns = columns_of(state.book)
    number = next(n for n, column in enumerate(columns) if column.kind.value == "processor")
    station.trials.put(number, ours)
    station.begin.click()
    wait_for(app, lambda: len(state.book.trials) == 2, 10)
    outcome = {"ended": "clean", "load": "matrix", "minutes": 45.0, "kind": None, "trust": 0.95, "note": ""}
    station.outcome_wanted.emit(1, outcome)
    wait_for(app, lambda: state.verdict is not None and own in state.verdict.acts[0].tags, 20)
    station.record.buttons["lock"].click()
    wait_for(app, lambda: bool(state.decided.decisions.locked), 10)
    grab(app, window, "parts.png")


def intake_pictures(app: QApplication, folder: Path) -> None:
    """The Intake of a machine with doubts, and the proposed sheets."""
    job, _shop = prepare_demo_bench(folder / "bench", fresh=False)
    boatyard = next(path for path in job.parent.iterdir() if "boatyard" in path.name and path.suffix == ".thresher")
    window, _link = bench(app, folder, ["--simulate", "boatyard-plotter", "--speed", "20"], boatyard)
    window.show_station(0)
    wait_for(app, lambda: len(window.intake.strip.cards) == 6, 20)
    grab(app, window, "intake.png")
    take_down(app, window)


def handover_picture(app: QApplication, folder: Path) -> None:
    """The sail loft handed over: the customer's page, its seal, and the visits before."""
    job, _shop = prepare_demo_bench(folder / "bench", fresh=False)
    loft = job.parent / "0428-sail-loft.thresher"
    window, _link = bench(app, folder, ["--simulate", "sail-loft", "--speed", "20"], loft)
    window.show_station(5)
    station = window.handover
    wait_for(app, lambda: station.preview is not None and bool(station.history.history.visits), 120)
    station.write(folder / "report.pdf")
    wait_for(app, lambda: bool(station.seal.seal.code), 120)
    grab(app, window, "handover.png")
    take_down(app, window)


def compare_picture(app: QApplication, folder: Path) -> None:
    """The sail loft's heat runs over each other: dust out, then fresh paste."""
    job, _shop = prepare_demo_bench(folder / "bench", fresh=False)
    loft = job.parent / "0428-sail-loft.thresher"
    window, _link = bench(app, folder, ["--simulate", "sail-loft", "--speed", "20"], loft)
    window.show_station(4)
    wait_for(app, lambda: window.compare.comparison is not None, 60)
    grab(app, window, "compare.png")
    take_down(app, window)


def doubtful(state: BenchState, tag: str) -> bool:
    """Whether there is a doubt about a part."""
    parts = state.snapshot.machine.parts if state.snapshot else ()
    return any(state.doubts_of(part) for part in parts if part.tag == tag)


def drive_pictures(app: QApplication, folder: Path) -> None:
    """A dying drive: its health on Intake, a read scan of it at work, and its place among the suspects."""
    job, _shop = prepare_demo_bench(folder / "bench", fresh=False)
    school = job.parent / "school-library.thresher"
    window, link = bench(app, folder, ["--simulate", "school-library", "--speed", "120"], school)
    state = window.state
    window.show_station(0)
    window.intake.parts.show_only("drive sda")
    wait_for(app, lambda: doubtful(state, "drive sda"), 30)
    for _ in range(5):
        app.processEvents()
    area = window.intake.parts.parentWidget()
    while not isinstance(area, QScrollArea):
        assert area is not None
        area = area.parentWidget()
    bar = area.verticalScrollBar()
    assert bar is not None
    bar.setValue(510)
    grab(app, window, "drive-health.png")
    window.show_station(1)
    link.call(StartScan("sda", anyway=True))
    window.choose_scheme(theme.DARK)
    wait_for(app, lambda: state.scan is not None and not state.scan.running, 120)
    grab(app, window, "drive-scan-end.png")
    window.choose_scheme(theme.LIGHT)
    window.show_station(3)
    grab(app, window, "parts-drive.png")
    take_down(app, window)


def graphics_pictures(app: QApplication, folder: Path) -> None:
    """Two cards and a processor under load at once: the Bench, after a person saw dots in the scene."""
    job, _shop = prepare_demo_bench(folder / "bench", fresh=False)
    diorama = job.parent / "museum-diorama.thresher"
    arguments = ["--simulate", "museum-diorama", "--speed", "6", "--sheet", "supply-test"]
    window, _link = bench(app, folder, arguments, diorama)
    state = window.state
    window.show_station(1)
    window.start()
    wait_for(app, lambda: any(each.code == "G-411" for each in state.findings), 120)
    wait_for(app, lambda: state.run.run_at >= 330, 120)
    window.show_scene()
    scene = window.scene
    scene.resize(1280, 800)
    wait_for(app, lambda: scene.view.image is not None, 20)
    scene.buttons[Artefact.DOTS].click()
    wait_for(app, lambda: any(each.code in ("G-450", "G-451") for each in state.findings), 20)
    grab(app, window, "graphics-run.png")
    scene.close()
    window.stop()
    take_down(app, window)


def earlier_visits(folder: Path, shop: Path) -> None:
    """Let the notebook have been here twice before, with more left in its battery."""
    notebook = load_scenario(shipped_scenarios()["harbour-notebook"])
    for start, worn in (("2025-02-03T09:00:00+01:00", 0.08), ("2025-11-18T14:20:00+01:00", 0.22)):
        faults = tuple(replace(fault, strength=worn) for fault in notebook.faults)
        system = SimulatedMachine(replace(notebook, start=start, faults=faults), 0.0)
        engine = open_engine(system, folder / f"{start[:10]}.thresher", shop=shop)
        engine.run_to_end(round_sheet("Visit", plan_round(Round.SHORT, engine.inventory).checks, engine.inventory))
        engine.close()


def round_pictures(app: QApplication, folder: Path) -> None:
    """The short round on a notebook: its end on the map, the results by part, and a picture to be judged."""
    job, shop = prepare_demo_bench(folder / "bench", fresh=False)
    earlier_visits(folder, shop)
    arguments = ["--simulate", "harbour-notebook", "--speed", "60"]
    window, _link = bench(app, folder, arguments, job.parent / "notebook.thresher")
    state = window.state
    window.sheets.put_round()
    wait_for(app, lambda: "every part" in window.bench.editor.draft.title, 20)
    window.start()
    wait_for(app, lambda: state.run.run_at >= 150, 90)
    grab(app, window, "round.png")
    wait_for(app, lambda: state.run.state == "ended", 120)
    window.requests.send(PutRound(checks=("picture",)))
    wait_for(app, lambda: window.bench.editor.draft.title == "Picture", 20)
    window.start()
    wait_for(app, window.question.isVisible, 30)
    for question in ("black", "red", "green", "blue", "17 steps"):
        window.question.buttons["good"].click()
        wait_for(app, lambda words=question: words in window.question.text.text(), 20)
        wait_for(app, window.question.isVisible, 20)
    grab(app, window, "question.png")
    window.stop()
    take_down(app, window)


def crash_pictures(app: QApplication, folder: Path) -> None:
    """A machine that only crashes: the last seconds before an end, the countdown, and the part that is named."""
    arguments = ["--simulate", "boatyard-crane", "--speed", "20", "--sheet", "crash-hunt"]
    window, _link = bench(app, folder, arguments, folder / "crane.thresher")
    state, ending = window.state, window.bench.ending
    window.start()
    wait_for(app, lambda: state.going_on.due is not None, 120)
    grab(app, window, "going-on.png")
    wait_for(app, lambda: bool(state.going_on.named), 600)
    wait_for(app, lambda: ending.isVisible() and ending.paper.moments is not None, 20)
    wait_for(app, lambda: state.verdict is not None and state.verdict.suspects[0].kind is not None, 20)
    grab(app, window, "part-found.png")
    take_down(app, window)
    arguments = ["--simulate", "boatyard-crane", "--speed", "20", "--sheet", "reset-hunt-short"]
    window, _link = bench(app, folder, arguments, folder / "crane-again.thresher")
    ending = window.bench.ending
    window.start()
    wait_for(app, lambda: ending.isVisible() and ending.paper.moments is not None, 120)
    grab(app, window, "ending.png")
    take_down(app, window)


def access_picture(app: QApplication, folder: Path) -> None:
    """What is allowed and what more would bring, as on a computer of somebody who is no administrator.

    Below it stands the bottom line in its other two states.
    """
    window, link = bench(app, folder, ["--simulate", "lighthouse-playout"], folder / "access.thresher")
    link.close()  # the window would be told that on a simulated machine everything is allowed
    here = {Right.READ: Allowed.YES, Right.DRIVES: Allowed.YES}
    asked = dict.fromkeys(set(Right) - set(here), Allowed.ASK)
    lines = []
    for access in (access_of(dict.fromkeys(Right, Allowed.YES)), access_of({}), access_of(here | asked)):
        window.state.take_event(AccessEvent(access))
        window.state.refresh_now()
        app.processEvents()
        lines.append(window.footer.grab())
    window.show_access()
    for _ in range(8):
        app.processEvents()
    dialog = window.findChild(AccessDialog)
    assert dialog is not None
    whole, shown = window.grab(), dialog.grab()
    picture = QPixmap(whole.width(), whole.height() + 2 * (lines[0].height() + 6))
    picture.fill(QColor("white"))
    painter = QPainter(picture)
    painter.drawPixmap(0, 0, whole)
    corner = QPoint((whole.width() - shown.width()) // 2, (whole.height() - shown.height()) // 2)
    painter.drawPixmap(corner, shown)
    painter.drawRect(QRect(corner, shown.size()))
    for number, line in enumerate(lines[:2]):
        painter.drawPixmap(0, whole.height() + 6 + number * (line.height() + 6), line)
    painter.end()
    picture.save(str(OUT / "access.png"))
    print("docs/screenshots/access.png")
    take_down(app, window)


def system_logs_picture(app: QApplication, folder: Path) -> None:
    """The logs of the installed system of the lighthouse radio."""
    dialog = SystemLogsDialog(Look(theme.LIGHT), Vendor.INTEL, "lighthouse-playout")
    dialog.look_for_drives()
    dialog.consent.setChecked(True)
    dialog.show()
    dialog.read.click()
    wait_for(app, lambda: bool(dialog.answer.systems), 60)
    dialog.said.setText("")
    for _ in range(5):
        app.processEvents()
    dialog.grab().save(str(OUT / "system-logs.png"))
    dialog.close()


def main() -> int:
    """Make all pictures, or the groups named, which are listed below."""
    groups = sys.argv[1:] or [
        "demo",
        "intake",
        "compare",
        "handover",
        "drives",
        "graphics",
        "rounds",
        "crashes",
        "access",
        "logs",
    ]
    app = make_app([])
    for name, make in (
        ("demo", demo_pictures),
        ("intake", intake_pictures),
        ("compare", compare_picture),
        ("handover", handover_picture),
        ("drives", drive_pictures),
        ("graphics", graphics_pictures),
        ("rounds", round_pictures),
        ("crashes", crash_pictures),
        ("access", access_picture),
        ("logs", system_logs_picture),
    ):
        if name in groups:
            with tempfile.TemporaryDirectory(prefix="thresher-pictures-") as folder:
                make(app, Path(folder))
    return 0


if __name__ == "__main__":
    sys.exit(main())
