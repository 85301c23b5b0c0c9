"""The stick's own pages: before the first job, and between two windows. The whole screen, by keyboard alone."""

from datetime import UTC, datetime

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import (
    QButtonGroup,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QRadioButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from thresher.stick.boot import Settings, StickState
from thresher.stick.clock import what_is_wrong
from thresher.ui.form import form_style
from thresher.ui.theme import Scheme

_BAND = 64
_GB = 1e9
_BUTTON = 420


class _Page(QWidget):
    """Paper under a band with the name and what this is."""

    def __init__(self, words: str, scheme: Scheme) -> None:
        super().__init__()
        self._words, self._scheme = words, scheme
        self.setStyleSheet(
            form_style(scheme)
            + f"QLabel {{ color: {scheme.ink}; font-size: 14px; }} QLabel#head {{ font-size: 17px; font-weight: 600; }}"
            + f"QLabel#soft {{ color: {scheme.soft}; }} QLabel#trouble {{ color: {scheme.fault}; }}"
            + f"QRadioButton {{ color: {scheme.ink}; font-size: 14px; padding: 3px; }}"
            + f"QListWidget {{ background: {scheme.field}; color: {scheme.ink}; border: 1px solid {scheme.rule};"
            + " font-size: 14px; }"
            + f"QListWidget::item:selected {{ background: {scheme.band}; color: {scheme.band_ink}; }}"
            + f"QPushButton {{ font-size: 15px; padding: 9px 18px; background: {scheme.field}; color: {scheme.ink};"
            + f" border: 1px solid {scheme.rule}; }}"
            + f"QPushButton:focus {{ border: 2px solid {scheme.processor}; }}"
            + f"QPushButton#first {{ background: {scheme.band}; color: {scheme.band_ink}; }}"
            + f"QPushButton#first:focus {{ border: 2px solid {scheme.band_mark}; }}"
        )
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(44, _BAND + 20, 44, 24)
        self.column.setSpacing(9)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Paint the paper and the band."""
        scheme, painter = self._scheme, QPainter(self)
        painter.fillRect(self.rect(), QColor(scheme.paper))
        painter.fillRect(0, 0, self.width(), _BAND, QColor(scheme.band))
        painter.fillRect(0, _BAND, self.width(), 3, QColor(scheme.band_mark))
        font = painter.font()
        font.setPixelSize(24)
        font.setBold(True)
        painter.setFont(font)
        painter.setPen(QColor(scheme.band_ink))
        painter.drawText(44, 42, "Thresher")
        font.setPixelSize(14)
        font.setBold(False)
        painter.setFont(font)
        painter.setPen(QColor(scheme.band_soft))
        painter.drawText(190, 41, self._words)
        painter.end()


def _label(words: str, name: str = "") -> QLabel:
    label = QLabel(words)
    label.setObjectName(name)
    label.setWordWrap(True)
    label.setTextFormat(Qt.TextFormat.PlainText)
    return label


class FirstPage(_Page):
    """Asked once: the keyboard, where jobs are kept, whether the clock is right. `done` says whether it is wrong."""

    done = pyqtSignal(Settings, bool)
    keyboard_chosen = pyqtSignal(str)

    def __init__(
        self, state: StickState, settings: Settings, layouts: list[tuple[str, str]], now: float, scheme: Scheme
    ) -> None:
        """`layouts` are names and words, `now` the machine's clock in Unix seconds."""
        super().__init__("USB stick. Reads this machine's drives only; installs nothing.", scheme)
        self._state, self._settings = state, settings
        columns = QHBoxLayout()
        columns.setSpacing(36)
        columns.addLayout(self._keyboard(layouts), 2)
        right = QVBoxLayout()
        right.setSpacing(7)
        self._jobs(right)
        right.addSpacing(14)
        self._clock(right, now)
        right.addStretch(1)
        columns.addLayout(right, 3)
        self.column.addLayout(columns, 1)
        row = QHBoxLayout()
        self.trouble = _label("", "trouble")
        row.addWidget(self.trouble, 1)
        self.open = QPushButton("Open the bench   Enter")
        self.open.setObjectName("first")
        self.open.setDefault(True)
        self.open.clicked.connect(self._take)
        row.addWidget(self.open)
        self.column.addLayout(row)
        self.layouts.setFocus()

    def _keyboard(self, layouts: list[tuple[str, str]]) -> QVBoxLayout:
        column = QVBoxLayout()
        column.setSpacing(7)
        for label in (_label("Keyboard", "head"), _label("Up and down, or the first letters of its name.", "soft")):
            label.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
            column.addWidget(label)
        self.layouts = QListWidget()
        for name, words in layouts:
            item = QListWidgetItem(words)
            item.setData(Qt.ItemDataRole.UserRole, name)
            self.layouts.addItem(item)
            if name == (self._settings.keyboard or "us"):
                self.layouts.setCurrentItem(item)
        self.layouts.currentItemChanged.connect(lambda *_: self.keyboard_chosen.emit(self.keyboard))
        column.addWidget(self.layouts, 1)
        self.tried = QLineEdit()
        self.tried.setPlaceholderText("Type here to try it: z y ; : / - # @")
        column.addWidget(self.tried)
        return column

    def _jobs(self, column: QVBoxLayout) -> None:
        state = self._state
        column.addWidget(_label("Jobs", "head"))
        self.keep = QRadioButton(f"Keep jobs on this stick: {state.room / _GB:.1f} GB free")
        self.memory = QRadioButton("In memory only: lost when the machine shuts down")
        group = QButtonGroup(self)
        if state.lasting:
            column.addWidget(_label("Jobs, shop data and settings are kept on this stick."))
            return
        for each in (self.keep, self.memory):
            group.addButton(each)
            column.addWidget(each)
        self.keep.setEnabled(state.room > 0)
        (self.keep if state.room > 0 else self.memory).setChecked(True)
        about = (
            "Thresher adds a partition after the image, once. Without it a run cannot continue after a crash."
            if state.room > 0
            else f"{state.reason[:1].upper()}{state.reason[1:]}. Save jobs elsewhere before you switch off."
        )
        column.addWidget(_label(about, "soft"))

    def _clock(self, column: QVBoxLayout, now: float) -> None:
        column.addWidget(_label("Clock of this machine", "head"))
        shown = f"{datetime.fromtimestamp(now, tz=UTC):%A, %d %B %Y, %H:%M}, as the board keeps it"
        column.addWidget(_label(shown))
        wrong = what_is_wrong(now, self._state.built)
        if wrong:
            column.addWidget(
                _label(f"It is wrong: {wrong}. The clock battery may be empty; the short round checks it.", "trouble")
            )
        self.right = QRadioButton("The clock is right, apart from the time zone")
        self.wrong = QRadioButton("The clock is wrong: note it in the job, do not set it")
        group = QButtonGroup(self)
        for each in (self.right, self.wrong):
            group.addButton(each)
            column.addWidget(each)
        self.wrong.setChecked(bool(wrong))
        column.addWidget(_label("Thresher never sets a clock by itself.", "soft"))

    @property
    def keyboard(self) -> str:
        """The layout that is chosen."""
        item = self.layouts.currentItem()
        return str(item.data(Qt.ItemDataRole.UserRole)) if item is not None else "us"

    @property
    def keeps_jobs(self) -> bool:
        """Whether a partition for jobs is to be made."""
        return not self._state.lasting and self._state.room > 0 and self.keep.isChecked()

    def say(self, words: str) -> None:
        """Show what went wrong, or what is going on."""
        self.trouble.setText(words)

    def _take(self) -> None:
        if self.open.isEnabled():  # else it is being carried out already
            self.done.emit(Settings(self.keyboard), self.wrong.isChecked())

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Enter opens the bench from wherever the keyboard is."""
        if event is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._take()
            return
        super().keyPressEvent(event)


class BetweenPage(_Page):
    """When the window has closed: what to do next."""

    chosen = pyqtSignal(str)

    def __init__(self, state: StickState, unsaved: int, scheme: Scheme) -> None:
        """`unsaved` is how many jobs are in memory only."""
        super().__init__("USB stick", scheme)
        self.column.addStretch(1)
        if unsaved and not state.lasting:
            jobs = "1 job is" if unsaved == 1 else f"{unsaved} jobs are"
            self.column.addWidget(_label(f"{jobs} in memory only", "head"))
            self.column.addWidget(
                _label("They are lost when the machine shuts down or restarts. Save them first.", "trouble")
            )
        grid = QGridLayout()
        grid.setSpacing(12)
        choices = [("B", "bench", "Open the bench again"), ("S", "save", "Save jobs elsewhere …")]
        if not state.lasting and state.room > 0:
            choices.append(("K", "keep", "Keep jobs on this stick"))
        choices += [("R", "restart", "Restart the machine"), ("O", "off", "Shut down")]
        self.buttons: dict[str, QPushButton] = {}
        self._keys = {key: word for key, word, _ in choices}
        for row, (key, word, words) in enumerate(choices):
            button = QPushButton(f"{words}   {key}")
            button.setObjectName("first" if row == 0 else word)
            button.clicked.connect(lambda _checked=False, word=word: self.chosen.emit(word))
            self.buttons[word] = button
            button.setFixedWidth(_BUTTON)
            grid.addWidget(button, row, 0)
        self.buttons["bench"].setFocus()
        grid.setColumnStretch(1, 1)
        self.column.addLayout(grid)
        self.said = _label("", "soft")
        self.column.addWidget(self.said)
        self.column.addStretch(2)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Choose by a letter, from wherever the keyboard is."""
        word = self._keys.get(event.text().upper()) if event is not None else None
        if word is None:
            super().keyPressEvent(event)
        else:
            self.chosen.emit(word)

    def say(self, words: str) -> None:
        """Show what came of a choice."""
        self.said.setText(words)
