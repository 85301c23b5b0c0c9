"""A read scan of a drive as the paper of a drum recorder: one stroke a stretch, as tall as its slowest read."""

import math

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QPainter, QPen
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from thresher.compose.entry import length_text
from thresher.model.parts import PartKind
from thresher.protocol.status import ScanStatus
from thresher.ui.form import form_style
from thresher.ui.look import Look, draw_text, panel, text_width
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState

_HIGH = 196
_SLOW_MS, _TALLEST_MS = 150.0, 2000.0
_TOP, _BOTTOM = 34.0, 62.0
_MARKS = 5
_SCALE_MS = (10.0, 100.0, 1000.0)


def stroke_height(milliseconds: float) -> float:
    """Return how tall a stroke is, 0 to 1: by the logarithm, 1 ms to 2 s, so that one slow read stands out."""
    return min(1.0, max(0.02, math.log10(max(milliseconds, 1.0)) / math.log10(_TALLEST_MS)))


def scan_words(scan: ScanStatus) -> str:
    """Return how a scan stands, in one line."""
    if not scan.running:
        return scan.words
    left = f", {length_text(round(scan.left_s))} left" if scan.left_s is not None else ""
    plural = "s" if len(scan.bad) > 1 else ""
    bad = f", {len(scan.bad)} place{plural} cannot be read" if scan.bad else ""
    return f"{scan.share * 100:.0f} % at {scan.mb_per_s:.0f} MB/s{left}{bad}"


