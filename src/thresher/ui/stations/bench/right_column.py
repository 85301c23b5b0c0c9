"""The right column of the Bench: the tape with what the load reports and the suspects, or the sheets to start from."""

from PyQt6.QtCore import QRectF
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QButtonGroup, QHBoxLayout, QPushButton, QStackedWidget, QVBoxLayout, QWidget

from thresher.model.findings import Severity
from thresher.ui.look import Look, panel
from thresher.ui.sheet_editor import SheetEditor
from thresher.ui.state import BenchState
from thresher.ui.stations.bench.frames_card import FramesCard
from thresher.ui.stations.bench.load_card import LoadCard
from thresher.ui.stations.bench.sheet_list import SheetList
from thresher.ui.stations.bench.suspect_card import SuspectCard
from thresher.ui.stations.bench.tape_view import TapeView, column_width

_SHEETS, _TAPE = 0, 1


class RightColumn(QWidget):
    """Sheets while a run is being composed, the tape otherwise; a person may look at the other one."""

    def __init__(self, state: BenchState, look: Look, editor: SheetEditor, parent: QWidget | None = None) -> None:
        """Follow whether a run is being composed."""
        super().__init__(parent)
        self._state, self._look, self._editor = state, look, editor
        self.tape = TapeView(state, look, self)
        self.suspects = SuspectCard(state, look, self)
        self.load_card = LoadCard(state, look, self)
        self.frames = FramesCard(state, look, self)
        self.sheets = SheetList(state, look, self)
        tape = QWidget(self)
        column = QVBoxLayout(tape)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.tape, 1)
        column.addWidget(self.frames)
        column.addWidget(self.load_card)
        column.addWidget(self.suspects)
        self.pages = QStackedWidget(self)
        self.pages.addWidget(self.sheets)
        self.pages.addWidget(tape)
        self.tabs: list[QPushButton] = []
        group = QButtonGroup(self)
        row = QHBoxLayout()
        row.setContentsMargins(8, 0, 8, 0)
        row.setSpacing(4)
        for number, name in enumerate(("Sheets", "Tape")):
            tab = QPushButton(name, self)
            tab.setObjectName(f"show_{name.lower()}")
            tab.setAccessibleName(f"Show {name.lower()}")
            tab.setToolTip(f"Shows the {'run sheets to start from' if number == _SHEETS else 'tape of what happened'}")
            tab.setCheckable(True)
            tab.clicked.connect(lambda _checked=False, number=number: self.show_page(number))
            group.addButton(tab)
            row.addWidget(tab)
            self.tabs.append(tab)
        row.addStretch(1)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(2, 6, 2, 2)
        outer.setSpacing(4)
        outer.addLayout(row)
        outer.addWidget(self.pages, 1)
        self.setFixedWidth(column_width())
        self._composing: bool | None = None
        self._seen = 0
        editor.changed.connect(self._follow)
        state.refreshed.connect(self._follow)
        look.changed.connect(self._restyle)
        self._restyle()
        self._follow()

    def _restyle(self) -> None:
        scheme = self._look.scheme
        for tab in self.tabs:
            tab.setStyleSheet(
                f"QPushButton {{ color: {scheme.soft}; background: transparent; border: 0; padding: 3px 8px;"
                f" font-size: 12px; font-weight: bold; }}"
                f"QPushButton:checked {{ color: {scheme.ink}; border-bottom: 2px solid {scheme.straw}; }}"
                f"QPushButton:focus {{ border: 1px solid {scheme.processor}; }}"
            )
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Paint the paper."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        panel(painter, QRectF(self.rect()), self._look.scheme)
        painter.end()

    def _follow(self) -> None:
        """Change the page with the mode; say on the tab how many warnings are on a tape that is not shown."""
        if self._editor.composing is not self._composing:
            self._composing = self._editor.composing
            self.show_page(_SHEETS if self._composing else _TAPE)
        if self.pages.currentIndex() == _TAPE:
            self._seen = len(self._state.tape)
        unseen = sum(entry.severity is not Severity.NOTE for entry in self._state.tape[self._seen :])
        self.tabs[_TAPE].setText(f"Tape ({unseen})" if unseen else "Tape")

    def show_page(self, number: int) -> None:
        """Show the sheets or the tape."""
        self.pages.setCurrentIndex(number)
        self.tabs[number].setChecked(True)
        if number == _TAPE:
            self._seen = len(self._state.tape)
            self.tabs[_TAPE].setText("Tape")

    def show_sheets(self) -> None:
        """Show the sheets."""
        self.show_page(_SHEETS)
