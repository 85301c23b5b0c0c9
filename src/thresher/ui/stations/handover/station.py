"""The Hand over station: what goes into the report and for whom, its pages, the seal, files, the machine before."""

import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import QSize, QTimer, pyqtSignal
from PyQt6.QtGui import QShowEvent
from PyQt6.QtPrintSupport import QPrintDialog, QPrinter
from PyQt6.QtWidgets import (
    QButtonGroup,
    QCheckBox,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QWidget,
)

from thresher.app.report_apart import (
    HistoryRequest,
    MadeReport,
    ReportRequest,
    make_report,
    read_history,
)
from thresher.model.decisions import culprit_words
from thresher.model.errors import ThresherError
from thresher.model.job import TEXTS
from thresher.report.files import INVOICE
from thresher.report.history import MachineHistory
from thresher.report.sections import USUAL, Choice, Reader
from thresher.seal.seal import NewSeal
from thresher.shop.details import ShopDetails, keep_details, read_details
from thresher.ui.background import in_background
from thresher.ui.form import Panel, form_style
from thresher.ui.look import Look
from thresher.ui.state import BenchState
from thresher.ui.stations.handover.details_dialog import DetailsDialog
from thresher.ui.stations.handover.history_view import HistoryView
from thresher.ui.stations.handover.page_view import PageView
from thresher.ui.stations.handover.printing import print_pdf, printer_for
from thresher.ui.stations.handover.seal_view import SealView
from thresher.ui.stations.handover.sections_list import SectionsList
from thresher.ui.stations.handover.text_editor import TextEditor

_WAIT_MS = 350
_READERS = ((Reader.CUSTOMER, "Customer"), (Reader.SHOP, "Shop"), (Reader.SUPPLIER, "Supplier"))
_REPORTS = "PDF (*.pdf);;HTML in one file (*.html)"
_DATA = (
    f"Invoice lines (*{INVOICE});;Readings as CSV (*.csv);;Readings as JSON Lines (*.jsonl);;"
    "Readings as Parquet (*.parquet);;Everything as JSON (*.json)"
)


@dataclass(frozen=True, slots=True)
class _Preview:
    """A preview as it came: what was asked, the pages, and what is known beside them."""

    request: ReportRequest
    pdf: bytes
    made: MadeReport


