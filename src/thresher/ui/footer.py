"""The line at the bottom: workers, sampling, the age of the last row on disk, access; or what went wrong."""

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QMouseEvent, QPainter
from PyQt6.QtWidgets import QWidget

from thresher.model.access import AccessLevel
from thresher.model.run_states import RunState
from thresher.ui.look import Look, draw_text
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState


def _at_work(state: BenchState) -> str:
    run, scan = state.run, state.scan
    if run.workers_started:
        workers = f"{run.workers_running} of {run.workers_started} load workers running"
    elif run.state is RunState.ENDED:
        workers = f"run {run.ending}: {run.outcome}, every worker has ended"
    else:
        workers = "no load worker running"
    return f"{workers} · read scan of {scan.drive}" if scan is not None and scan.running else workers


def footer_text(state: BenchState) -> str:
    """Return the sentence of the footer."""
    run, health = state.run, state.health
    if health is None:
        return "the engine is starting"
    words = [_at_work(state), f"{health.channels} channels at {health.interval_s:g} s"]
    if state.snapshot is not None and state.snapshot.kind == "stored job":
        return " · ".join(words)
    words.append(f"sampling costs {health.sampling_share:.2%} of a core".replace("%", " %"))
    if health.kernels:
        words.append(health.kernels)
    if health.late:
        words.append(f"{health.late} late ticks")
    if health.trouble:
        words.append(f"job file not written: {health.trouble}, {health.rows_waiting} rows wait")
    elif run.run is not None and health.row_age_s is not None and state.active:
        words.append(f"last row safe on disk {health.row_age_s:.1f} s ago")
    unread = len(state.snapshot.unknown) if state.snapshot else 0
    if unread:
        words.append(f"{unread} sources not read (Ctrl+U)")
    return " · ".join(words)


def access_text(state: BenchState) -> str:
    """Return what the footer says of the access to the machine."""
    if state.snapshot is None:
        return ""
    if state.snapshot.kind == "stored job":
        return "stored job, read only"
    if state.access.asking:
        return "asking for access"
    access = state.access.access
    if access.level is not AccessLevel.PARTIAL:
        return access.level.value
    first, *more = access.missing
    return f"{access.level.value} (missing: {first.words}{f', {len(more)} more' if more else ''})"


def _about_access(state: BenchState) -> str:
    access = state.access.access
    missing = [f"{each.words}: {each.brings}" for each in access.missing]
    if not missing:
        return "All that can be read and tested here is open."
    click = "Click to have an administrator asked for it." if access.can_ask else "Click to see what would give it."
    return "\n".join(["Missing:", *missing, click])


class Footer(PaintedWidget):
    """One line, always there. A click on its right end is for the access to the machine."""

    access_clicked = pyqtSignal()

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Keep one height."""
        super().__init__(state, look, "Status line", parent)
        self.setFixedHeight(26)
        self._access_area = QRectF()

    def draw(self, painter: QPainter) -> None:
        """Draw the sentence, or the trouble."""
        scheme, state = self.look.scheme, self.state
        painter.fillRect(self.rect(), QColor(scheme.rail))
        access = access_text(state)
        right = self.width() - 14.0
        wide = draw_text(painter, QPointF(right, 17), access, scheme.soft, 11.5, right=True)
        text = state.trouble.replace("\n", " ") or footer_text(state)
        bad = (state.trouble and not state.trouble_is_news) or (state.health and state.health.trouble)
        colour = scheme.fault if bad else scheme.ink if state.trouble else scheme.soft
        draw_text(painter, QPointF(14, 17), text, colour, 11.5, width=right - wide - 40)
        self.spots.append(Spot(QRectF(self.rect()), state.trouble or text.replace(" · ", "\n")))
        self._access_area = QRectF(right - wide - 8, 0, wide + 22, self.height())
        self.spots.append(Spot(self._access_area, _about_access(state)))
        self.setAccessibleDescription(f"{text} · {access}")

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """A click on the access asks for more, or says what there is."""
        left = event is not None and event.button() is Qt.MouseButton.LeftButton
        if left and event is not None and self._access_area.contains(event.position()):
            self.access_clicked.emit()
