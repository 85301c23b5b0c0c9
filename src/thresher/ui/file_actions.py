"""What the window does with files: run sheets, stored jobs, logs to import, pictures of the lanes, part tags."""

from pathlib import Path

import msgspec
from PyQt6.QtCore import QObject, QProcess, Qt, QUrl, pyqtSignal
from PyQt6.QtGui import QDesktopServices
from PyQt6.QtWidgets import QApplication, QFileDialog, QWidget

from thresher.compose.sheet_text import sheet_text
from thresher.importers.column_matching import recall
from thresher.importers.csv_log import ColumnMatch, ForeignLog, guess
from thresher.model.errors import EnvironmentFault, InputError
from thresher.model.findings import Finding
from thresher.model.own_program import own_command
from thresher.model.regular_file import read_text_file
from thresher.model.sheet import RunSheet
from thresher.model.whole_file import write_whole
from thresher.protocol.commands import KeepSeal
from thresher.report.tags import tags_of
from thresher.seal.seal import NewSeal
from thresher.sheets import SHIPPED_SHEETS
from thresher.ui.background import in_background
from thresher.ui.import_dialog import ImportDialog, look_into
from thresher.ui.requests import EngineRequests, Screen
from thresher.ui.state import BenchState
from thresher.ui.stations.bench.lane_pictures import lanes_image, save_lanes
from thresher.ui.stations.bench.lanes_view import LanesView
from thresher.ui.stations.parts.tags_sheet import write_tags


class _ImportedLog(msgspec.Struct):
    """What importing a log has reported."""

    job_file: str
    findings: tuple[Finding, ...]


def _columns_of(path: Path) -> tuple[ForeignLog, tuple[ColumnMatch, ...]]:
    from thresher.app.paths import bench_folder  # slow to load, and needed only here

    log = look_into(path)
    return log, recall(bench_folder(simulated=False) / "shop", log) or guess(log)


