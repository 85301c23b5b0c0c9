"""The decision: what to do, what it costs, what being wrong would cost; and the best next test."""

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QPainter, QPen, QResizeEvent
from PyQt6.QtWidgets import QPushButton, QWidget

from thresher.model.trials import NextTrial
from thresher.model.verdict import Act, Advice, Course, percent
from thresher.ui.look import Look, draw_text, panel, wrap
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState

_ACTS = 3
_TRIAL_HIGH = 98.0
_ACT_HIGH = 21.0
_SURE = 0.9


class DecisionPanel(PaintedWidget):
    """`wanted` carries the proposed trial that is to be set up."""

    wanted = pyqtSignal(object)

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Show nothing yet."""
        super().__init__(state, look, "Decision", parent)
        self.set_up = QPushButton("Set up test", self)
        self.set_up.setObjectName("set_up_trial")
        self.set_up.setAccessibleName("Set up the proposed test")
        self.set_up.setToolTip("Fill the dashed row with this configuration; its sheet comes with it")
        self.set_up.setCursor(Qt.CursorShape.PointingHandCursor)
        self.set_up.clicked.connect(self._want)
        state.refreshed.connect(self._show_button)
        self._show_button()

    def proposed(self) -> NextTrial | None:
        """Return the most informative trial, None when none is known."""
        verdict = self.state.verdict
        return verdict.next_trials[0] if verdict is not None and verdict.next_trials else None

    def _want(self) -> None:
        trial = self.proposed()
        if trial is not None:
            self.wanted.emit(trial)

    def _show_button(self) -> None:
        self.set_up.setVisible(self.proposed() is not None)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Keep the button in the corner of the trial."""
        super().resizeEvent(event)
        self.set_up.setGeometry(self.width() - 130, self.height() - 44, 110, 26)

    def draw(self, painter: QPainter) -> None:
        """Draw sentence, acts and trial."""
        scheme, verdict = self.look.scheme, self.state.verdict
        own = verdict is not None and verdict.own_prices
        panel(painter, QRectF(self.rect()), scheme, "Decision", "the shop's prices" if own else "default prices")
        if verdict is None:
            draw_text(painter, QPointF(14, 52), "Waiting for evidence.", scheme.soft, 13)
            return
        lines = wrap(verdict.sentence, 14.5, self.width() - 28.0, 2)
        for number, line in enumerate(lines):
            draw_text(painter, QPointF(14, 46 + 18 * number), line, scheme.ink, 14.5, bold=True)
        if verdict.advice is not None:
            y = 46.0 + 18 * len(lines)
            words = course_words(verdict.advice)
            painter.fillRect(QRectF(14, y - 10, 4, 12), QColor(scheme.straw))
            draw_text(painter, QPointF(24, y), words, scheme.ink, 12.5, width=self.width() - 40.0)
            self.spots.append(Spot(QRectF(10, y - 14, self.width() - 20.0, 18), verdict.advice.sentence))
        advised = verdict.advice.act if verdict.advice is not None else None
        top = 68.0 + 18 * len(lines)
        room = int((self.height() - _TRIAL_HIGH - 22 - top) // _ACT_HIGH)
        self._draw_acts(painter, verdict.acts[: max(_ACTS, room)], advised, top)
        self._draw_trial(painter)

    def _draw_acts(self, painter: QPainter, acts: tuple[Act, ...], advised: Act | None, y: float) -> None:
        scheme, right = self.look.scheme, self.width() - 14.0
        if not acts:
            draw_text(painter, QPointF(14, y + 14), "Nothing to weigh before there is evidence.", scheme.soft, 12)
            return
        columns = (right - 212, right - 148, right - 96)
        for x, words in zip(columns, ("time", "parts", "fixes it"), strict=True):
            draw_text(painter, QPointF(x, y), words, scheme.soft, 10.5, right=True)
        draw_text(painter, QPointF(right, y), "cost if wrong", scheme.soft, 10.5, right=True)
        dearest = max(each.risk for each in acts) or 1.0
        for number, act in enumerate(acts):
            line = y + 20 + _ACT_HIGH * number
            words = act.words[:1].upper() + act.words[1:]
            draw_text(painter, QPointF(14, line), words, scheme.ink, 12.5, bold=act == advised, width=columns[0] - 70)
            for x, text in zip(
                columns, (f"{act.minutes:.0f} min", f"{act.price:.0f}", percent(act.fix_probability)), strict=True
            ):
                draw_text(painter, QPointF(x, line), text, scheme.ink, 12, right=True)
            wide = 46.0 * act.risk / dearest
            painter.fillRect(QRectF(right - 84, line - 9, max(2.0, wide), 9), QColor(scheme.fault))
            draw_text(painter, QPointF(right, line), f"{act.risk:.0f}", scheme.soft, 11, right=True)
            summary = (
                f"{words}: {act.price:.0f} for parts, {act.minutes:.0f} min of bench time, and {act.risk:.0f} for the"
                f" {percent(1.0 - act.fix_probability)} chance that a fault is left: a comeback and the right repair."
                f"\nExpected cost {act.expected:.0f}."
            )
            self.spots.append(Spot(QRectF(10, line - 15, right - 10, 21), summary))

    def _draw_trial(self, painter: QPainter) -> None:
        scheme, trial = self.look.scheme, self.proposed()
        area = QRectF(10, self.height() - _TRIAL_HIGH - 10, self.width() - 20.0, _TRIAL_HIGH)
        painter.fillRect(area, QColor(scheme.rail))
        painter.setPen(QPen(QColor(scheme.rule), 1))
        painter.drawRect(area)
        draw_text(painter, QPointF(area.x() + 12, area.y() + 18), "BEST NEXT TEST", scheme.soft, 10.5, bold=True)
        if trial is None:
            words = why_no_trial(self.state)
            draw_text(painter, QPointF(area.x() + 12, area.y() + 42), words, scheme.ink, 12, width=area.width() - 24)
            return
        gain = f"{trial.minutes:.0f} min" if trial.proof else f"{trial.gain:.2f} bit for {trial.minutes:.0f} min"
        draw_text(painter, QPointF(area.right() - 12, area.y() + 18), gain, scheme.soft, 11, right=True)
        what = trial.loads or "see whether it starts"
        heads = wrap(f"{trial.candidate.title}: {what}", 13, area.width() - 24, 2)
        for number, line in enumerate(heads):
            draw_text(painter, QPointF(area.x() + 12, area.y() + 38 + 16 * number), line, scheme.ink, 13, bold=True)
        top = area.y() + 40 + 16 * len(heads)
        for number, line in enumerate(wrap(why_trial(trial), 11.5, area.width() - 150, 3 - len(heads) // 2)):
            draw_text(painter, QPointF(area.x() + 12, top + 15 * number), line, scheme.soft, 11.5)
        self.spots.append(Spot(area, trial.sentence))


def why_trial(trial: NextTrial) -> str:
    """Say what each ending of a trial would mean."""
    if trial.proof:
        return "A fault that is still there would show. If it passes: return to customer."
    if not trial.stints:
        return f"If it does not start: {trial.if_found}. If it starts: {trial.if_clean}"
    return f"If it fails: {trial.if_found}. If it passes: {trial.if_clean}"


def course_words(advice: Advice) -> str:
    """Say in a few words how to continue."""
    if advice.course is Course.TRY:
        return "Too early to buy anything: run the test below first"
    if advice.course is Course.PROVE:
        return "Verify before returning it: run the test below"
    return advice.sentence


def why_no_trial(state: BenchState) -> str:
    """Say why no trial is proposed."""
    acts = state.verdict.acts if state.verdict is not None else ()
    if not acts:
        return "The best next test is shown here once there is evidence."
    if acts[0].fix_probability >= _SURE:
        return "No test needed: what to do is as sure as a swap would make it."
    return "No test with the parts here is worth its time."
