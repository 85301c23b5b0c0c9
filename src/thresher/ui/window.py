"""The one window: band, rail, stations, footer. Menu and keys are in `actions`, what is asked of the engine in
`requests`, what has to do with files in `file_actions`, with run sheets in `sheet_actions`.
"""

from collections.abc import Callable
from pathlib import Path

import msgspec
from PyQt6.QtCore import QEvent, QPointF, QSettings, Qt, pyqtSignal
from PyQt6.QtGui import QCloseEvent, QColor
from PyQt6.QtWidgets import (
    QApplication,
    QHBoxLayout,
    QMessageBox,
    QStackedWidget,
    QToolTip,
    QVBoxLayout,
    QWidget,
)

from thresher.app.user_bus import BusManager, unit_folder
from thresher.decoding.recognise import load_tables
from thresher.model.channels import LimitSide
from thresher.model.questions import LEFT, Answer
from thresher.protocol.commands import (
    AddNote,
    AddOutcome,
    AnswerEnding,
    AnswerQuestion,
    AssignRun,
    Attend,
    BeginBaseline,
    FollowMachine,
    GetMoments,
    GoOnNow,
    KeepSheet,
    KeepTrials,
    LeaveEngine,
    ReopenJob,
    ReportArtefact,
    SetCounted,
    SetLimit,
    SetRoom,
    SetShelf,
    SetTrust,
    StartScan,
    StopGoingOn,
    StopScan,
    UndoTrial,
)
from thresher.protocol.intake import JobCard
from thresher.ui import theme
from thresher.ui.access_dialog import AccessDialog
from thresher.ui.actions import MenuItem, add_action, make_menu
from thresher.ui.band import Band
from thresher.ui.file_actions import FileActions
from thresher.ui.find_dialog import FindDialog
from thresher.ui.footer import Footer
from thresher.ui.going_on_view import GoingOnView
from thresher.ui.link import EngineLink
from thresher.ui.look import Look
from thresher.ui.questions.view import QuestionView
from thresher.ui.rail import STATIONS, Rail
from thresher.ui.requests import EngineRequests
from thresher.ui.schedule_dialog import ScheduleDialog
from thresher.ui.sheet_actions import SheetActions
from thresher.ui.small_strip import SmallStrip
from thresher.ui.state import BenchState
from thresher.ui.stations.bench.frames_card import cards_of_run
from thresher.ui.stations.bench.scene_window import SceneWindow
from thresher.ui.stations.bench.station import BenchStation
from thresher.ui.stations.compare.station import CompareStation
from thresher.ui.stations.evidence.station import EvidenceStation
from thresher.ui.stations.handover.station import HandoverStation
from thresher.ui.stations.intake.station import IntakeStation
from thresher.ui.stations.parts.station import PartsStation
from thresher.ui.stick.banner import add_memory_banner

_INTAKE, _BENCH = range(2)


