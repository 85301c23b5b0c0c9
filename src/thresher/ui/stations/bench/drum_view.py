"""A read scan of a drive as the paper of a drum recorder: one stroke a stretch, as tall as its slowest read.

The paper runs in rows, one under the other, each so many gigabytes long. Below it are the read rate over the drive, and
the places that cannot be read, each with the file in that place.
"""

import math
from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QLineF, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from thresher.compose.entry import length_text
from thresher.model.parts import PartKind
from thresher.protocol.status import ScanStatus
from thresher.ui.form import form_style
from thresher.ui.look import Look, draw_text, panel
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.polygons import Pixels, polygon
from thresher.ui.state import BenchState

LOW = 196
"""Pixels of the drum while lanes need the room."""
_SLOW_MS, _TALLEST_MS = 150.0, 2000.0
_TOP, _BUTTONS = 34.0, 34.0
_ROW, _MOST_ROWS = 23.0, 20
_LABELS = 62.0
_RATE = 84.0
_WHOLE = 330.0
"""From this height on there is room for the read rate and the list of bad places."""
_MOST_LISTED = 5
_LINE = 16.0
_URGENT = ("copy the data off now", "replace")
"""What the health of a dying drive is in words (`drives.health.DriveStatus`)."""
_NO_LIMIT = 16_777_215
"""What Qt takes as no limit of a height."""


def stroke_heights(milliseconds: Pixels) -> Pixels:
    """Return how tall strokes are, 0 to 1: by the logarithm, 1 ms to 2 s, so that one slow read stands out."""
    heights: Pixels = np.clip(np.log10(np.maximum(milliseconds, 1.0)) / math.log10(_TALLEST_MS), 0.04, 1.0)
    return heights


def size_text(size: float, whole: float) -> str:
    """Return a place on a drive of so many bytes in the unit that fits the drive."""
    return f"{size / 1e12:.3f} TB" if whole >= 1e12 else f"{size / 1e9:.1f} GB"


def scan_words(scan: ScanStatus) -> str:
    """Return how a scan stands, in one line."""
    if not scan.running:
        return scan.words
    left = f", {length_text(round(scan.left_s))} left" if scan.left_s is not None else ""
    plural = "s" if len(scan.bad) > 1 else ""
    bad = f", {len(scan.bad)} place{plural} cannot be read" if scan.bad else ""
    return f"{scan.share * 100:.0f} % at {scan.mb_per_s:.0f} MB/s{left}{bad}"


@dataclass(frozen=True, slots=True)
class _Paper:
    """How the strokes lie on the paper: rows of so many strokes, in pixels."""

    area: QRectF
    strokes: int
    rows: int
    in_row: int
    pitch: float
    row_height: float

    def foot(self, stroke: int) -> QPointF:
        """Return where a stroke stands."""
        row, place = divmod(stroke, self.in_row)
        return QPointF(self.area.x() + (place + 0.5) * self.pitch, self.area.y() + (row + 1) * self.row_height - 2)


