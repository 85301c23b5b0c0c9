"""The decode pane: anything pasted, typed or dropped goes in above, what it is comes out below."""

from pathlib import Path

import msgspec
from PyQt6.QtCore import QEvent, QObject, QProcess, Qt, QUrl, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import (
    QApplication,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QPlainTextEdit,
    QPushButton,
    QWidget,
)

from thresher.app.launch import cli_command
from thresher.decoding.recognise import Decoded, Tables, decode_text
from thresher.decoding.text import lines_of
from thresher.model.vendors import Vendor
from thresher.ui.chooser import Chooser
from thresher.ui.form import Panel, scrolled
from thresher.ui.look import Look
from thresher.ui.stations.evidence.decoded_sheet import DecodedSheet
from thresher.ui.stations.evidence.entries import Entry

_GONE_MS = 2_000
_TIPS = {
    "decode_go": "Decode the text in the field (Return)",
    "decode_file": "A log of any size, a dump or an error record of firmware",
    "decode_copy": "What is shown below, with registers and next steps, as text",
    "decode_raw": "The raw lines or bytes below what they mean",
    "decode_add": "With its time and what was installed",
    "decode_note": "Write this text on the tape, for example a beep pattern and its meaning",
}
_AT_ONCE = 20_000
"""Characters that are decoded at once; more is given to a process of its own, so that the window never waits."""