class _Drum(PaintedWidget):
    """The paper with the strokes."""

    def draw(self, painter: QPainter) -> None:
        """Draw title, strokes, the places that cannot be read, and the axis."""
        scheme, scan = self.look.scheme, self.state.scan
        area = QRectF(self.rect())
        panel(painter, area, scheme, f"Read scan {scan.drive}" if scan is not None else "Read scan")
        if scan is None:
            return
        draw_text(painter, QPointF(area.width() - 12, 21), scan_words(scan), scheme.ink, 11.5, right=True)
        paper = QRectF(12, _TOP, area.width() - 24, area.height() - _TOP - _BOTTOM)
        painter.setPen(QPen(QColor(scheme.grid), 1))
        for mark in _SCALE_MS:
            y = paper.bottom() - stroke_height(mark) * paper.height()
            painter.drawLine(QPointF(paper.x(), y), QPointF(paper.right(), y))
        self._strokes(painter, scan, paper)
        self._scale(painter, paper)
        self._axis(painter, scan, paper)
        self.setAccessibleDescription(f"{scan.drive}: {scan_words(scan)}")

    def _scale(self, painter: QPainter, paper: QRectF) -> None:
        """The words of the scale, over the strokes on a patch of paper."""
        scheme = self.look.scheme
        for mark in _SCALE_MS:
            y = paper.bottom() - stroke_height(mark) * paper.height()
            words = f"{mark:.0f} ms"
            wide = text_width(words, 9.5) + 4
            patch = QColor(scheme.panel)
            patch.setAlpha(190)
            painter.fillRect(QRectF(paper.right() - wide, y - 12, wide, 11), patch)
            draw_text(painter, QPointF(paper.right() - 2, y - 2), words, scheme.soft, 9.5, right=True)

    def _strokes(self, painter: QPainter, scan: ScanStatus, paper: QRectF) -> None:
        scheme = self.look.scheme
        count = len(scan.slowest_ms)
        pitch = paper.width() / max(1, count)
        ink, soft, fault = scheme.part(PartKind.DRIVE), QColor(scheme.soft), QColor(scheme.fault)
        for place, slowest in enumerate(scan.slowest_ms):
            x = paper.x() + (place + 0.5) * pitch
            if slowest is None:
                painter.fillRect(QRectF(x - 0.5, paper.bottom() - 1.5, 1, 1.5), soft)
                continue
            high = stroke_height(slowest) * paper.height()
            wide = max(1.0, pitch * 0.7)
            painter.fillRect(QRectF(x - wide / 2, paper.bottom() - high, wide, high), ink)
            if slowest >= _SLOW_MS:  # a slow place has a cap, so that it is seen without its colour
                painter.fillRect(QRectF(x - 3, paper.bottom() - high - 3, 6, 2.5), ink)
            about = f"{self._place(scan, place)}: slowest read {slowest:.0f} ms"
            if scan.errors[place]:
                self._cross(painter, x, paper, fault)
                about += f"; {scan.errors[place]} reads failed"
            self.spots.append(Spot(QRectF(x - pitch / 2, paper.y(), pitch, paper.height()), about))

    def _cross(self, painter: QPainter, x: float, paper: QRectF, colour: QColor) -> None:
        """A place that cannot be read: a dashed line over the whole paper, and a cross on top."""
        painter.setPen(QPen(colour, 1.2, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(x, paper.y() + 8), QPointF(x, paper.bottom()))
        painter.setPen(QPen(colour, 2.0))
        y = paper.y() + 3
        painter.drawLine(QPointF(x - 4, y - 4), QPointF(x + 4, y + 4))
        painter.drawLine(QPointF(x - 4, y + 4), QPointF(x + 4, y - 4))

    def _place(self, scan: ScanStatus, stroke: int) -> str:
        return f"{scan.size * stroke / max(1, len(scan.slowest_ms)) / 1e9:.1f} GB"

    def _axis(self, painter: QPainter, scan: ScanStatus, paper: QRectF) -> None:
        scheme = self.look.scheme
        painter.setPen(QPen(QColor(scheme.rule), 1))
        painter.drawLine(paper.bottomLeft(), paper.bottomRight())
        for mark in range(_MARKS + 1):
            x = paper.x() + paper.width() * mark / _MARKS
            text = f"{scan.size * mark / _MARKS / 1e9:.0f} GB"
            at = QPointF(min(x, paper.right()), paper.bottom() + 14)
            draw_text(painter, at, text, scheme.soft, 10, right=mark == _MARKS)
        listed = ", ".join(str(sector) for sector in scan.bad[:6])
        more = f" and {len(scan.bad) - 6} more" if len(scan.bad) > 6 else ""
        words = f"cannot be read: sector {listed}{more}" if scan.bad else "tall: slow; a cross: cannot be read"
        colour = scheme.fault if scan.bad else scheme.soft
        draw_text(painter, QPointF(12, paper.bottom() + 30), words, colour, 11, width=paper.width() * 0.6)


class DrumView(QWidget):
    """The drum with its buttons; there from the start of a scan until it is closed.

    `stop_wanted` and `go_on_wanted` (with the drive's name) come from the buttons.
    """

    stop_wanted = pyqtSignal()
    go_on_wanted = pyqtSignal(str)

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Begin hidden."""
        super().__init__(parent)
        self._state, self._look = state, look
        self._closed_for: ScanStatus | None = None
        self.drum = _Drum(state, look, "Read scan", self)
        self.buttons: dict[str, QPushButton] = {}
        row = QHBoxLayout()
        row.setContentsMargins(0, 0, 12, 8)
        row.addStretch(1)
        for text, name, tip, do in (
            ("Stop scan", "stop_scan", "Stops the scan; where it was is kept", self.stop_wanted.emit),
            ("Continue scan", "continue_scan", "Goes on where the scan stopped", self._go_on),
            ("Close", "close_scan", "Closes the picture; the findings stay", self._close),
        ):
            button = QPushButton(text, self.drum)
            button.setObjectName(name)
            button.setAccessibleName(text)
            button.setToolTip(tip)
            button.clicked.connect(lambda _checked=False, do=do: do())
            self.buttons[name] = button
            row.addWidget(button)
        inside = QVBoxLayout(self.drum)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.addStretch(1)
        inside.addLayout(row)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.drum)
        self.setFixedHeight(_HIGH)
        self.hide()
        state.refreshed.connect(self.follow)
        state.machine_changed.connect(self.follow)
        look.changed.connect(self._restyle)
        self._restyle()

    def _restyle(self) -> None:
        self.setStyleSheet(form_style(self._look.scheme))

    def follow(self) -> None:
        """Show the scan there is, unless it was closed."""
        scan = self._state.scan
        self.setVisible(scan is not None and scan is not self._closed_for)
        if scan is not None:
            self.buttons["stop_scan"].setVisible(scan.running)
            self.buttons["continue_scan"].setVisible(not scan.running and 0.0 < scan.share < 1.0)
            self.buttons["close_scan"].setVisible(not scan.running)

    def _go_on(self) -> None:
        if self._state.scan is not None:
            self.go_on_wanted.emit(self._state.scan.drive)

    def _close(self) -> None:
        self._closed_for = self._state.scan
        self.follow()