def _paper(area: QRectF, strokes: int) -> _Paper:
    rows = max(1, min(_MOST_ROWS, int(area.height() // _ROW)))
    in_row = -(-strokes // rows)
    return _Paper(area, strokes, rows, in_row, area.width() / in_row, area.height() / rows)


def _draw_rects(painter: QPainter, left: Pixels, top: Pixels, wide: float, high: Pixels) -> None:
    rects = [QRectF(x, y, wide, h) for x, y, h in zip(left.tolist(), top.tolist(), high.tolist(), strict=True)]
    if rects:
        painter.drawRects(*rects)


class _Drum(PaintedWidget):
    """The paper with the strokes, the read rate, and the list of bad places.

    `region_wanted` (drive, begin and end in bytes) comes when a row of the paper is clicked twice.
    """

    region_wanted = pyqtSignal(str, object, object)
    paper: _Paper | None = None

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        """Ask for the row under the mouse to be read again by itself."""
        paper, scan = self.paper, self.state.scan
        if event is None or paper is None or scan is None or scan.running or not paper.area.contains(event.position()):
            return
        row = int((event.position().y() - paper.area.y()) // paper.row_height)
        begin = scan.size * row * paper.in_row // paper.strokes
        end = min(scan.size, scan.size * (row + 1) * paper.in_row // paper.strokes)
        self.region_wanted.emit(scan.drive, begin, end)

    def draw(self, painter: QPainter) -> None:
        """Draw what there is room for."""
        scheme, scan = self.look.scheme, self.state.scan
        area = QRectF(self.rect())
        panel(painter, area, scheme, f"Read scan {scan.drive}" if scan is not None else "Read scan")
        if scan is None:
            return
        draw_text(painter, QPointF(area.width() - 12, 21), scan_words(scan), scheme.ink, 11.5, right=True)
        parts = self.state.snapshot.machine.parts if self.state.snapshot is not None else ()
        health = next((part.fact("health") for part in parts if part.place == scan.drive), "")
        if health in _URGENT:
            words = "Copy the data off first: this drive is failing."
            draw_text(painter, QPointF(12, area.bottom() - 16), words, scheme.fault, 11.5, bold=True)
        whole = area.height() >= _WHOLE
        listed = min(len(scan.bad), _MOST_LISTED + 1) if whole else min(len(scan.bad), 1)
        bottom = area.bottom() - _BUTTONS - listed * _LINE - (_LINE if whole and listed else 0)
        if whole:
            self._rate(
                painter, scan, QRectF(12 + _LABELS, bottom - _RATE + 18, area.width() - 24 - _LABELS, _RATE - 30)
            )
            bottom -= _RATE
        paper = QRectF(12 + _LABELS, _TOP, area.width() - 24 - _LABELS, bottom - _TOP - 20)
        self.paper = _paper(paper, max(1, len(scan.slowest_ms)))
        self._draw_paper(painter, scan, self.paper)
        self._legend(painter, scan, QPointF(paper.x(), paper.bottom() + 14), paper.width())
        self._bad_places(painter, scan, area.bottom() - _BUTTONS - listed * _LINE, listed, whole)
        self.setAccessibleDescription(f"{scan.drive}: {scan_words(scan)}")

    # ---- the paper

    def _draw_paper(self, painter: QPainter, scan: ScanStatus, paper: _Paper) -> None:
        scheme = self.look.scheme
        every = max(1, math.ceil(15 / paper.row_height))
        for row in range(paper.rows):
            foot = paper.area.y() + (row + 1) * paper.row_height - 2
            begin = scan.size * row * paper.in_row / paper.strokes
            if row % every == 0:
                text = size_text(begin, scan.size)
                draw_text(painter, QPointF(paper.area.x() - 8, foot), text, scheme.soft, 10, right=True)
            painter.setPen(QPen(QColor(scheme.rule), 1, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(paper.area.x(), foot), QPointF(paper.area.right(), foot))
            self._row_spot(scan, paper, row, foot)
        self._strokes(painter, scan, paper)
        if scan.running:
            self._head(painter, scan, paper)

    def _strokes(self, painter: QPainter, scan: ScanStatus, paper: _Paper) -> None:
        scheme = self.look.scheme
        slowest = np.array([math.nan if each is None else each for each in scan.slowest_ms])
        heights = stroke_heights(slowest) * (paper.row_height - 4)
        wide = max(1.0, paper.pitch * 0.6)
        row, place = np.divmod(np.arange(len(slowest)), paper.in_row)
        x = paper.area.x() + (place + 0.5) * paper.pitch
        foot = paper.area.y() + (row + 1) * paper.row_height - 2
        painter.setPen(Qt.PenStyle.NoPen)
        slow = slowest >= _SLOW_MS
        for chosen, colour in ((slowest < _SLOW_MS, scheme.part(PartKind.DRIVE)), (slow, QColor(scheme.straw))):
            painter.setBrush(colour)
            _draw_rects(painter, x[chosen] - wide / 2, (foot - heights)[chosen], wide, heights[chosen])
        # a slow place has a cap, so that it is seen without its colour
        _draw_rects(painter, x[slow] - 3, (foot - heights)[slow] - 1, 6, np.full(int(slow.sum()), 2.5))
        errors, retries = (np.array(each, dtype=np.int64) for each in (scan.errors, scan.retries or scan.errors))
        retries = retries if scan.retries else np.zeros_like(errors)
        self._rings(painter, x[retries > 0], (foot - paper.row_height / 2 + 2)[retries > 0])
        self._crosses(painter, x[errors > 0], (foot - paper.row_height / 2 + 2)[errors > 0])
        for stroke in np.flatnonzero(slow | (errors > 0) | (retries > 0)).tolist():
            about = f"slowest read {slowest[stroke]:.0f} ms"
            about += f"; {errors[stroke]} blocks cannot be read" if errors[stroke] else ""
            about += f"; {retries[stroke]} blocks were read at the second try" if retries[stroke] else ""
            self._stroke_spot(scan, paper, stroke, about)

    def _crosses(self, painter: QPainter, x: Pixels, y: Pixels) -> None:
        """Places that cannot be read: a cross each, on a patch of paper."""
        scheme = self.look.scheme
        patch = QColor(scheme.panel)
        patch.setAlpha(200)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(patch)
        _draw_rects(painter, x - 6, y - 6, 12, np.full(len(x), 12.0))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor(scheme.fault), 2.2))
        lines = [
            QLineF(at - 4.5, middle - 4.5 * turn, at + 4.5, middle + 4.5 * turn)
            for at, middle in zip(x.tolist(), y.tolist(), strict=True)
            for turn in (1, -1)
        ]
        if lines:
            painter.drawLines(*lines)

    def _rings(self, painter: QPainter, x: Pixels, y: Pixels) -> None:
        """Places that were read at the second try: an open ring each."""
        painter.setPen(QPen(QColor(self.look.scheme.ink), 1.4))
        for at, middle in zip(x.tolist(), y.tolist(), strict=True):
            painter.drawEllipse(QPointF(at, middle), 3.5, 3.5)

    def _head(self, painter: QPainter, scan: ScanStatus, paper: _Paper) -> None:
        """Where it reads now: a bar after the last stroke."""
        last = next((n for n in range(len(scan.slowest_ms) - 1, -1, -1) if scan.slowest_ms[n] is not None), None)
        if last is not None:
            foot = paper.foot(last)
            x = foot.x() + paper.pitch / 2 + 1
            painter.fillRect(
                QRectF(x, foot.y() - paper.row_height + 6, 2, paper.row_height - 4), QColor(self.look.scheme.ink)
            )

    def _row_spot(self, scan: ScanStatus, paper: _Paper, row: int, foot: float) -> None:
        begin, end = row * paper.in_row, min(paper.strokes, (row + 1) * paper.in_row)
        read = [each for each in scan.slowest_ms[begin:end] if each is not None]
        span = " to ".join(size_text(scan.size * each / paper.strokes, scan.size) for each in (begin, end))
        slowest = f"slowest read {max(read):.0f} ms" if read else "not read yet"
        area = QRectF(paper.area.x(), foot - paper.row_height + 2, paper.area.width(), paper.row_height)
        again = "" if scan.running else "\nDouble-click reads this row again by itself"
        self.spots.append(Spot(area, f"{span}: {slowest}{again}"))

    def _stroke_spot(self, scan: ScanStatus, paper: _Paper, stroke: int, about: str) -> None:
        about = f"{size_text(scan.size * stroke / paper.strokes, scan.size)}: {about}"
        foot, wide = paper.foot(stroke), max(6.0, paper.pitch)
        area = QRectF(foot.x() - wide / 2, foot.y() - paper.row_height + 2, wide, paper.row_height)
        self.spots.append(Spot(area, about))

    def _legend(self, painter: QPainter, scan: ScanStatus, at: QPointF, width: float) -> None:
        stretch = scan.size / max(1, len(scan.slowest_ms))
        unit = f"{stretch / 1e9:.1f} GB" if stretch >= 1e9 else f"{stretch / 1e6:.0f} MB"
        marks = "cap: 150 ms or more · ring: second try · cross: unreadable"
        words = f"one stroke: the slowest read of {unit}, up to 2 s · {marks}"
        draw_text(painter, at, words, self.look.scheme.soft, 10.5, width=width)

    # ---- below the paper

    def _rate(self, painter: QPainter, scan: ScanStatus, area: QRectF) -> None:
        """The read rate over the drive; a gap where nothing was read."""
        scheme = self.look.scheme
        draw_text(painter, QPointF(12, area.y() + 10), "Read rate", scheme.part(PartKind.DRIVE), 11, bold=True)
        draw_text(painter, QPointF(12, area.y() + 24), "MB/s", scheme.soft, 10)
        painter.setPen(QPen(QColor(scheme.rule), 1))
        painter.drawLine(area.bottomLeft(), area.bottomRight())
        painter.drawLine(area.topLeft(), area.bottomLeft())
        rates = np.array([math.nan if each is None else each for each in scan.rates])
        read = np.flatnonzero(~np.isnan(rates))
        if len(read):
            lowest, top = float(rates[read].min()), max(1.0, float(rates[read].max()))
            draw_text(painter, QPointF(area.x() - 4, area.y() + 40), f"{top:.0f} max", scheme.soft, 10, right=True)
            painter.setPen(QPen(scheme.part(PartKind.DRIVE), 1.4))
            gaps = np.flatnonzero(np.diff(read) > (len(rates) if scan.sampled else 1)) + 1
            for run in np.split(read, gaps.tolist()):
                x = area.x() + (run + 0.5) * area.width() / len(rates)
                painter.drawPolyline(polygon(x, area.bottom() - rates[run] / top * area.height()))
            self.spots.append(Spot(area, f"read rate over the drive: {lowest:.0f} to {top:.0f} MB/s"))
        for mark, right in ((0.0, False), (0.5, False), (1.0, True)):
            at = QPointF(area.x() + mark * area.width(), area.bottom() + 12)
            draw_text(painter, at, size_text(scan.size * mark, scan.size), scheme.soft, 10, right=right)

    def _bad_places(self, painter: QPainter, scan: ScanStatus, y: float, lines: int, titled: bool) -> None:
        """The places that cannot be read, each with its sector and the file in that place."""
        scheme = self.look.scheme
        if titled and lines:
            draw_text(painter, QPointF(12, y - 4), "CANNOT BE READ", scheme.fault, 10.5, bold=True)
        room = self.width() - 24.0 - (0 if titled else 220)
        for number in range(lines):
            more = len(scan.bad) - number
            if number == lines - 1 and more > 1:
                words = f"and {more} more" if number else f"sector {scan.bad[0]} and {more - 1} more cannot be read"
            else:
                sector = scan.bad[number]
                words = f"{size_text(sector * 512, scan.size)}   sector {sector}"
                words += f"   {scan.places[number]}" if number < len(scan.places) else ""
            draw_text(painter, QPointF(12, y + 12), words, scheme.ink, 11, width=room)
            self.spots.append(Spot(QRectF(12, y, room, _LINE), words))
            y += _LINE


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
        self.make_room(whole=True)
        self.hide()
        state.refreshed.connect(self.follow)
        state.machine_changed.connect(self.follow)
        look.changed.connect(self._restyle)
        self._restyle()

    def _restyle(self) -> None:
        self.setStyleSheet(form_style(self._look.scheme))

    def make_room(self, whole: bool) -> None:
        """Take the middle of the station, or only a strip of it."""
        self.setMinimumHeight(LOW)
        self.setMaximumHeight(_NO_LIMIT if whole else LOW)

    def follow(self) -> None:
        """Show the scan there is, unless it was closed."""
        scan = self._state.scan
        # a sample that is through has its line on the tape; beside a run the lanes need the room
        through = scan is not None and scan.sampled and not scan.running and self._state.active
        self.setVisible(scan is not None and scan is not self._closed_for and not through)
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