class HandoverStation(QWidget):
    """The whole station. `text_wanted` brings a field of the job and its text, `seal_wanted` a new seal to keep,
    `cause_wanted` that the actual cause be asked, `visit_wanted` the path of an earlier job,
    `said` what went wrong, `done` what was done."""

    text_wanted = pyqtSignal(str, str)
    seal_wanted = pyqtSignal(object)
    cause_wanted = pyqtSignal()
    visit_wanted = pyqtSignal(str)
    said = pyqtSignal(str)
    done = pyqtSignal(str)

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Lay the station out."""
        super().__init__(parent)
        self._state, self._look = state, look
        self._details = ShopDetails()
        self._shown_for: tuple[object, ...] | None = None
        self._history_for: tuple[object, ...] | None = None
        self._job = ""
        self._wanted: ReportRequest | None = None
        self._running = False
        self.preview: _Preview | None = None
        self.sections = SectionsList(look, self)
        self.sections.changed.connect(self.refresh)
        self.texts = TextEditor(self)
        self.texts.changed.connect(self._text_changed)
        self.pages = PageView(look, self)
        self.seal = SealView(state, look, self)
        self.history = HistoryView(state, look, self)
        self.history.visit_wanted.connect(self.visit_wanted)
        self.readers: dict[Reader, QPushButton] = {}
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(_WAIT_MS)
        self._later.timeout.connect(self.refresh)
        self._lay_out()
        state.refreshed.connect(self._follow)
        state.machine_changed.connect(self._follow)
        look.changed.connect(self._restyle)
        self._restyle()
        self.pages.say("The report appears here.")

    # ---- layout

    def _lay_out(self) -> None:
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 8, 12, 8)
        row.setSpacing(8)
        row.addWidget(self._left())
        row.addWidget(self.pages, 1)
        row.addWidget(self._right())

    def _left(self) -> Panel:
        left = Panel("What goes in", self._look, self)
        left.aside = "for whom"
        chips = QHBoxLayout()
        group = QButtonGroup(self)
        for reader, title in _READERS:
            chip = QPushButton(title, left)
            chip.setCheckable(True)
            chip.setObjectName(f"reader_{reader.value}")
            chip.setToolTip(f"Begin with what a {reader.value} gets")
            chip.clicked.connect(lambda _checked, each=reader: self.choose_reader(each))
            group.addButton(chip)
            chips.addWidget(chip)
            self.readers[reader] = chip
        self.readers[Reader.CUSTOMER].setChecked(True)
        self.serials = QCheckBox("Show serial numbers", left)
        self.serials.setObjectName("report_serials")
        self.serials.setToolTip("Serial numbers and addresses of parts are masked otherwise")
        self.serials.toggled.connect(lambda _on: self.refresh())
        left.column.addLayout(chips)
        left.column.addWidget(self.sections, 1)
        left.column.addWidget(self.serials)
        self.texts.setFixedHeight(158)
        left.column.addWidget(self.texts)
        left.setFixedWidth(262)
        return left

    def _right(self) -> Panel:
        right = Panel("Seal and files", self._look, self)
        right.column.addWidget(self.seal)
        self.buttons: dict[str, QPushButton] = {}
        rows = (
            ("print", "Print…", "Seal the report and print it", self.ask_print),
            ("save", "Save report…", "Seal the report and save it as PDF or HTML", self.ask_report),
            ("data", "Save data…", "Invoice lines, readings or findings for another program", self.ask_data),
            ("details", "Shop details…", "Name, address, tax, currency and paper of the shop", self.ask_details),
        )
        for number in range(0, len(rows), 2):
            line = QHBoxLayout()
            for name, title, about, do in rows[number : number + 2]:
                line.addWidget(self._button(right, name, title, about, do), 1)
            right.column.addLayout(line)
        right.column.addWidget(QLabel("THIS MACHINE BEFORE", right))
        right.column.addWidget(self.history, 1)
        right.column.addWidget(QLabel("ACTUAL CAUSE", right))
        self.cause = QLabel("", right)
        self.cause.setWordWrap(True)
        right.column.addWidget(self.cause)
        close = self._button(
            right, "close", "Close job…", "Record what it really was, and close", self.cause_wanted.emit
        )
        right.column.addWidget(close)
        right.setFixedWidth(252)
        return right

    def _button(self, parent: QWidget, name: str, title: str, about: str, do: Callable[[], object]) -> QPushButton:
        button = QPushButton(title, parent)
        button.setObjectName(f"handover_{name}")
        button.setToolTip(about)
        button.clicked.connect(lambda _checked: do())
        self.buttons[name] = button
        return button

    def sizeHint(self) -> QSize:
        """As wide as the window's usual size."""
        return QSize(1180, 690)

    def _restyle(self) -> None:
        scheme = self._look.scheme
        self.setStyleSheet(form_style(scheme) + f"QCheckBox {{ color: {scheme.ink}; font-size: 12px; }}")

    # ---- what is shown

    def showEvent(self, event: QShowEvent | None) -> None:
        """Show the report as it is now."""
        super().showEvent(event)
        self._shown_for = self._history_for = None
        self._follow()

    def _follow(self) -> None:
        """Make the preview again when something that it prints has changed."""
        snapshot = self._state.snapshot
        if snapshot is None or not self.isVisible():
            return
        job = dict(self._state.job)
        if snapshot.job_file != self._job:
            self._job = snapshot.job_file
            self.texts.open_job({name: job.get(name, "") for name in TEXTS})
            self.preview = None
            self._read_details()
        fields = tuple(sorted((name, value) for name, value in job.items() if name not in TEXTS))
        run = self._state.run
        decisions = self._state.decided.decisions
        now = (self._job, run.run, str(run.state), fields, self._state.book, decisions)
        if now != self._shown_for:
            self._shown_for = now
            self._show_cause()
            if (self._job, decisions) != self._history_for:
                self._history_for = (self._job, decisions)
                self._read_history()
            self._later.start()

    def _show_cause(self) -> None:
        cause = self._state.decided.decisions.actual_cause
        words = "Not recorded yet: the job is open."
        if cause is not None:
            words = ", ".join(culprit_words(each) for each in cause.culprits) or "nothing faulty in the hardware"
            words = f"{words[:1].upper()}{words[1:]}. Job closed."
        self.cause.setText(words)
        self.buttons["close"].setText("Close job…" if cause is None else "Change…")

    @property
    def shop(self) -> str:
        """The folder of what the shop keeps."""
        return self._state.snapshot.shop if self._state.snapshot is not None else ""

    def _read_details(self) -> None:
        shop = self.shop
        if shop:
            in_background(self, lambda: read_details(Path(shop)), self._take_details, self._say_error)

    def _take_details(self, details: ShopDetails) -> None:
        paper_changed = details.paper is not self._details.paper
        self._details = details
        if paper_changed:
            self.refresh()

    def _read_history(self) -> None:
        request = HistoryRequest(self._job, self.shop)

        def take(found: MachineHistory) -> None:
            if request.job == self._job:
                self.history.show_history(found, request.job)

        in_background(self, lambda: read_history(request), take, lambda error: self.history.say(str(error)))

    def choose_reader(self, reader: Reader) -> None:
        """Begin with what a reader gets."""
        self.readers[reader].setChecked(True)
        self.sections.choose(USUAL[reader])
        self.serials.blockSignals(True)
        self.serials.setChecked(reader is not Reader.CUSTOMER)
        self.serials.blockSignals(False)
        self.refresh()

    @property
    def choice(self) -> Choice:
        """What goes in, as it is chosen now."""
        reader = next(each for each, chip in self.readers.items() if chip.isChecked())
        return Choice(reader, self.sections.chosen(), self.serials.isChecked(), self._details.paper)

    def _text_changed(self, name: str, text: str) -> None:
        self.text_wanted.emit(name, text)
        self.refresh()

    @property
    def idle(self) -> bool:
        """Whether nothing is being laid out or waits for it."""
        return not self._running and self._wanted is None and not self._later.isActive()

    def request(self, out: str, preview: bool) -> ReportRequest:
        """Return what is to be made as it is chosen now, written to `out`."""
        expected = "" if preview or self.preview is None else self.preview.made.digest
        return ReportRequest(self._job, self.shop, self.choice, out, preview, self.texts.typed(), expected)

    def refresh(self) -> None:
        """Make the preview again; while one is being made only the newest wish is kept."""
        if not self._job or not self.isVisible():
            return
        self._later.stop()
        self._wanted = self.request("preview.pdf", preview=True)
        self._make_next()

    def _make_next(self) -> None:
        request = self._wanted
        if self._running or request is None:
            return
        self._running = True
        if self.preview is None:
            self.pages.say("Laying out the pages…")
        in_background(
            self,
            lambda: make_preview(request),
            lambda found: self._take(request, found),
            lambda error: self._take_error(request, error),
        )

    def _take(self, request: ReportRequest, found: _Preview) -> None:
        self._running = False
        if request is self._wanted:
            self._wanted = None
            self.preview = found
            self.pages.show_pdf(found.pdf)
            self.sections.set_notes(found.made.notes)
            self.texts.set_proposed(found.made.proposed)
            self.seal.show_seal(found.made.state)
        self._make_next()

    def _take_error(self, request: ReportRequest, error: ThresherError) -> None:
        self._running = False
        if request is self._wanted:
            self._wanted = None
            self.preview = None
            self.pages.say(str(error).replace("\n", " "))
        self._make_next()

    def _say_error(self, error: ThresherError) -> None:
        self.said.emit(str(error))

    # ---- files

    def _suggested(self, ending: str) -> str:
        number = self._state.job.get("number") or "job"
        return str(Path.home() / f"report-{number}{ending}".replace("/", "-"))

    def ask_report(self) -> None:
        """Let a person choose a file for the report, and write it sealed."""
        name, kind = QFileDialog.getSaveFileName(self, "Save report", self._suggested(".pdf"), _REPORTS)
        if name:
            self.write(_with_ending(name, (".pdf", ".html"), ".html" if "html" in kind else ".pdf"))

    def ask_data(self) -> None:
        """Let a person choose a file for readings, findings or the lines of the bill."""
        name, kind = QFileDialog.getSaveFileName(self, "Save data", self._suggested(INVOICE), _DATA)
        endings = (INVOICE, ".csv", ".jsonl", ".parquet", ".json")
        chosen = next((each for each in endings if f"*{each})" in kind), INVOICE)
        if name:
            self.write(_with_ending(name, endings, chosen))

    def write(self, out: Path) -> None:
        """Write a report or data into a file, and keep the seal that it was given."""
        self.texts.flush()
        request = self.request(str(out), preview=False)

        def done(made: MadeReport) -> None:
            self._take_seal(made.seal)
            sealed = f", seal {made.seal.seal.code}" if made.seal is not None else ""
            self.done.emit(f"Written: {out}{sealed}")

        in_background(self, lambda: make_report(request), done, self._failed)

    def _take_seal(self, seal: NewSeal | None) -> None:
        if seal is not None:
            self.seal_wanted.emit(seal)
            self._later.start()

    def _failed(self, error: ThresherError) -> None:
        self._say_error(error)
        self.refresh()

    def ask_print(self) -> None:
        """Seal the report, ask for a printer, and print."""
        self.texts.flush()
        request = self.request("print.pdf", preview=False)
        in_background(self, lambda: make_preview(request), self._ask_printer, self._failed)

    def _ask_printer(self, found: _Preview) -> None:
        printer = printer_for(found.request.choice.paper)
        dialog = QPrintDialog(printer, self)
        dialog.setObjectName("print_dialog")
        dialog.accepted.connect(lambda: self.print_sealed(found, printer))
        dialog.open()

    def print_sealed(self, found: _Preview, printer: QPrinter) -> None:
        """Print a sealed report beside the window, since a spooler may take its time, and keep its seal."""

        def done(pages: int) -> None:
            self._take_seal(found.made.seal)
            self.done.emit(f"Printed: {pages} page{'' if pages == 1 else 's'}")

        self.done.emit("Printing…")
        in_background(self, lambda: print_pdf(found.pdf, printer), done, self._say_error)

    def ask_details(self) -> DetailsDialog:
        """Ask for the shop's details."""
        dialog = DetailsDialog(self._details, self._look.scheme, self)
        dialog.wanted.connect(self.keep_details)
        dialog.open()
        return dialog

    def keep_details(self, details: ShopDetails) -> None:
        """Keep the shop's details and print by them."""
        shop = self.shop
        if not shop:
            self.said.emit("This bench keeps nothing of its shop: start it with a shop folder.")
            return

        def done(kept: ShopDetails) -> None:
            self._details = kept
            self.refresh()

        in_background(self, lambda: keep_details(Path(shop), details), done, self._say_error)


def _with_ending(name: str, endings: tuple[str, ...], usual: str) -> Path:
    return Path(name if name.endswith(endings) else f"{name}{usual}")


def make_preview(request: ReportRequest) -> _Preview:
    """Make the pages of a request in a folder of their own and return them."""
    with tempfile.TemporaryDirectory(prefix="thresher-report-") as folder:
        out = Path(folder) / request.out
        made = make_report(_to(request, str(out)))
        return _Preview(request, out.read_bytes(), made)


def _to(request: ReportRequest, out: str) -> ReportRequest:
    return ReportRequest(
        request.job, request.shop, request.choice, out, request.preview, request.typed, request.expected
    )
