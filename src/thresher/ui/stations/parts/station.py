"""The Parts station: suspects with their reasons, the decision with its costs, the book of trials."""

from dataclasses import replace

from PyQt6.QtCore import QSize, pyqtSignal
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget

from thresher.model.parts import PartKind
from thresher.model.trials import ALL_SETTINGS, Configuration, NextTrial, Stint
from thresher.ui.form import Panel, form_style, scrolled
from thresher.ui.look import Look
from thresher.ui.state import BenchState
from thresher.ui.stations.parts.actual_cause_dialog import ActualCauseDialog
from thresher.ui.stations.parts.closed_dialog import ClosedJobsDialog
from thresher.ui.stations.parts.decision_panel import DecisionPanel
from thresher.ui.stations.parts.new_part_dialog import NewPartDialog
from thresher.ui.stations.parts.outcome_dialog import OutcomeDialog
from thresher.ui.stations.parts.question_bar import QuestionBar
from thresher.ui.stations.parts.record_bar import RecordBar
from thresher.ui.stations.parts.runs_dialog import RunsDialog
from thresher.ui.stations.parts.suspects_panel import SuspectsPanel
from thresher.ui.stations.parts.trials_panel import TrialsPanel

_UPPER, _UPPER_MOST = 300, 430
_BOOK_EDGES = 96
"""Height of the book of trials beside its rows: title, buttons and margins."""
_STOCK_STEPS = ((), ALL_SETTINGS, *((kind,) for kind in ALL_SETTINGS))
"""What each press of the button sets back: all settings, then one at a time."""
_CLEANED = (PartKind.COOLING, PartKind.GRAPHICS)
_SEATED = (PartKind.MEMORY, PartKind.BOARD, PartKind.DRIVE, PartKind.POWER, PartKind.DISPLAY)
"""What is reseated in one go: modules, cards and plugs."""
_TIPS = {
    "begin_trial": "Save this configuration; new runs are logged to it",
    "trial_stock": "Clocks, voltages, memory profile, graphics clocks and driver back to stock; again: only clocks and"
    " voltages; again: only the memory profile; again: only the card's; again: as they were",
    "trial_cleaned": "Heatsink, fans and the graphics card's cooler cleaned, in the dashed row",
    "trial_seated": "Modules, cards and plugs reseated, drives and displays on other cables, in the dashed row",
    "trial_for_good": "Permanent change: parts removed or fixed no longer count in the decision",
    "new_part": "Add a part that was bought for this job",
    "trial_outcome": "Add a result from elsewhere (other bench, customer, no POST)",
    "trial_undo": "Undo the last change of the book",
}


