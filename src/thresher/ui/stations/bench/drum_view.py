"""A read scan of a drive as the paper of a drum recorder: one stroke a stretch, as tall as its slowest read.

The paper is wound: a row under the other, each so many gigabytes. Below it the read rate over the drive, and the
places that cannot be read with the file that lies there.
"""

import math
from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from thresher.compose.entry import length_text
from thresher.model.parts import PartKind
from thresher.protocol.status import ScanStatus
from thresher.ui.form import form_style
from thresher.ui.look import Look, draw_text, panel
from thresher.ui.painted import PaintedWidget, Spot
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


def stroke_height(milliseconds: float) -> float:
    """Return how tall a stroke is, 0 to 1: by the logarithm, 1 ms to 2 s, so that one slow read stands out."""
    return min(1.0, max(0.04, math.log10(max(milliseconds, 1.0)) / math.log10(_TALLEST_MS)))


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

    @property
    def in_row(self) -> int:
        return -(-self.strokes // self.rows)

    @property
    def pitch(self) -> float:
        return self.area.width() / max(1, self.in_row)

    @property
    def row_height(self) -> float:
        return self.area.height() / self.rows

    def foot(self, stroke: int) -> QPointF:
        """Return where a stroke stands."""
        row, place = divmod(stroke, self.in_row)
        return QPointF(self.area.x() + (place + 0.5) * self.pitch, self.area.y() + (row + 1) * self.row_height - 2)


class _Drum(PaintedWidget):
    """The paper with the strokes, the read rate, and the list of bad places."""

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
        rows = max(1, min(_MOST_ROWS, int(paper.height() // _ROW)))
        self._draw_paper(painter, scan, _Paper(paper, max(1, len(scan.slowest_ms)), rows))
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
        ordinary: list[QRectF] = []
        slow: list[QRectF] = []
        bad: list[QPointF] = []
        tallest = paper.row_height - 4
        wide = max(1.0, paper.pitch * 0.6)
        for stroke, slowest in enumerate(scan.slowest_ms):
            if slowest is None:
                continue
            foot_at = paper.foot(stroke)
            high = stroke_height(slowest) * tallest
            (slow if slowest >= _SLOW_MS else ordinary).append(
                QRectF(foot_at.x() - wide / 2, foot_at.y() - high, wide, high)
            )
            if scan.errors[stroke]:
                bad.append(foot_at)
            if slowest >= _SLOW_MS or scan.errors[stroke]:
                self._stroke_spot(scan, paper, stroke, slowest, foot_at)
        painter.setPen(Qt.PenStyle.NoPen)
        # a slow place has a cap, so that it is seen without its colour
        caps = [QRectF(each.center().x() - 3, each.y() - 1, 6, 2.5) for each in slow]
        for rects, colour in ((ordinary, scheme.part(PartKind.DRIVE)), ([*slow, *caps], QColor(scheme.straw))):
            painter.setBrush(colour)
            if rects:
                painter.drawRects(*rects)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for foot_at in bad:
            self._cross(painter, foot_at, tallest)

    def _cross(self, painter: QPainter, foot: QPointF, tallest: float) -> None:
        """A place that cannot be read: a cross at its foot, on a patch of paper."""
        scheme = self.look.scheme
        patch = QColor(scheme.panel)
        patch.setAlpha(200)
        y = foot.y() - tallest / 2
        painter.fillRect(QRectF(foot.x() - 6, y - 6, 12, 12), patch)
        painter.setPen(QPen(QColor(scheme.fault), 2.2))
        painter.drawLine(QPointF(foot.x() - 4.5, y - 4.5), QPointF(foot.x() + 4.5, y + 4.5))
        painter.drawLine(QPointF(foot.x() - 4.5, y + 4.5), QPointF(foot.x() + 4.5, y - 4.5))

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
        told = f"slowest read {max(read):.0f} ms" if read else "not read yet"
        area = QRectF(paper.area.x(), foot - paper.row_height + 2, paper.area.width(), paper.row_height)
        self.spots.append(Spot(area, f"{span}: {told}"))

    def _stroke_spot(self, scan: ScanStatus, paper: _Paper, stroke: int, slowest: float, foot: QPointF) -> None:
        about = f"{size_text(scan.size * stroke / paper.strokes, scan.size)}: slowest read {slowest:.0f} ms"
        if scan.errors[stroke]:
            about += f"; {scan.errors[stroke]} reads failed"
        wide = max(6.0, paper.pitch)
        self.spots.append(
            Spot(QRectF(foot.x() - wide / 2, foot.y() - paper.row_height + 2, wide, paper.row_height), about)
        )

    def _legend(self, painter: QPainter, scan: ScanStatus, at: QPointF, width: float) -> None:
        stretch = scan.size / max(1, len(scan.slowest_ms))
        unit = f"{stretch / 1e9:.1f} GB" if stretch >= 1e9 else f"{stretch / 1e6:.0f} MB"
        words = (
            f"one stroke: the slowest read of {unit}, up to 2 s · capped: slow, 150 ms or more · cross: cannot be read"
        )
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
        rates = [each for each in scan.rates if each is not None]
        top = max(rates, default=0.0)
        if top > 0:
            draw_text(painter, QPointF(area.x() - 4, area.y() + 40), f"{top:.0f} max", scheme.soft, 10, right=True)
            painter.setPen(QPen(scheme.part(PartKind.DRIVE), 1.4))
            points: list[QPointF] = []
            for stroke, rate in enumerate((*scan.rates, None)):
                if rate is not None:
                    x = area.x() + (stroke + 0.5) * area.width() / len(scan.rates)
                    points.append(QPointF(x, area.bottom() - rate / top * area.height()))
                elif points and not scan.sampled:
                    painter.drawPolyline(QPolygonF(points))
                    points = []
            if points:
                painter.drawPolyline(QPolygonF(points))
            lowest = f"read rate over the drive: {min(rates):.0f} to {top:.0f} MB/s"
            self.spots.append(Spot(area, lowest))
        for mark, right in ((0.0, False), (0.5, False), (1.0, True)):
            at = QPointF(area.x() + mark * area.width(), area.bottom() + 12)
            draw_text(painter, at, size_text(scan.size * mark, scan.size), scheme.soft, 10, right=right)

    def _bad_places(self, painter: QPainter, scan: ScanStatus, y: float, lines: int, titled: bool) -> None:
        """The places that cannot be read, each with its sector and what lies there."""
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
