"""The one window: band, rail, stations, footer, and the shortcuts."""

import sys
from pathlib import Path
from typing import Any

import msgspec
from PyQt6.QtCore import QEvent, QPointF, QProcess, QSettings, Qt, QUrl, pyqtSignal
from PyQt6.QtGui import QAction, QActionGroup, QCloseEvent, QColor, QDesktopServices, QKeySequence
from PyQt6.QtWidgets import (
    QApplication,
    QFileDialog,
    QHBoxLayout,
    QMenu,
    QMessageBox,
    QStackedWidget,
    QToolTip,
    QVBoxLayout,
    QWidget,
)

from thresher.decoding.anything import load_tables
from thresher.engine.jobs import JobCard
from thresher.engine.protocol import Incoming
from thresher.exchange.log_in import guess
from thresher.exchange.matching import recall
from thresher.loads.catalogue import CATALOGUE
from thresher.model.errors import EnvironmentFault, InputError
from thresher.model.findings import Finding
from thresher.report.tags import tags_of
from thresher.ui import theme
from thresher.ui.band import Band
from thresher.ui.footer import Footer
from thresher.ui.import_dialog import ImportDialog, look_into
from thresher.ui.lane_pictures import lanes_image, save_lanes
from thresher.ui.link import EngineLink
from thresher.ui.look import Look
from thresher.ui.parts.tags_sheet import write_tags
from thresher.ui.rail import STATIONS, Rail
from thresher.ui.small_strip import SmallStrip
from thresher.ui.state import BenchState
from thresher.ui.stations.bench import BenchStation
from thresher.ui.stations.coming import ComingStation
from thresher.ui.stations.evidence import EvidenceStation
from thresher.ui.stations.intake import IntakeStation
from thresher.ui.stations.parts import PartsStation

_INTAKE, _BENCH, _EVIDENCE, _PARTS = 0, 1, 2, 3


class _TakenIn(msgspec.Struct):
    """What taking in a log has told."""

    job_file: str
    findings: tuple[Finding, ...]


