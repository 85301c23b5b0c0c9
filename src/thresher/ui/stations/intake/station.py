"""The Intake: what the customer says, what the machine is and what is not as it should be, and what to run."""

from PyQt6.QtCore import QSize, QUrl, pyqtSignal
from PyQt6.QtGui import QDesktopServices, QResizeEvent
from PyQt6.QtWidgets import QButtonGroup, QHBoxLayout, QPushButton, QStackedWidget, QVBoxLayout, QWidget

from thresher.ui.form import Panel, form_style, scrolled
from thresher.ui.look import Look
from thresher.ui.state import BenchState
from thresher.ui.stations.bench.machine_map import MachineMap
from thresher.ui.stations.intake.expected_form import ExpectedForm
from thresher.ui.stations.intake.job_form import JobForm
from thresher.ui.stations.intake.job_strip import JobStrip
from thresher.ui.stations.intake.offers import OffersPanel
from thresher.ui.stations.intake.parts_sheet import PartsSheet
from thresher.ui.stations.intake.readings import ReadingsPanel
from thresher.ui.stations.intake.shelf import ShelfPanel

_MAP_FROM = 1140
"""Width of the station from which the machine's map stands beside the list of its parts."""
_PAGES = ("Proposed", "Readings", "Shelf")


class IntakeStation(QWidget):
    """The whole station. Its signals carry what a person wants of the engine; nothing is decided here."""

    job_changed = pyqtSignal(dict)
    sheet_chosen = pyqtSignal(str)
    sheet_kept = pyqtSignal(str)

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Lay the station out."""
        super().__init__(parent)
        self._look = look
        self.strip = JobStrip(state, look, self)
        self.job = JobForm(state, look, self)
        self.expected = ExpectedForm(state, self)
        self.map = MachineMap(state, look, self)
        self.parts = PartsSheet(state, look, self)
        self.offers = OffersPanel(state, look, self)
        self.readings = ReadingsPanel(state, look, self)
        self.shelf = ShelfPanel(state, look, self)
        machine = Panel("Parts", look, self)
        machine.aside = "should be, and found"
        machine.column.addWidget(self.expected)
        machine.column.addWidget(scrolled(self.parts, machine), 1)
        side = Panel("", look, self)
        self.pages = QStackedWidget(side)
        side.column.addLayout(self._make_tabs(side))
        side.column.addWidget(self.pages, 1)
        for page in (self.offers, self.readings, self.shelf):
            self.pages.addWidget(page)
        row = QHBoxLayout()
        row.setSpacing(8)
        for widget, stretch in ((self.job, 0), (self.map, 0), (machine, 1), (side, 0)):
            row.addWidget(widget, stretch)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 8, 12, 8)
        column.setSpacing(8)
        column.addWidget(self.strip)
        column.addLayout(row, 1)
        self.job.setFixedWidth(290)
        self.map.setFixedWidth(236)
        side.setFixedWidth(300)
        for form in (self.job, self.expected):
            form.changed.connect(self.job_changed)
        self.offers.chosen.connect(self.sheet_chosen)
        self.offers.kept.connect(self.sheet_kept)
        self.offers.edited.connect(self._edit)
        self.map.part_picked.connect(self.parts.show_only)
        look.changed.connect(self._restyle)
        self._restyle()

    def _make_tabs(self, parent: QWidget) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(4)
        self.tabs = QButtonGroup(self)
        for number, text in enumerate(_PAGES):
            button = QPushButton(text, parent)
            button.setCheckable(True)
            button.setChecked(number == 0)
            button.setObjectName(f"page_{text.lower()}")
            button.setAccessibleName(f"Show: {text}")
            self.tabs.addButton(button, number)
            row.addWidget(button, 1)
        self.tabs.idClicked.connect(self.pages.setCurrentIndex)
        return row

    def show_page(self, number: int) -> None:
        """Show the proposed sheets, the readings or the shelf."""
        button = self.tabs.button(number)
        if button is not None:
            button.setChecked(True)
        self.pages.setCurrentIndex(number)

    def sizeHint(self) -> QSize:
        """As wide as the window's usual size."""
        return QSize(1180, 690)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Leave the map out where there is no room for it; the list has everything that it shows."""
        super().resizeEvent(event)
        self.map.setVisible(self.width() >= _MAP_FROM)

    def _edit(self, path: str) -> None:
        QDesktopServices.openUrl(QUrl.fromLocalFile(path))

    def flush(self) -> None:
        """Send what was typed and not yet sent, before the window closes."""
        self.job.flush()
        self.expected.flush()

    def _restyle(self) -> None:
        self.setStyleSheet(form_style(self._look.scheme))