class FileActions(QObject):
    """Asks for files and does what they are for. `log_imported` carries the path of the job that a log has
    become, `columns_asked` the dialog about its columns."""

    log_imported = pyqtSignal(str)
    columns_asked = pyqtSignal(ImportDialog)

    def __init__(
        self, state: BenchState, requests: EngineRequests, lanes: LanesView, screen: Screen, window: QWidget
    ) -> None:
        """Dialogs belong to `window`."""
        super().__init__(window)
        self._state = state
        self._requests = requests
        self._lanes = lanes
        self._screen = screen
        self._window = window
        self.log_imported.connect(lambda path: self.show_stored(Path(path)))

    def open_sheet(self) -> None:
        """Let a person choose a run sheet and put it on the bench."""
        if self._requests.stored:
            return
        name, _ = QFileDialog.getOpenFileName(
            self._window, "Open run sheet", str(SHIPPED_SHEETS), "Run sheets (*.toml)"
        )
        if name:
            self.put_sheet(Path(name))

    def export_sheet(self, sheet: RunSheet) -> None:
        """Write a run sheet into a file that a person chooses."""
        name, _ = QFileDialog.getSaveFileName(
            self._window, "Export run sheet", f"{sheet.title}.toml".replace("/", "-"), "Run sheets (*.toml)"
        )
        if name:
            self.write_sheet(sheet, Path(name))

    def write_sheet(self, sheet: RunSheet, path: Path) -> None:
        """Write a run sheet into a file."""
        in_background(
            self,
            lambda: write_whole(path, sheet_text(sheet).encode("utf-8"), 0o644),
            lambda _written: self._screen.say(f"Run sheet written: {path}"),
            lambda error: self._screen.say(f"Cannot write {path}: {error}"),
        )

    def put_sheet(self, path: Path) -> None:
        """Put a run sheet file on the bench."""
        in_background(
            self,
            lambda: read_text_file(path),
            lambda text: self._requests.put_sheet(text, path.name),
            lambda error: self._screen.say(f"Cannot read the run sheet: {error}"),
        )

    def open_stored(self) -> None:
        """Let a person choose a job file, and show it in a window of its own."""
        name, _ = QFileDialog.getOpenFileName(self._window, "Open stored job", "", "Job files (*.thresher)")
        if name:
            self.show_stored(Path(name))

    def show_stored(self, path: Path) -> None:
        """Show a job file in a window of its own; this one continues."""
        program, *arguments = own_command("thresher.ui", "--stored", str(path))
        started, _ = QProcess.startDetached(program, arguments)
        if not started:
            self._screen.say(f"Could not start the window for {path}.")

    def choose_log(self) -> None:
        """Let a person choose a CSV log and match its columns."""
        name, _ = QFileDialog.getOpenFileName(self._window, "Import log", "", "Logs (*.csv *.txt *.tsv)")
        if name:
            self.match_log(Path(name))

    def match_log(self, path: Path) -> None:
        """Show what the columns of a log may hold; when that is accepted, import it beside this window."""
        in_background(
            self,
            lambda: _columns_of(path),
            lambda found: self._ask_columns(path, *found),
            lambda error: self._screen.say(str(error)),
        )

    def _ask_columns(self, path: Path, log: ForeignLog, columns: tuple[ColumnMatch, ...]) -> None:
        dialog = ImportDialog(log, columns, self._window)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.accepted.connect(lambda: self.import_log(path, dialog.changes()))
        dialog.open()
        self.columns_asked.emit(dialog)

    def import_log(self, path: Path, changes: list[str]) -> None:
        """Import a log by a process of its own, and show the job that it becomes."""
        words = [word for change in changes for word in ("--column", change)]
        process = QProcess(self)
        self._state.say_trouble(f"Importing {path.name}")

        def on_finished(code: int) -> None:
            printed = bytes(process.readAllStandardOutput().data()).decode("utf-8", "replace")
            process.deleteLater()
            if code not in (0, 1):
                error = bytes(process.readAllStandardError().data()).decode("utf-8", "replace")
                self._screen.say(error.strip() or "The log could not be imported.")
                return
            found = msgspec.json.decode(printed, type=_ImportedLog)
            plural = "" if len(found.findings) == 1 else "s"
            self._state.say_trouble(f"Imported {path.name}: {len(found.findings)} finding{plural}")
            self.log_imported.emit(found.job_file)

        process.finished.connect(on_finished)
        program, *arguments = own_command("thresher.cli", "import", str(path), "--json", *words)
        process.start(program, arguments)

    def keep_seal(self, new: NewSeal) -> None:
        """Keep the seal of a report with its job: the engine does where there is one."""
        if not self._requests.stored:
            self._requests.send(KeepSeal(new))
            return
        from thresher.app.handing_over import keep_seal  # slow to load, and needed only here

        path = Path(self._state.snapshot.job_file) if self._state.snapshot is not None else Path()
        in_background(
            self,
            lambda: keep_seal(path, new),
            lambda trouble: self._screen.say(f"The job does not hold this seal: {trouble}") if trouble else None,
            lambda error: self._screen.say(f"The job does not hold this seal: {error}"),
        )

    def back_up(self) -> None:
        """Let a person choose a file and back up the whole bench into it."""
        snapshot = self._state.snapshot
        if snapshot is None or not snapshot.shop:
            self._screen.say("This bench keeps nothing of its shop, so there is no bench to back up.")
            return
        suggested = str(Path.home() / "thresher-backup.tar.gz")
        name, _ = QFileDialog.getSaveFileName(self._window, "Back up the bench", suggested, "Backups (*.tar.gz)")
        if name:
            self.write_backup(Path(snapshot.shop).parent, Path(name))

    def write_backup(self, bench: Path, out: Path) -> None:
        """Back up a bench into a file."""
        from thresher.shop.backup import BackedUp, back_up  # needed only here

        def done(made: BackedUp) -> None:
            left = f", left out: {'; '.join(made.left_out)}" if made.left_out else ""
            self._state.say_done(f"Backed up: {out}, {made.jobs} jobs, {made.size / 1e6:.1f} MB{left}")

        self._state.say_done("Backing up the bench…")
        in_background(self, lambda: back_up(bench, out), done, lambda error: self._screen.say(str(error)))

    def copy_lanes(self) -> None:
        """Put the lanes as they are on the clipboard as a picture."""
        clipboard = QApplication.clipboard()
        if clipboard is not None:
            clipboard.setImage(lanes_image(self._lanes))
            self._state.say_trouble("Lanes copied to the clipboard")

    def save_lanes(self) -> None:
        """Let a person choose a file for the lanes as they are."""
        name, _ = QFileDialog.getSaveFileName(self._window, "Save lanes", "lanes.png", "Pictures (*.png *.svg)")
        if name:
            try:
                save_lanes(self._lanes, Path(name))
            except (EnvironmentFault, InputError) as error:
                self._screen.say(str(error))

    def save_tags(self) -> None:
        """Ask for a file and write the part tags."""
        suggested = str(Path.home() / f"tags-{self._state.job.get('number') or 'job'}.pdf")
        name, _ = QFileDialog.getSaveFileName(self._window, "Save part tags", suggested, "PDF (*.pdf)")
        if name and self.write_tags(Path(name)):
            QDesktopServices.openUrl(QUrl.fromLocalFile(name))

    def write_tags(self, path: Path) -> bool:
        """Write the part tags and return whether that went well; errors are shown."""
        state, job = self._state, self._state.job
        statuses = state.verdict.statuses if state.verdict is not None else {}
        head = ", ".join(filter(None, (job.get("number", ""), job.get("machine", "")))) or "this job"
        try:
            pages = write_tags(tags_of(state.book, statuses, job.get("machine", "")), head, path)
        except EnvironmentFault as error:
            self._screen.say(str(error))
            return False
        self._screen.say(f"{path}, {pages} page{'s' if pages > 1 else ''}")
        return True
