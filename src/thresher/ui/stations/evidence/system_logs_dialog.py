"""Reading the logs of the installed system: drives, the owner's consent, the timeline, adding evidence."""

from collections.abc import Callable
from pathlib import Path

import msgspec
from PyQt6.QtCore import QProcess, Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QCheckBox,
    QDialog,
    QFileDialog,
    QGridLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPlainTextEdit,
    QPushButton,
    QWidget,
)

from thresher.app.launch import cli_command
from thresher.model.vendors import Vendor
from thresher.protocol.commands import AddEvidence
from thresher.system_logs.reading import SystemLogsRead, changes_before
from thresher.system_logs.volumes import Volume
from thresher.ui.form import form_style
from thresher.ui.look import Look
from thresher.ui.stations.evidence.system_logs_chart import SystemLogsChart

_GONE_MS = 2000
_SIMULATED = "simulated"
_CONSENT = "The customer agreed that Thresher reads the logs of their system. Nothing is written to their drives."


class SystemLogsAnswer(msgspec.Struct, frozen=True):
    """What `thresher system-logs --json` answers with."""

    systems: tuple[SystemLogsRead, ...] = ()
    not_read: tuple[tuple[str, str], ...] = ()


class SystemLogsDialog(QDialog):
    """The whole of it on one page. `evidence_wanted` carries a command for each system that has evidence."""

    evidence_wanted = pyqtSignal(object)
    note_wanted = pyqtSignal(str)

    def __init__(self, look: Look, vendor: Vendor, model: str = "", parent: QWidget | None = None) -> None:
        """`vendor` names the register layout; `model` a simulated machine, which has logs of its own."""
        super().__init__(parent)
        self._look, self._vendor, self._model = look, vendor, model
        self._process: QProcess | None = None
        self.answer = SystemLogsAnswer()
        scheme = look.scheme
        self.setObjectName("system_logs")
        self.setWindowTitle("Logs of the installed system")
        self.setStyleSheet(
            form_style(scheme)
            + f"QDialog {{ background: {scheme.paper}; }} QCheckBox, QLabel {{ color: {scheme.ink}; }}"
            + f"QListWidget, QPlainTextEdit {{ background: {scheme.field}; color: {scheme.ink};"
            + f" border: 1px solid {scheme.rule}; font-size: 12px; }}"
        )
        self.drives = QListWidget(self)
        self.drives.setAccessibleName("File systems of this machine")
        self.folder = QPushButton("Add folder…", self)
        self.folder.setToolTip("Where a drive of the machine is mounted already")
        self.consent = QCheckBox(_CONSENT, self)
        self.read = QPushButton("Read logs", self)
        self.said = QLabel("", self)
        self.said.setWordWrap(True)
        self.chart = SystemLogsChart(look, self)
        self.words = QPlainTextEdit(self)
        self.words.setReadOnly(True)
        self.words.setAccessibleName("What was found")
        self.add = QPushButton("Add to this job as evidence", self)
        self.end = QPushButton("Close", self)
        self._lay_out()
        self.folder.clicked.connect(self._choose_folder)
        self.consent.toggled.connect(lambda _on: self._allow())
        self.drives.itemChanged.connect(lambda _item: self._allow())
        self.read.clicked.connect(self.read_now)
        self.add.clicked.connect(self._add)
        self.end.clicked.connect(self.reject)
        self._allow()
        self.resize(1080, 660)

    def _lay_out(self) -> None:
        grid = QGridLayout(self)
        grid.setContentsMargins(16, 14, 16, 12)
        grid.setHorizontalSpacing(10)
        grid.setVerticalSpacing(8)
        grid.addWidget(self.drives, 0, 0, 1, 4)
        self.drives.setFixedHeight(96)
        grid.addWidget(self.consent, 1, 0, 1, 2)
        grid.addWidget(self.folder, 1, 2)
        grid.addWidget(self.read, 1, 3)
        grid.addWidget(self.chart, 2, 0, 1, 4)
        grid.addWidget(self.words, 3, 0, 1, 4)
        grid.addWidget(self.said, 4, 0, 1, 2)
        grid.addWidget(self.add, 4, 2)
        grid.addWidget(self.end, 4, 3)
        grid.setColumnStretch(0, 1)
        grid.setRowStretch(2, 3)
        grid.setRowStretch(3, 2)

    # ---- choosing

    def look_for_drives(self) -> None:
        """List the file systems of this machine, by a process of its own: a drive may not answer."""
        if self._model:
            self.folder.setEnabled(False)
            self.offer(_SIMULATED, "The drive of the simulated machine")
            return
        self._start(["system-logs", "--list", "--json"], self._list, "Looking for file systems …")

    def _list(self, reported: bytes) -> None:
        for volume in msgspec.json.decode(reported, type=tuple[Volume, ...]):
            words = f"{volume.words}{f': {volume.locked}' if volume.locked else ''}"
            self.offer(volume.device, words, bool(volume.locked), ticked=not volume.running)
        self.said.setText("" if self.drives.count() else "No file system was found; choose a folder.")

    def offer(self, place: str, words: str, locked: bool = False, ticked: bool = True) -> None:
        """Put a place into the list; a locked one is shown and cannot be chosen."""
        item = QListWidgetItem(words)
        item.setData(Qt.ItemDataRole.UserRole, place)
        if locked:
            item.setFlags(Qt.ItemFlag.NoItemFlags)
        else:
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if ticked else Qt.CheckState.Unchecked)
        self.drives.addItem(item)
        self._allow()

    def _choose_folder(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "Where is the machine's drive mounted?")
        if name:
            self.offer(name, name)

    @property
    def chosen(self) -> list[str]:
        """The places that are ticked."""
        items = [self.drives.item(row) for row in range(self.drives.count())]
        ticked = Qt.CheckState.Checked
        return [str(each.data(Qt.ItemDataRole.UserRole)) for each in items if each and each.checkState() == ticked]

    def _allow(self) -> None:
        idle = self._process is None
        self.read.setEnabled(idle and self.consent.isChecked() and bool(self.chosen))
        self.add.setEnabled(idle and any(each.findings for each in self.answer.systems))

    # ---- reading

    def read_now(self) -> None:
        """Read the places that are ticked."""
        places = ["--simulate", self._model] if self._model else self.chosen
        words = ["system-logs", *places, "--yes", "--json", "--vendor", self._vendor.value]
        self._start(words, self._take, "Reading; a log of 200 MB takes a minute …")

    def _start(self, words: list[str], done: Callable[[bytes], None], said: str) -> None:
        self.said.setText(said)
        process = self._process = QProcess(self)

        def on_finished(code: int) -> None:
            reported = bytes(process.readAllStandardOutput().data())
            wrong = bytes(process.readAllStandardError().data()).decode("utf-8", "replace").strip()
            self._process = None
            process.deleteLater()
            if reported.strip():
                self.said.setText("")
                done(reported)
            else:
                self.said.setText(wrong or f"It ended with {code}.")
            self._allow()

        process.finished.connect(on_finished)
        command = cli_command(words)
        process.start(command[0], command[1:])
        self._allow()

    def _take(self, reported: bytes) -> None:
        self.show_answer(msgspec.json.decode(reported, type=SystemLogsAnswer))
        for each in self.answer.systems:  # the report has it, whether anything is added or not
            self.note_wanted.emit(f"With the customer's consent, read the logs of the installed system: {each.what}")

    def show_answer(self, answer: SystemLogsAnswer) -> None:
        """Show what was read: the system with most evidence on the chart, all of them in words."""
        self.answer = answer
        most = max(answer.systems, key=lambda each: len(each.findings), default=None)
        self.chart.show_logs(most)
        self.words.setPlainText("\n".join(words_of(answer)))
        count = sum(each.count for each in answer.systems)
        self.said.setText(f"{count} pieces of evidence." if answer.systems else "No installed system was found there.")
        self.add.setText(f"Add {count} to this job as evidence" if count else "Add to this job as evidence")
        self._allow()

    def _add(self) -> None:
        for each in self.answer.systems:
            if each.findings:
                origin = each.findings[0].origin or each.what
                self.evidence_wanted.emit(AddEvidence(each.findings, origin, minutes=60.0 * each.hours, own_times=True))
        self.accept()

    def done(self, result: int) -> None:
        """Give up what is being read when the dialog closes."""
        process, self._process = self._process, None
        if process is not None:
            process.finished.disconnect()
            process.kill()
            process.waitForFinished(_GONE_MS)
        super().done(result)


def words_of(answer: SystemLogsAnswer) -> list[str]:
    """Return what was found, line by line: changes first, then groups, files and harmless events."""
    lines: list[str] = []
    for read in answer.systems:
        lines.append(f"{read.what[:1].upper()}{read.what[1:]}, {read.place}")
        lines += [f"  {sentence}" for sentence in changes_before(read)]
        for group in read.groups:
            place = f", {group.place}" if group.place else ""
            noise = " (may be noise)" if group.noise else ""
            lines.append(f"  {group.code}  {group.count} × {group.title}{place}{noise}")
        lines += [f"  {Path(each.path).name}: {each.words or 'not read: ' + each.trouble}" for each in read.files]
        harmless = sum(note.count for note in read.notes)
        if harmless:
            kinds = ", ".join(list(dict.fromkeys(note.title.lower() for note in read.notes))[:4])
            lines.append(f"  {harmless} harmless events: {kinds} and so on")
    lines += [f"{place}: not read: {trouble}" for place, trouble in answer.not_read]
    return lines