class MainWindow(QWidget):
    """Everything on screen. It decides nothing: it shows what the engine tells and passes on what is wanted.

    `job_wanted` carries the path of another job that is to be opened, and the name of its bench model or an empty one;
    `log_taken_in` the path of a job that a log from elsewhere has become.
    """

    job_wanted = pyqtSignal(str, str)
    log_taken_in = pyqtSignal(str)

    def __init__(
        self, state: BenchState, look: Look, link: EngineLink | None, settings: QSettings | None = None
    ) -> None:
        """`link` is None for a stored job, which can only be looked at. `settings` keeps what a person arranged."""
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
        self.stations = QStackedWidget(self)
        self.bench = BenchStation(state, look, self, settings)
        self.intake = IntakeStation(state, look, self)
        self.evidence = EvidenceStation(state, look, load_tables(), self)
        self.parts = PartsStation(state, look, self)
        built: dict[int, QWidget] = {
            _INTAKE: self.intake, _BENCH: self.bench, _EVIDENCE: self.evidence, _PARTS: self.parts,
        }  # fmt: skip
        for number, _name in enumerate(STATIONS):
            self.stations.addWidget(built.get(number) or ComingStation(number, state, look, self))
        self.footer = Footer(state, look, self)
        middle = QHBoxLayout()
        middle.setSpacing(0)
        middle.addWidget(self.rail)
        middle.addWidget(self.stations, 1)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.band)
        column.addLayout(middle, 1)
        column.addWidget(self.footer)
        self.strip = SmallStrip(state, look, self)
        self.strip.stop_wanted.connect(self.stop)
        self.log_taken_in.connect(lambda path: self.show_stored(Path(path)))
        self._make_actions()
        self.rail.chosen.connect(self.show_station)
        self.band.act_button.clicked.connect(self._act)
        self.intake.job_changed.connect(self._keep_job)
        self.intake.sheet_chosen.connect(self._choose_sheet)
        self.intake.sheet_kept.connect(lambda name: self._ask("sheet.keep", name=name))
        self.intake.readings.idle_wanted.connect(lambda: self._ask("baseline.take"))
        self.intake.readings.limit_wanted.connect(
            lambda channel, side, value, reason: self._ask(
                "limit.set", channel=channel, side=side, value=value, reason=reason
            )
        )
        self.intake.readings.trust_wanted.connect(
            lambda channel, believed, reason: self._ask("trust.set", channel=channel, believed=believed, reason=reason)
        )
        self.intake.shelf.wanted.connect(lambda parts: self._ask("shelf.set", parts=parts))
        self.intake.strip.opened.connect(self._open_job)
        self.intake.strip.wanted_new.connect(self.new_job)
        self.bench.map.picked.connect(self._show_story)
        self.evidence.evidence_wanted.connect(self._add_evidence)
        self.evidence.note_wanted.connect(lambda text: self._ask("evidence.note", text=text))
        self.evidence.take_back_wanted.connect(self.take_back)
        self.parts.trial_wanted.connect(self._begin_trial)
        self.parts.outcome_wanted.connect(
            lambda number, outcome: self._ask("book.outcome", trial=number, outcome=outcome)
        )
        self.parts.part_wanted.connect(lambda part: self._ask("book.part", **part))
        self.parts.undo_wanted.connect(lambda: self._ask("book.undo"))
        self.parts.runs_assigned.connect(lambda run, trial: self._ask("book.assign", run=run, trial=trial))
        self.parts.turned_out_wanted.connect(lambda answer: self._ask("job.close", **answer))
        self.parts.reopen_wanted.connect(lambda: self._ask("job.reopen"))
        self.parts.job_counts.connect(lambda job, counts: self._ask("closed.count", job=job, counts=counts))
        self.parts.questions.machine_is_right.connect(lambda: self._ask("book.as_seen"))
        self.parts.questions.book_is_right.connect(lambda: self._ask("book.stands"))
        self.parts.record.freeze_wanted.connect(self.freeze_verdict)
        self.parts.record.tags_wanted.connect(self.save_tags)
        state.refreshed.connect(self._retitle)
        state.machine_changed.connect(self.list_jobs)
        look.changed.connect(self._recolour)
        self.show_station(_BENCH)
        self._recolour()
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.setFocus()

    # ---- actions

    def _make_actions(self) -> None:
        menu = QMenu(self)
        self._add(menu, "Start the run sheet", ("Ctrl+Return", "Ctrl+Enter"), self.start)
        self._add(menu, "Stop, every worker ends", ("Esc",), self.stop)
        self._add(menu, "Open a run sheet…", ("Ctrl+O",), self.open_sheet)
        self._add(menu, "New job", ("Ctrl+N",), self.new_job)
        self._add(menu, "Look at a stored job…", ("Ctrl+Shift+O",), self.open_stored)
        self._add(menu, "Take in a log from elsewhere…", ("Ctrl+I",), self.take_in_log)
        self._add(menu, "Copy all parts as text", ("Ctrl+Shift+C",), self.copy_parts)
        menu.addSeparator()
        for number, name in enumerate(STATIONS):
            self._add(menu, name, (f"Ctrl+{number + 1}",), lambda _checked=False, n=number: self.show_station(n))
        menu.addSeparator()
        self._add(menu, "Copy the lanes as a picture", ("Ctrl+Shift+L",), self.copy_lanes)
        self._add(menu, "Save the lanes as PNG or SVG…", ("Ctrl+L",), self.save_lanes)
        self._add(menu, "Small strip on top of other windows", ("Ctrl+T",), self.toggle_strip)
        menu.addSeparator()
        self._add(menu, "Decode a log, a register, a code…", ("Ctrl+D",), self.decode)
        self._add(menu, "The shop's prices in an editor", ("Ctrl+P",), self.edit_prices)
        self._add(menu, "Read the shop's prices anew", ("Ctrl+Shift+P",), lambda: self._ask("prices.read"))
        self._add(menu, "Take back the evidence added last", ("Ctrl+Z",), self.take_back)
        self._add(menu, "Freeze the verdict as it stands", ("Ctrl+Shift+F",), self.freeze_verdict)
        self._add(menu, "Part tags as a PDF…", ("Ctrl+Shift+T",), self.save_tags)
        menu.addSeparator()
        self._add(menu, "Next finding", ("Ctrl+Right",), lambda: self.bench.lanes.go_to_finding(1))
        self._add(menu, "Finding before", ("Ctrl+Left",), lambda: self.bench.lanes.go_to_finding(-1))
        self._add(menu, "Whole run", ("Home",), self.bench.show_all)
        self._add(menu, "Last minute", ("End",), self.bench.show_last_minute)
        self._add(menu, "Zoom in", ("+", "="), lambda: self._zoom(1.4))
        self._add(menu, "Zoom out", ("-",), lambda: self._zoom(1 / 1.4))
        menu.addSeparator()
        self._add(menu, "What could not be read", ("Ctrl+U",), self.show_unread)
        schemes = QActionGroup(self)
        for name, scheme in (("Paper", theme.LIGHT), ("Night bench", theme.DARK), ("As the desktop", None)):
            action = self._add(menu, name, (), lambda _checked=False, s=scheme: self._choose_scheme(s))
            action.setCheckable(True)
            action.setChecked(scheme is None)
            schemes.addAction(action)
        menu.addSeparator()
        self._add(menu, "Close the window", ("Ctrl+Q",), self.close)
        self.band.menu_button.setMenu(menu)
        self._add(None, "Menu", ("F10",), self.band.menu_button.showMenu)

    def _add(self, menu: QMenu | None, text: str, keys: tuple[str, ...], slot: object) -> QAction:
        action = QAction(text, self)
        action.setShortcuts([QKeySequence(key) for key in keys])
        action.setShortcutContext(Qt.ShortcutContext.WindowShortcut)
        action.triggered.connect(slot)  # type: ignore[arg-type]  # PyQt6 takes any callable
        self.addAction(action)
        if menu is not None:
            menu.addAction(action)
        return action

    def _zoom(self, factor: float) -> None:
        axis = self.bench.axis
        axis.zoom(factor, min(max(self.state.now, axis.begin), axis.end))

    def _act(self) -> None:
        if self.state.active:
            self.stop()
        else:
            self.start()

    def start(self) -> None:
        """Ask the engine to start the sheet on the bench."""
        if self._link is not None and not self.state.active:
            self.state.say_trouble("")
            self._link.call("run.start")

    def stop(self) -> None:
        """Ask the engine to stop at once, and show how many workers have ended."""
        if self._link is not None and self.state.active:
            self._link.call("run.stop", self._on_stopped)

    def _on_stopped(self, answer: Incoming) -> None:
        self.state.say_trouble("")
        self.setAccessibleDescription(f"Stopped: {bytes(answer.result).decode()}")

    def open_sheet(self) -> None:
        """Let a person choose a run sheet and put it on the bench."""
        if self._link is None:
            return
        folder = str(Path(__file__).parent.parent / "sheets")
        name, _ = QFileDialog.getOpenFileName(self, "Open a run sheet", folder, "Run sheets (*.toml)")
        if name:
            self.put_sheet(Path(name))

    def put_sheet(self, path: Path) -> None:
        """Put a run sheet file on the bench; what is wrong with it is said in the engine's words."""
        try:
            text = path.read_text(encoding="utf-8")
        except (OSError, UnicodeDecodeError) as error:
            self.say(f"{path} cannot be read: {error}")
            return
        if self._link is not None:
            self._link.call("sheet.put", toml=text, name=path.name)

    def _ask(self, method: str, **params: Any) -> None:
        """Ask the engine for something whose effect comes back as an event."""
        if self._link is not None:
            self._link.call(method, None, **params)

    def _add_evidence(self, findings: tuple[Finding, ...], known: dict[str, Any]) -> None:
        if self._link is None:
            self.say("A stored job can only be looked at; open it on the bench to add evidence.")
            return
        self._link.call("evidence.add", lambda _answer: self.evidence.show_page(0), findings=findings, **known)

    def freeze_verdict(self) -> None:
        """Keep the verdict as it stands with its date."""
        if self._link is None:
            self.say("A stored job can only be looked at; open it on the bench to freeze its verdict.")
            return
        self._ask("verdict.freeze")

    def save_tags(self) -> None:
        """Ask for a file and write the part tags."""
        suggested = str(Path.home() / f"tags-{self.state.job.get('number') or 'job'}.pdf")
        name, _ = QFileDialog.getSaveFileName(self, "Part tags as a PDF", suggested, "PDF (*.pdf)")
        if name and self.write_tags(Path(name)):
            QDesktopServices.openUrl(QUrl.fromLocalFile(name))

    def write_tags(self, path: Path) -> bool:
        """Write the part tags and return whether that went well; what goes wrong is said."""
        state, job = self.state, self.state.job
        statuses = state.verdict.statuses if state.verdict is not None else {}
        head = ", ".join(filter(None, (job.get("number", ""), job.get("machine", "")))) or "this job"
        try:
            pages = write_tags(tags_of(state.book, statuses, job.get("machine", "")), head, path)
        except EnvironmentFault as error:
            self.say(str(error))
            return False
        self.say(f"{path}, {pages} page{'s' if pages > 1 else ''}")
        return True

    def edit_prices(self) -> None:
        """Open the shop's price list in an editor, begun with the defaults."""
        if self._link is not None:
            self._link.call("prices.edit", self._on_prices)

    def _on_prices(self, answer: Incoming) -> None:
        path = msgspec.json.decode(answer.result, type=str)
        QDesktopServices.openUrl(QUrl.fromLocalFile(path))
        self.state.say_trouble(f"{path}; when it is changed, Ctrl+Shift+P reads it anew")

    def _begin_trial(self, title: str, fit: object, load: str, minutes: float, kept: bool) -> None:
        """Begin a trial; a proposed one brings the sheet of its load onto the bench."""
        if self._link is None:
            self.say("A stored job can only be looked at; open it on the bench to go on with its trials.")
            return

        def on_begun(_answer: Incoming) -> None:
            if load in CATALOGUE and self._link is not None:
                self._link.call("sheet.trial", None, load=load, minutes=minutes, title=title)

        self._link.call("book.trial", on_begun, title=title, fit=fit, kept=kept)

    def take_back(self) -> None:
        """Take back the evidence that was added last."""
        self._ask("evidence.take_back")

    def decode(self) -> None:
        """Go to the Evidence and wait for something to be decoded."""
        self.show_station(_EVIDENCE)
        self.evidence.pane.field.setFocus()
        self.evidence.pane.field.selectAll()

    def list_jobs(self) -> None:
        """Show the jobs on the bench as they are now."""
        if self._link is not None and self._link.standing:
            self._link.call("jobs.list", self._on_jobs)

    def _on_jobs(self, answer: Incoming) -> None:
        self.intake.strip.set_cards(msgspec.json.decode(answer.result, type=tuple[JobCard, ...]))

    def new_job(self) -> None:
        """Make a new job for the machine on the bench and go to its Intake."""
        if self._link is None:
            return
        self.intake.flush()
        self._link.call("jobs.new", self._on_new_job)

    def _on_new_job(self, answer: Incoming) -> None:
        path = msgspec.json.decode(answer.result, type=str)
        self.show_station(_INTAKE)
        self.job_wanted.emit(path, self.state.job.get("model", ""))

    def _open_job(self, card: JobCard) -> None:
        if self.state.active:
            self.say("A run goes on. Stop it first, or wait for its end; then another job can be opened.")
            return
        self.intake.flush()
        self.job_wanted.emit(card.path, card.model)

    def _keep_job(self, fields: dict[str, str]) -> None:
        if self._link is not None and self._link.standing:
            self._link.call("job.set", fields=fields)

    def _choose_sheet(self, name: str) -> None:
        """Put a proposed sheet on the bench and go there."""
        if self._link is not None:
            self._link.call("sheet.choose", lambda _answer: self.show_station(_BENCH), name=name)

    def show_unread(self) -> None:
        """List the sources that could not be read, and why."""
        unknown = self.state.snapshot.unknown if self.state.snapshot else ()
        lines = [f"{fact.name}: {fact.value}\n    {fact.source}" for fact in unknown]
        self._box("What could not be read", "\n\n".join(lines) or "Everything that this machine offers was read.")

    def open_stored(self) -> None:
        """Let a person choose a job file, and show it in a window of its own."""
        name, _ = QFileDialog.getOpenFileName(self, "Look at a stored job", "", "Job files (*.thresher)")
        if name:
            self.show_stored(Path(name))

    def show_stored(self, path: Path) -> None:
        """Show a job file in a window of its own; this one goes on."""
        started, _ = QProcess.startDetached(sys.executable, ["-m", "thresher.ui", "--stored", str(path)])
        if not started:
            self.say(f"The window for {path} could not be started.")

    def take_in_log(self) -> None:
        """Let a person choose a CSV log and match its columns."""
        name, _ = QFileDialog.getOpenFileName(self, "Take in a log from elsewhere", "", "Logs (*.csv *.txt *.tsv)")
        if name:
            self.match_log(Path(name))

    def match_log(self, path: Path) -> ImportDialog | None:
        """Show what the columns of a log may be taken for; accepted, it is taken in beside this window."""
        try:
            log = look_into(path)
            from thresher.bootstrap import bench_folder  # the engine's wiring is slow to load and needed only here

            columns = recall(bench_folder(simulated=False) / "shop", log) or guess(log)
        except InputError as error:
            self.say(str(error))
            return None
        dialog = ImportDialog(log, columns, self)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.accepted.connect(lambda: self.import_log(path, dialog.changes()))
        dialog.open()
        return dialog

    def import_log(self, path: Path, changes: list[str]) -> None:
        """Take a log in by a process of its own, and show the job that comes of it."""
        words = [word for change in changes for word in ("--column", change)]
        process = QProcess(self)
        self.state.say_trouble(f"Taking in {path.name}")

        def on_finished(code: int) -> None:
            told = bytes(process.readAllStandardOutput().data()).decode("utf-8", "replace")
            process.deleteLater()
            if code not in (0, 1):
                error = bytes(process.readAllStandardError().data()).decode("utf-8", "replace")
                self.say(error.strip() or "The log could not be taken in.")
                return
            found = msgspec.json.decode(told, type=_TakenIn)
            plural = "" if len(found.findings) == 1 else "s"
            self.state.say_trouble(f"{path.name} is a job now, {len(found.findings)} finding{plural}")
            self.log_taken_in.emit(found.job_file)

        process.finished.connect(on_finished)
        process.start(sys.executable, ["-m", "thresher.cli", "import", str(path), "--json", *words])

    def copy_lanes(self) -> None:
        """Put the lanes as they stand on the clipboard as a picture."""
        clipboard = QApplication.clipboard()
        if clipboard is not None:
            clipboard.setImage(lanes_image(self.bench.lanes))
            self.state.say_trouble("The lanes are on the clipboard.")

    def save_lanes(self) -> None:
        """Let a person choose a file for the lanes as they stand."""
        name, _ = QFileDialog.getSaveFileName(self, "Save the lanes", "lanes.png", "Pictures (*.png *.svg)")
        if name:
            try:
                save_lanes(self.bench.lanes, Path(name))
            except (EnvironmentFault, InputError) as error:
                self.say(str(error))

    def toggle_strip(self) -> None:
        """Show or hide the small strip that stays on top when another program has the screen."""
        self.strip.setVisible(not self.strip.isVisible())

    def copy_parts(self) -> None:
        """Put all that is known of the machine's parts on the clipboard."""
        clipboard = QApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(self.intake.parts.copied(""))
            self.state.say_trouble("All parts are on the clipboard.")

    def say(self, text: str) -> None:
        """Show a message that must be seen: in the footer, and whole in a box that does not hold anything up."""
        self.state.say_trouble(text)
        if "\n" in text:
            self._box("This did not work", text)

    def _box(self, title: str, text: str) -> None:
        box = QMessageBox(self)
        box.setObjectName("message_box")
        box.setWindowTitle(title)
        box.setText(text)
        box.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        box.open()

    def _show_story(self, story: str) -> None:
        at = self.bench.map.mapToGlobal(QPointF(self.bench.map.width() + 4, 40))
        QToolTip.showText(at.toPoint(), story, self.bench.map)

    def changeEvent(self, event: QEvent | None) -> None:
        """Coming back to the window, read the shop's own sheets anew: one may have been changed in an editor."""
        super().changeEvent(event)
        if event is not None and event.type() is QEvent.Type.ActivationChange and self.isActiveWindow():
            if self._link is not None and self._link.standing:
                self._link.call("sheets.read")
            self.list_jobs()

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
        ending = f", {found} findings" if found else ""
        title = f"Thresher: {name}, {self.state.run.state}{ending}"
        if title != self.windowTitle():
            self.setWindowTitle(title)

    def _choose_scheme(self, scheme: theme.Scheme | None) -> None:
        self._look.choose(scheme or theme.desktop_scheme())

    def _recolour(self) -> None:
        app = QApplication.instance()
        if isinstance(app, QApplication):
            theme.apply(app, self._look.scheme)
        palette = self.palette()
        palette.setColor(self.backgroundRole(), QColor(self._look.scheme.paper))
        self.setPalette(palette)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """Close the window; an engine with no run goes too, one with a run goes on and can be come back to."""
        self.intake.flush()
        self.evidence.pane.leave()
        self.strip.hide()
        if self._link is not None:
            if self._link.standing:
                self._link.call("engine.leave")
            self._link.finish()
        super().closeEvent(event)