class DecodePane(Panel):
    """`decoded` brings what came of it and its name; `add_wanted` an entry that is to become evidence of the job."""

    decoded = pyqtSignal(object, str)
    add_wanted = pyqtSignal(object)
    note_wanted = pyqtSignal(str)

    def __init__(self, look: Look, tables: Tables, parent: QWidget) -> None:
        """Wait for something."""
        super().__init__("Decode", look, parent)
        self.aside = "a log, a register, a stop code, one of our codes"
        self._tables = tables
        self._process: QProcess | None = None
        self.entry: Entry | None = None
        self.field = QPlainTextEdit(self)
        self.field.setObjectName("decode_field")
        self.field.setAccessibleName("What is to be decoded")
        self.field.setPlaceholderText("Paste or type, Return decodes; or drop a file anywhere here")
        self.field.setFixedHeight(58)
        self.field.setTabChangesFocus(True)
        self.field.installEventFilter(self)
        self.go = self._button("Decode", "decode_go", self.decode_field)
        self.open = self._button("A file…", "decode_file", self._choose)
        self.layout_box = Chooser(self)
        self.layout_box.setObjectName("decode_layout")
        self.layout_box.setToolTip("Register layout if the text does not name one")
        for vendor in (Vendor.INTEL, Vendor.AMD, Vendor.UNKNOWN):
            name = f"{vendor.value} layout" if vendor is not Vendor.UNKNOWN else "vendor unknown"
            self.layout_box.addItem(name, vendor)
        self.notice = QLabel("", self)
        self.notice.setWordWrap(True)
        self.notice.setObjectName("decode_said")
        self.sheet = DecodedSheet(look, self)
        self.sheet.installEventFilter(self)
        self.copy = self._button("Copy as text", "decode_copy", self.copy_text)
        self.raw = self._button("Raw text", "decode_raw", self._toggle_raw)
        self.raw.setCheckable(True)
        self.add = self._button("Add to this job…", "decode_add", self._add)
        self.note = self._button("Keep as a note", "decode_note", self._keep_note)
        top, bottom = QHBoxLayout(), QHBoxLayout()
        for widget in (self.go, self.open, self.layout_box):
            top.addWidget(widget)
        for widget in (self.copy, self.raw, self.note, self.add):
            bottom.addWidget(widget)
        self.column.addWidget(self.field)
        self.column.addLayout(top)
        self.column.addWidget(self.notice)
        self.column.addWidget(scrolled(self.sheet, self), 1)
        self.column.addLayout(bottom)
        self.notice.hide()
        self.show_entry(None)

    def _button(self, text: str, name: str, slot: object) -> QPushButton:
        button = QPushButton(text, self)
        button.setObjectName(name)
        button.setAccessibleName(text)
        button.setToolTip(_TIPS[name])
        button.clicked.connect(slot)  # type: ignore[arg-type]  # PyQt6 takes any callable
        return button

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """Return in the field decodes, Shift+Return breaks a line; Left and Right on the sheet name fields."""
        if isinstance(event, QKeyEvent) and event.type() is QEvent.Type.KeyPress:
            shift = event.modifiers() & Qt.KeyboardModifier.ShiftModifier
            if watched is self.field and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and not shift:
                self.decode_field()
                return True
            if watched is self.sheet and event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right):
                self.sheet.name_next(1 if event.key() == Qt.Key.Key_Right else -1)
                return True
        return super().eventFilter(watched, event)

    @property
    def vendor(self) -> Vendor:
        """Whose layout holds where the text does not report."""
        vendor = self.layout_box.currentData()
        return vendor if isinstance(vendor, Vendor) else Vendor.UNKNOWN

    def choose_vendor(self, vendor: Vendor) -> None:
        """Take the machine's own layout, until a person chooses another."""
        self.layout_box.setCurrentIndex(max(0, self.layout_box.findData(vendor)))

    # ---- decoding

    def decode_field(self) -> None:
        """Decode what stands in the field."""
        self.decode_given(self.field.toPlainText())

    def decode_given(self, text: str) -> None:
        """Decode a text."""
        if not text.strip():
            self.say("Nothing to decode: paste or type something first.")
        elif len(text) > _AT_ONCE:
            self._by_process(["-"], "what was pasted", text)
        else:
            self._take(decode_text(text, self.vendor, self._tables), "what was pasted")

    def decode_file(self, path: Path) -> None:
        """Decode a file of any size; the window continues meanwhile."""
        self._by_process([str(path)], path.name)

    def drop(self, urls: list[QUrl], text: str) -> None:
        """Decode what was dropped."""
        files = [Path(url.toLocalFile()) for url in urls if url.isLocalFile()]
        if files:
            self.decode_file(files[0])
        elif text:
            self.field.setPlainText(text[:_AT_ONCE])
            self.decode_given(text)

    def _choose(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Decode a log, a dump or an error record", "", "All files (*)")
        if name:
            self.decode_file(Path(name))

    def _by_process(self, words: list[str], name: str, text: str | None = None) -> None:
        if self._process is not None:
            self.say("Something is being decoded already; wait for it.")
            return
        self.say(f"Decoding {name} …")
        process = self._process = QProcess(self)

        def on_finished(code: int) -> None:
            reported = bytes(process.readAllStandardOutput().data())
            wrong = bytes(process.readAllStandardError().data()).decode("utf-8", "replace").strip()
            self._process = None
            process.deleteLater()
            if code not in (0, 1):
                self.say(wrong or f"{name} could not be decoded.")
                return
            self._take(msgspec.json.decode(reported, type=Decoded), name)

        process.finished.connect(on_finished)
        command = cli_command(["decode", *words, "--vendor", self.vendor.value, "--json"])
        process.start(command[0], command[1:])
        if text is not None:
            process.write(text.encode("utf-8", "replace"))
            process.closeWriteChannel()

    def leave(self) -> None:
        """Give up what is being decoded, because the window closes."""
        process, self._process = self._process, None
        if process is not None:
            process.finished.disconnect()
            process.kill()
            process.waitForFinished(_GONE_MS)

    def _take(self, decoded: Decoded, name: str) -> None:
        log = decoded.log
        if decoded.unknown:
            self.say(f"{decoded.unknown[:1].upper()}{decoded.unknown[1:]}.")
        elif log is not None and log.lines > 1:
            groups = f"{len(log.groups)} signature{'s' if len(log.groups) != 1 else ''}"
            others = f", {log.others} of other programs" if log.others else ""
            self.say(f"{name}: {log.lines} lines{others}, {log.count} signs of trouble in {groups}")
        else:
            self.say("")
        self.decoded.emit(decoded, name)

    def say(self, words: str) -> None:
        """Say how it went above the sheet."""
        self.notice.setText(words)
        self.notice.setVisible(bool(words))

    # ---- what is shown

    def show_entry(self, entry: Entry | None) -> None:
        """Show an entry of the list, or nothing."""
        self.entry = entry
        self.sheet.show_thing(entry.thing if entry is not None else None)
        self.add.setEnabled(entry is not None and entry.foreign and bool(entry.thing.findings))
        already = entry is not None and not entry.foreign
        tip = "It is evidence of this job already" if already else "With its time and what was installed"
        self.add.setToolTip(tip)
        for button in (self.copy, self.raw):
            button.setEnabled(entry is not None)

    def _toggle_raw(self, raw: bool) -> None:
        self.sheet.show_raw(raw)

    def copy_text(self) -> None:
        """Put what is shown on the clipboard as text."""
        clipboard = QApplication.clipboard()
        if clipboard is not None and self.entry is not None:
            clipboard.setText("\n".join(lines_of(self.entry.thing)))
            self.say("Copied as text.")

    def _add(self) -> None:
        if self.entry is not None:
            self.add_wanted.emit(self.entry)

    def _keep_note(self) -> None:
        text = self.field.toPlainText().strip()
        if text:
            self.note_wanted.emit(text)
            self.say("Kept as a note on the tape.")
        else:
            self.say("Write the note above first, for example a beep pattern and its meaning.")
