"""The band on top: job, symptoms, machine clock with its sweep, and Start and Stop in their one place."""

from datetime import datetime

from PyQt6.QtCore import QPointF, QRectF, Qt, QTimer
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QWidget

from thresher.ui.look import Look, draw_text, text_width
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState
from thresher.ui.theme import font

_SWEEP_BARS = 24
_SWEEP_MS = 120


class _BandCentre(PaintedWidget):
    """Job, symptoms and clock. The sweep is moved by the window's own timer: it stops when the machine does."""

    def __init__(self, state: BenchState, look: Look, parent: QWidget) -> None:
        super().__init__(state, look, "Job and machine clock", parent)
        self._sweep = 0
        self._timer = QTimer(self)
        self._timer.setInterval(_SWEEP_MS)
        self._timer.timeout.connect(self._move)
        self._timer.start()

    def _move(self) -> None:
        self._sweep = (self._sweep + 1) % _SWEEP_BARS
        self.update(QRectF(self.width() - 250, 0, 250, self.height()).toRect())

    def draw(self, painter: QPainter) -> None:
        """Draw job, chips, clock and sweep."""
        scheme, snapshot = self.look.scheme, self.state.snapshot
        middle = self.height() / 2
        painter.setPen(QPen(QColor(scheme.band_soft), 1))
        painter.drawLine(QPointF(0, 12), QPointF(0, self.height() - 12))
        clock_left = self.width() - 236.0
        job = self.state.job
        title = job.get("machine", "") or (snapshot.machine.name if snapshot else "starting the engine")
        number = f"Job {job['number']}" if job.get("number") else "Job without a number"
        draw_text(painter, QPointF(16, middle - 6), number, scheme.band_soft, 11.5)
        wide = draw_text(painter, QPointF(16, middle + 13), title, scheme.band_ink, 13.5, bold=True, width=300)
        x = 16 + max(wide, 120) + 26
        chips = [(symptom, False) for symptom in self.state.symptoms]
        if snapshot and snapshot.machine.simulated:
            pace = f", {snapshot.speed:g}× speed" if snapshot.kind == "simulated" else ""
            chips.insert(0, (f"simulated machine{pace}", True))
        for text, dashed in chips:
            chip_wide = text_width(text, 11.5) + 26
            if x + chip_wide > clock_left - 12:
                break
            area = QRectF(x, middle - 11, chip_wide, 22)
            colour = QColor(scheme.band_mark if dashed else scheme.band_soft)
            painter.setPen(QPen(colour, 1.2, Qt.PenStyle.DashLine if dashed else Qt.PenStyle.SolidLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(area, 11, 11)
            draw_text(painter, QPointF(x + 13, middle + 4), text, colour if dashed else scheme.band_ink, 11.5)
            if dashed:
                self.spots.append(
                    Spot(area, "This machine is simulated. Its heat, readings, log lines and faults come from a model.")
                )
            x += chip_wide + 10
        self._draw_clock(painter, clock_left, middle)

    def _draw_clock(self, painter: QPainter, left: float, middle: float) -> None:
        scheme, tick = self.look.scheme, self.state.tick
        draw_text(painter, QPointF(left, middle - 8), "machine clock", scheme.band_soft, 11)
        wall = tick.wall if tick and tick.wall else 0.0
        if tick and not wall and self.state.snapshot:
            wall = tick.at + self.state.snapshot.wall_offset
        text = f"{datetime.fromtimestamp(wall).astimezone():%H:%M:%S}" if wall else "--:--:--"
        draw_text(painter, QPointF(left, middle + 14), text, scheme.band_ink, 18, bold=True, mono=True)
        for bar in range(_SWEEP_BARS):
            x = left + 112 + bar * 5
            here = bar == self._sweep
            painter.fillRect(
                QRectF(x, middle - (12 if here else 7), 2, 24 if here else 14),
                QColor(scheme.band_mark if here else scheme.band_soft),
            )
        self.spots.append(
            Spot(
                QRectF(left, 0, 236, self.height()),
                "The clock of the machine under test. The sweep stops when this window freezes.",
            )
        )


class Band(QWidget):
    """Wordmark with the menu, the centre, and the one button that starts or stops."""

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Lay the band out."""
        super().__init__(parent)
        self._state = state
        self._look = look
        self.setFixedHeight(52)
        self.menu_button = QPushButton("THRESHER", self)
        self.menu_button.setObjectName("menu_button")
        self.menu_button.setAccessibleName("Menu")
        self.menu_button.setToolTip("Menu (F10)")
        self.centre = _BandCentre(state, look, self)
        self.act_button = QPushButton("", self)
        self.act_button.setObjectName("act_button")
        self.act_button.setFixedSize(136, 36)
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 0, 12, 0)
        row.setSpacing(10)
        row.addWidget(self.menu_button)
        row.addWidget(self.centre, 1)
        row.addWidget(self.act_button)
        state.refreshed.connect(self._restyle)
        look.changed.connect(self._restyle)
        self._styled: tuple[object, ...] = ()
        self._restyle()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Paint the dark ground."""
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(self._look.scheme.band))
        painter.end()

    def _restyle(self) -> None:
        scheme, active = self._look.scheme, self._state.active
        snapshot = self._state.snapshot
        stored = snapshot is not None and snapshot.kind == "stored job"
        ready = self._state.sheet is not None and not active and not stored
        now = (scheme, active, ready)
        if now == self._styled:
            return
        self._styled = now
        self.update()
        self.menu_button.setFont(font(15, bold=True))
        self.menu_button.setStyleSheet(
            f"QPushButton {{ color: {scheme.band_mark}; background: transparent; border: none; padding: 6px 8px; }}"
            f"QPushButton:hover, QPushButton:focus {{ border: 1px solid {scheme.band_soft}; border-radius: 3px; }}"
            "QPushButton::menu-indicator { image: none; }"
        )
        text = "STOP  Esc" if active else "Start  Ctrl+↵" if ready else "stored" if stored else "idle"
        back = scheme.stop if active else scheme.band_mark if ready else scheme.soft
        ink = scheme.on_stop if active else "#22302E" if ready else scheme.band
        self.act_button.setText(text)
        self.act_button.setAccessibleName("Stop the run" if active else "Start the run")
        self.act_button.setToolTip("Ends every worker at once (Esc)" if active else "Start the run sheet (Ctrl+Return)")
        self.act_button.setEnabled(active or ready)
        self.act_button.setFont(font(14, bold=True))
        self.act_button.setStyleSheet(
            f"QPushButton {{ color: {ink}; background: {back}; border: none; border-radius: 3px; }}"
            f"QPushButton:focus {{ border: 2px solid {scheme.band_ink}; }}"
        )