class PartsStation(QWidget):
    """The whole station. Its signals carry what a person wants of the engine; nothing is decided here.

    `trial_wanted` brings title, configuration, the loads of the proposed trial with their minutes, if any, and
    whether the machine is to stay so; `part_wanted` a new part; `outcome_wanted` the number of a trial and its
    outcome; `actual_cause_wanted` the actual cause; `runs_assigned` a run and a trial; `job_counts` a closed job and
    whether it counts."""

    trial_wanted = pyqtSignal(str, object, object, bool)
    part_wanted = pyqtSignal(object)
    outcome_wanted = pyqtSignal(int, object)
    undo_wanted = pyqtSignal()
    actual_cause_wanted = pyqtSignal(object)
    runs_assigned = pyqtSignal(int, int)
    job_counts = pyqtSignal(str, bool)
    reopen_wanted = pyqtSignal()

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Lay the station out."""
        super().__init__(parent)
        self._state, self._look = state, look
        self._stints: tuple[Stint, ...] = ()
        self._picked: int | None = None
        suspects = Panel("Suspects", look, self)
        suspects.aside = "evidence weight in decibans"
        self.suspects = SuspectsPanel(state, look, suspects)
        suspects.column.addWidget(scrolled(self.suspects, suspects), 1)
        self.decision = DecisionPanel(state, look, self)
        book = Panel("Trials", look, self)
        book.aside = "solid: the customer's part, dashed: the shop's"
        self.trials = TrialsPanel(state, look, book)
        self.questions = QuestionBar(state, look, book)
        book.column.addWidget(self.questions)
        book.column.addWidget(scrolled(self.trials, book), 1)
        book.column.addLayout(self._make_buttons(book))
        upper = QHBoxLayout()
        upper.setSpacing(8)
        upper.addWidget(suspects, 11)
        upper.addWidget(self.decision, 10)
        self._upper = (suspects, self.decision)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 8, 12, 8)
        column.setSpacing(8)
        column.addLayout(upper)
        self.record = RecordBar(state, look, self)
        self._book = book
        column.addWidget(book, 1)
        column.addWidget(self.record)
        self.decision.wanted.connect(self.set_up)
        self.trials.changed.connect(self._update_buttons)
        self.trials.chosen.connect(self._choose)
        self.record.actual_cause_wanted.connect(self.ask_actual_cause)
        self.record.closed_wanted.connect(self.show_closed)
        self.record.runs_wanted.connect(self.show_runs)
        state.refreshed.connect(self._update_buttons)
        state.refreshed.connect(self._share_height)
        look.changed.connect(self._restyle)
        self._restyle()
        self._update_buttons()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Share the height anew."""
        super().resizeEvent(event)
        self._share_height()

    def _share_height(self) -> None:
        """Give suspects and decision what the book of trials leaves, within what they can use."""
        book = (
            self.trials.minimumHeight() + _BOOK_EDGES + (self.questions.height() if self.questions.isVisible() else 0)
        )
        upper = min(_UPPER_MOST, max(_UPPER, self.height() - self.record.height() - book - 32))
        for each in self._upper:
            if each.height() != upper:
                each.setFixedHeight(upper)

    def _make_buttons(self, parent: QWidget) -> QHBoxLayout:
        self.title = QLineEdit(parent)
        self.title.setObjectName("trial_title")
        self.title.setAccessibleName("What was changed")
        self.title.setPlaceholderText("what was changed; leave empty for the default text")
        row = QHBoxLayout()
        row.addWidget(QLabel("Next trial", parent))
        row.addWidget(self.title, 1)
        self.stock = self._button("Settings to stock", "trial_stock", self._toggle_stock, row)
        self.cleaned = self._button("Cleaned", "trial_cleaned", lambda: self._toggle_treated(*_CLEANED), row)
        self.seated = self._button("Reseated", "trial_seated", lambda: self._toggle_treated(*_SEATED), row)
        self.for_good = self._button("Keep this change", "trial_for_good", self._update_buttons, row)
        for each in (self.stock, self.cleaned, self.seated, self.for_good):
            each.setCheckable(True)
        self.begin = self._button("Save configuration", "begin_trial", self._begin, row)
        row.addWidget(QLabel("   Book", parent))
        self.new_part = self._button("Add part…", "new_part", self.ask_new_part, row)
        self.outcome = self._button("Record outcome…", "trial_outcome", self.ask_outcome, row)
        self.undo = self._button("Undo", "trial_undo", self.undo_wanted.emit, row)
        return row

    def _button(self, text: str, name: str, slot: object, row: QHBoxLayout) -> QPushButton:
        button = QPushButton(text, self)
        button.setObjectName(name)
        button.setAccessibleName(text)
        button.setToolTip(_TIPS[name])
        button.clicked.connect(slot)  # type: ignore[arg-type]  # PyQt6 takes any callable
        row.addWidget(button)
        return button

    def sizeHint(self) -> QSize:
        """As wide as the window's usual size."""
        return QSize(1180, 690)

    def _restyle(self) -> None:
        self.setStyleSheet(form_style(self._look.scheme))

    def _update_buttons(self) -> None:
        configuration, trials = self.trials.planned(), self._state.book.trials
        kept = self.for_good.isChecked() and bool(trials)
        self.begin.setEnabled((self.trials.differs() or kept) and not self._state.active)
        self.begin.setToolTip(
            "" if self.trials.differs() else "Change the dashed row first: it is the same as the last trial"
        )
        self.outcome.setEnabled(bool(trials))
        self.for_good.setEnabled(bool(trials))
        self.new_part.setEnabled(bool(trials))
        for button, on in (
            (self.stock, configuration is not None and bool(configuration.stock)),
            (self.cleaned, configuration is not None and all(kind.value in configuration.treated for kind in _CLEANED)),
            (self.seated, configuration is not None and all(kind.value in configuration.treated for kind in _SEATED)),
        ):
            button.setChecked(on)
            button.setEnabled(configuration is not None)

    def _toggle_stock(self) -> None:
        configuration = self.trials.planned()
        if configuration is not None:
            at = _STOCK_STEPS.index(configuration.stock) if configuration.stock in _STOCK_STEPS else 0
            self.trials.plan(replace(configuration, stock=_STOCK_STEPS[(at + 1) % len(_STOCK_STEPS)]))

    def _toggle_treated(self, *kinds: PartKind) -> None:
        configuration = self.trials.planned()
        if configuration is not None:
            names = tuple(kind.value for kind in kinds)
            on = all(name in configuration.treated for name in names)
            treated = tuple(each for each in configuration.treated if each not in names) + (() if on else names)
            self.trials.plan(Configuration(configuration.tags, configuration.places, configuration.stock, treated))

    def set_up(self, trial: NextTrial) -> None:
        """Fill the row of the next trial with the proposed one, and its words."""
        self._stints = trial.stints
        self.title.setText(trial.candidate.title)
        self.trials.plan(trial.candidate.configuration)
        last = self._state.book.trials[-1].configuration if self._state.book.trials else None
        if trial.candidate.configuration == last:  # the same again needs no other configuration, only its sheet
            self.trial_wanted.emit(trial.candidate.title, trial.candidate.configuration, trial.stints, False)
            self._done()

    def _begin(self) -> None:
        configuration, trials = self.trials.planned(), self._state.book.trials
        if configuration is None or not trials:
            return
        title = self.title.text().strip() or change_words(trials[-1].configuration, configuration)
        self.trial_wanted.emit(title, configuration, self._stints, self.for_good.isChecked())
        self._done()

    def _done(self) -> None:
        self._stints = ()
        self.for_good.setChecked(False)
        self.title.clear()
        self.trials.plan(None)

    def _choose(self, number: int) -> None:
        self._picked = number

    def ask_new_part(self) -> NewPartDialog:
        """Ask for a part that was bought for this job."""
        dialog = NewPartDialog(self._state.book, self._look.scheme, self)
        dialog.accepted.connect(lambda: self.part_wanted.emit(dialog.answer()))
        dialog.open()
        return dialog

    def ask_actual_cause(self) -> ActualCauseDialog:
        """Ask the actual cause."""
        dialog = ActualCauseDialog(self._state, self._look.scheme, self)
        dialog.accepted.connect(lambda: self.actual_cause_wanted.emit(dialog.answer()))
        dialog.open()
        return dialog

    def show_closed(self) -> ClosedJobsDialog:
        """Show the shop's closed jobs and what they change."""
        dialog = ClosedJobsDialog(self._state, self._look.scheme, self)
        dialog.counting.connect(self.job_counts.emit)
        dialog.reopen_wanted.connect(self.reopen_wanted.emit)
        dialog.open()
        return dialog

    def show_runs(self) -> RunsDialog:
        """Let runs be assigned to other trials."""
        dialog = RunsDialog(self._state, self._look.scheme, self)
        dialog.assigned.connect(self.runs_assigned.emit)
        dialog.open()
        return dialog

    def ask_outcome(self) -> OutcomeDialog | None:
        """Ask how the chosen trial, or the last one, ended."""
        trials = self._state.book.trials
        if not trials:
            return None
        number = self._picked if self._picked is not None and self._picked < len(trials) else len(trials) - 1
        dialog = OutcomeDialog(trials[number], self._look.scheme, self)
        dialog.accepted.connect(lambda: self.outcome_wanted.emit(number, dialog.answer()))
        dialog.open()
        return dialog


def change_words(before: Configuration, after: Configuration) -> str:
    """Return the usual words for a change of the configuration."""
    out = [tag for tag in before.tags if tag not in after.tags]
    into = [tag for tag in after.tags if tag not in before.tags]
    if into and out:
        return f"{', '.join(into)} in place of {', '.join(out)}"
    if into or out:
        return f"{', '.join(into or out)} {'installed' if into else 'removed'}"
    if after.stock != before.stock:
        return "Settings back to stock" if after.stock else "Settings as found"
    if after.places != before.places:
        return "Parts moved"
    return "Cleaned or reseated" if after.treated != before.treated else "The same again"