class MainWindow(QWidget):
    """Everything on screen. It decides nothing: it shows what the engine reports and passes on what is wanted.

    `job_wanted` carries the path of another job that is to be opened, and the name of its scenario or an empty one.
    """

    job_wanted = pyqtSignal(str, str)

    def __init__(
        self, state: BenchState, look: Look, link: EngineLink | None, settings: QSettings | None = None
    ) -> None:
        """`link` is None for a stored job, which is read only. `settings` keeps what a person arranged."""
        super().__init__()
        self.state = state
        self._look = look
        self._link = link
        self.setWindowTitle("Thresher")
        self.setObjectName("main_window")
        self.resize(1280, 800)
        self.setMinimumSize(1024, 700)
        self.band = Band(state, look, self)
        self.rail = Rail(state, look, self)
        self.bench = BenchStation(state, look, self, settings)
        self.intake = IntakeStation(state, look, self)
        self.evidence = EvidenceStation(state, look, load_tables(), self)
        self.parts = PartsStation(state, look, self)
        self.compare = CompareStation(state, look, self)
        self.handover = HandoverStation(state, look, self)
        self.stations = self._make_stations()
        self.footer = Footer(state, look, self)
        self.footer.access_clicked.connect(self._on_access_clicked)
        self.strip = SmallStrip(state, look, self)
        self.scene = SceneWindow(state, look, self)
        self.question = QuestionView(state, look, self)
        self.going_on = GoingOnView(state, look, self)
        self.requests = EngineRequests(state, link, self)
        self.files = FileActions(state, self.requests, self.bench.lanes, self, self)
        self.sheets = SheetActions(state, self.requests, self.bench, self, lambda: self.show_station(_BENCH), self)
        self._lay_out()
        self.band.menu_button.setMenu(make_menu(self))
        add_action(self, None, MenuItem("Menu", ("F10",), self.band.menu_button.showMenu))
        self._connect_frame()
        self._connect_bench()
        self._connect_intake()
        self._connect_evidence()
        self._connect_parts()
        self._connect_compare()
        self._connect_handover()
        self.show_station(_BENCH)
        self._recolour()
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.setFocus()

    def _make_stations(self) -> QStackedWidget:
        stations = QStackedWidget(self)
        for station in (self.intake, self.bench, self.evidence, self.parts, self.compare, self.handover):
            stations.addWidget(station)
        assert stations.count() == len(STATIONS)
        return stations

    def _lay_out(self) -> None:
        middle = QHBoxLayout()
        middle.setSpacing(0)
        middle.addWidget(self.rail)
        middle.addWidget(self.stations, 1)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.band)
        column.addLayout(middle, 1)
        add_memory_banner(self, column, self._look)
        column.addWidget(self.footer)

    # ---- what the stations want

    def _connect_frame(self) -> None:
        self.strip.stop_wanted.connect(self.stop)
        self.rail.chosen.connect(self.show_station)
        self.band.act_button.clicked.connect(self._act)
        self.bench.map.picked.connect(self._show_about)
        self.state.refreshed.connect(self._retitle)
        self.state.machine_changed.connect(self.list_jobs)
        self._look.changed.connect(self._recolour)

    def _connect_bench(self) -> None:
        bench, requests = self.bench, self.requests
        bench.bar.change_wanted.connect(requests.send)
        bench.picker.scan_wanted.connect(self._scan)
        bench.drum.stop_wanted.connect(lambda: requests.send(StopScan()))
        bench.drum.drum.region_wanted.connect(
            lambda drive, begin, end: self._ask_if_dying(drive, StartScan(drive, begin=begin, end=end))
        )
        bench.drum.go_on_wanted.connect(lambda drive: requests.send(StartScan(drive, go_on=True, anyway=True)))
        bench.right.frames.scene_wanted.connect(self.scene.watch)
        self.scene.seen.connect(lambda card, seen: requests.send(ReportArtefact(card, seen)))
        self.scene.stop_wanted.connect(self.stop)
        ending = bench.ending
        ending.seen.connect(lambda number, seen: requests.send(AnswerEnding(number, seen)))
        ending.moments_wanted.connect(
            lambda number: requests.send_if_connected(GetMoments(number), ending.take_moments)
        )
        self.going_on.stopped.connect(lambda: requests.send(StopGoingOn()))
        self.going_on.hurried.connect(lambda: requests.send(GoOnNow()))
        self.question.answered.connect(self._answer)
        self.question.left.connect(lambda number: self._answer(number, LEFT))
        self.state.machine_changed.connect(lambda: requests.send_if_connected(Attend(attended=True)))
        bench.sheets.command_wanted.connect(requests.send)
        bench.sheets.import_wanted.connect(self.files.open_sheet)
        bench.sheets.export_wanted.connect(lambda: self.files.export_sheet(bench.editor.draft.sheet()))

    def _answer(self, number: int, answer: Answer) -> None:
        self.requests.send(AnswerQuestion(number, answer))

    def show_scene(self) -> None:
        """Show the scene of the first card that draws one."""
        drawing = [card.card for card in cards_of_run(self.state) if card.mirror]
        if drawing:
            self.scene.watch(drawing[0])
        else:
            self.say("No card draws a scene now: put a raster load on the sheet and start the run.")

    def _scan(self, quick: bool) -> None:
        """Read the picked drive; a dying one only after a question."""
        drive = self.bench.picked_drive()
        if not drive:
            self.say("Pick one drive to be read.")
            return
        self._ask_if_dying(drive, StartScan(drive, quick))

    def _ask_if_dying(self, drive: str, command: StartScan) -> None:
        """Start a scan; on a dying drive only after a question."""
        parts = self.state.snapshot.machine.parts if self.state.snapshot is not None else ()
        facts = [fact for part in parts if part.place == drive for fact in part.facts]
        health = next((fact.value for fact in facts if fact.name == "health"), "")
        if health in ("copy the data off now", "replace"):
            self.ask(
                f"{drive} is dying ({health}). A long scan may be the end of it: copy the data off first.",
                "Scan all the same",
                lambda: self.requests.send(msgspec.structs.replace(command, anyway=True)),
            )
            return
        self.requests.send(command)

    def _connect_intake(self) -> None:
        send, intake = self.requests.send, self.intake
        intake.job_changed.connect(self.requests.keep_job)
        intake.sheet_chosen.connect(lambda name: self.requests.choose_sheet(name, lambda: self.show_station(_BENCH)))
        intake.sheet_kept.connect(lambda name: send(KeepSheet(name)))
        intake.readings.idle_wanted.connect(lambda: send(BeginBaseline()))
        intake.readings.limit_wanted.connect(
            lambda channel, side, value, reason: send(SetLimit(channel, LimitSide(side), value, reason))
        )
        intake.readings.trust_wanted.connect(lambda channel, trusted, reason: send(SetTrust(channel, trusted, reason)))
        intake.shelf.wanted.connect(lambda parts: send(SetShelf(tuple(parts))))
        intake.strip.opened.connect(self._open_job)
        intake.strip.wanted_new.connect(self.new_job)

    def _connect_evidence(self) -> None:
        evidence = self.evidence
        evidence.evidence_wanted.connect(
            lambda command: self.requests.add_evidence(command, lambda: evidence.show_page(0))
        )
        evidence.note_wanted.connect(lambda text: self.requests.send(AddNote(text)))
        evidence.undo_wanted.connect(self.requests.undo_evidence)

    def _connect_parts(self) -> None:
        send, parts = self.requests.send, self.parts
        parts.trial_wanted.connect(self.requests.begin_trial)
        parts.outcome_wanted.connect(lambda number, outcome: send(AddOutcome(number, outcome)))
        parts.part_wanted.connect(send)
        parts.undo_wanted.connect(lambda: send(UndoTrial()))
        parts.runs_assigned.connect(lambda run, trial: send(AssignRun(run, trial)))
        parts.actual_cause_wanted.connect(send)
        parts.reopen_wanted.connect(lambda: send(ReopenJob()))
        parts.job_counts.connect(lambda job, counted: send(SetCounted(job, counted)))
        parts.questions.machine_is_right.connect(lambda: send(FollowMachine()))
        parts.questions.book_is_right.connect(lambda: send(KeepTrials()))
        parts.record.lock_wanted.connect(self.requests.lock_verdict)
        parts.record.tags_wanted.connect(self.files.save_tags)

    def _connect_compare(self) -> None:
        send, compare = self.requests.send, self.compare
        compare.room_wanted.connect(lambda run, celsius: send(SetRoom(run, celsius)))
        compare.note_wanted.connect(lambda text: send(AddNote(text), lambda _entry: self.say("Added to the report.")))
        compare.trouble.connect(self.say)
        compare.proof_wanted.connect(self.sheets.put_proof)

    def _connect_handover(self) -> None:
        handover = self.handover
        handover.text_wanted.connect(lambda name, text: self.requests.keep_job({name: text}))
        handover.seal_wanted.connect(self.files.keep_seal)
        handover.cause_wanted.connect(self.parts.ask_actual_cause)
        handover.visit_wanted.connect(lambda path: self.files.show_stored(Path(path)))
        handover.said.connect(self.say)
        handover.done.connect(self.state.say_done)

    # ---- actions

    def _act(self) -> None:
        if self.state.active:
            self.stop()
        else:
            self.start()

    def start(self) -> None:
        """Ask the engine to start the sheet on the bench, as it was edited."""
        editor = self.bench.editor
        if not editor.composing:
            self.requests.start()
            return
        own = editor.file.name if editor.file is not None and editor.file.own else ""
        self.requests.start(editor.draft.sheet(), own)

    def undo(self) -> None:
        """Undo the last edit of the run sheet on the Bench, elsewhere the last evidence."""
        if self.stations.currentIndex() == _BENCH and self.bench.editor.composing:
            self.bench.editor.undo()
        else:
            self.requests.undo_evidence()

    def redo(self) -> None:
        """Carry out again the edit of the run sheet that was undone last."""
        if self.bench.editor.composing:
            self.bench.editor.redo()

    def stop(self) -> None:
        """Ask the engine to stop at once, and show how many workers have ended."""
        self.requests.stop(self._on_stopped)

    def _on_stopped(self, sentence: str) -> None:
        self.state.say_trouble("")
        self.setAccessibleDescription(f"Stopped: {sentence}")

    def decode(self) -> None:
        """Go to the Evidence and wait for something to be decoded."""
        self.show_station(STATIONS.index("Evidence"))
        self.evidence.pane.field.setFocus()
        self.evidence.pane.field.selectAll()

    def save_report(self) -> None:
        """Go to the report and let a person choose a file for it."""
        self.show_station(STATIONS.index("Hand over"))
        self.handover.ask_report()

    def print_report(self) -> None:
        """Go to the report and print it."""
        self.show_station(STATIONS.index("Hand over"))
        self.handover.ask_print()

    def find_job(self) -> FindDialog:
        """Find a job of the bench while typing."""
        snapshot = self.state.snapshot
        job = Path(snapshot.job_file) if snapshot is not None else Path()
        dialog = FindDialog(job.parent, Path(self.handover.shop or job.parent), self._look, self)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.wanted.connect(lambda path: self.files.show_stored(Path(path)))
        dialog.open()
        return dialog

    def list_jobs(self) -> None:
        """Show the jobs on the bench as they are now."""
        self.requests.list_jobs(self.intake.strip.set_cards)

    def show_schedule(self) -> None:
        """Show and change the rounds that run at chosen times on this computer."""
        dialog = ScheduleDialog(self._look, Path(unit_folder()), BusManager(), self)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()

    def new_job(self) -> None:
        """Make a new job for the machine on the bench and go to its Intake."""
        self.intake.flush()
        self.requests.new_job(self._on_new_job)

    def _on_new_job(self, path: str) -> None:
        self.show_station(_INTAKE)
        self.job_wanted.emit(path, self.state.job.get("model", ""))

    def _open_job(self, card: JobCard) -> None:
        if self.state.active:
            self.say("A run is in progress. Stop it first, or wait for its end, then open the other job.")
            return
        self.intake.flush()
        self.job_wanted.emit(card.path, card.model)

    def show_unread(self) -> None:
        """List the sources that could not be read, and why."""
        unknown = self.state.snapshot.unknown if self.state.snapshot else ()
        lines = [f"{fact.name}: {fact.value}\n    {fact.source}" for fact in unknown]
        self._box("Sources that could not be read", "\n\n".join(lines) or "Every source of this machine was read.")

    def show_system_logs(self) -> None:
        """Read the logs of the installed system, and add evidence from them."""
        self.show_station(STATIONS.index("Evidence"))
        self.evidence.ask_system_logs()

    def show_access(self) -> None:
        """Show what the program may do here, what is missing, and what would give it."""
        dialog = AccessDialog(self.state.access.access, self.requests.ask_access, self._look.scheme, self)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()

    def _on_access_clicked(self) -> None:
        """One click asks for what is missing; where nothing can be asked for it is shown."""
        if self.state.access.access.can_ask and not self.requests.stored:
            self.requests.ask_access()
        else:
            self.show_access()

    def toggle_strip(self) -> None:
        """Show or hide the small strip that stays on top of other programs."""
        self.strip.setVisible(not self.strip.isVisible())

    def copy_parts(self) -> None:
        """Put all that is known of the machine's parts on the clipboard."""
        clipboard = QApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(self.intake.parts.copied(""))
            self.state.say_trouble("All parts copied to the clipboard")

    def zoom(self, factor: float) -> None:
        """Zoom the time axis around now."""
        axis = self.bench.run_sheet.axis
        axis.zoom(factor, min(max(self.state.now, axis.begin), axis.end))

    def say(self, text: str) -> None:
        """Show a message that must be seen: in the footer, and whole in a box that does not hold anything up."""
        self.state.say_trouble(text)
        if "\n" in text:
            self._box("Error", text)

    def ask(self, question: str, action: str, accepted: Callable[[], None]) -> None:
        """Ask before something is done; nothing waits for the answer, and Esc means no."""
        box = self._make_box("Before it starts", question)
        yes = box.addButton(action, QMessageBox.ButtonRole.AcceptRole)
        box.addButton(QMessageBox.StandardButton.Cancel)
        if yes is not None:
            yes.clicked.connect(accepted)
        box.open()

    def _box(self, title: str, text: str) -> None:
        self._make_box(title, text).open()

    def _make_box(self, title: str, text: str) -> QMessageBox:
        box = QMessageBox(self)
        box.setObjectName("message_box")
        box.setWindowTitle(title)
        box.setText(text)
        box.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        return box

    def _show_about(self, about: str) -> None:
        at = self.bench.map.mapToGlobal(QPointF(self.bench.map.width() + 4, 40))
        QToolTip.showText(at.toPoint(), about, self.bench.map)

    # ---- showing

    def show_station(self, number: int) -> None:
        """Go to a station."""
        self.stations.setCurrentIndex(number)
        self.rail.show_station(number)
        if number == _INTAKE:
            self.list_jobs()

    def _retitle(self) -> None:
        snapshot = self.state.snapshot
        name = (self.state.job.get("machine") or snapshot.machine.name) if snapshot else "starting"
        found = len(self.state.run_findings())
        ending = f", {found} finding{'' if found == 1 else 's'}" if found else ""
        title = f"Thresher: {name}, {self.state.run.state}{ending}"
        if title != self.windowTitle():
            self.setWindowTitle(title)

    def choose_scheme(self, scheme: theme.Scheme | None) -> None:
        """Use a colour scheme, or that of the desktop."""
        self._look.choose(scheme or theme.desktop_scheme())

    def _recolour(self) -> None:
        app = QApplication.instance()
        if isinstance(app, QApplication):
            theme.apply(app, self._look.scheme)
        palette = self.palette()
        palette.setColor(self.backgroundRole(), QColor(self._look.scheme.paper))
        self.setPalette(palette)

    def changeEvent(self, event: QEvent | None) -> None:
        """Coming back to the window, reload the shop's own sheets: one may have been changed in an editor."""
        super().changeEvent(event)
        if event is not None and event.type() is QEvent.Type.ActivationChange and self.isActiveWindow():
            self.requests.reload_sheets()
            self.list_jobs()

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """Close the window; an engine with no run ends too, one with a run continues and can be opened again."""
        self.intake.flush()
        self.evidence.pane.leave()
        self.strip.hide()
        if self._link is not None:
            self.requests.send_if_connected(LeaveEngine())
            self._link.finish()
        super().closeEvent(event)
