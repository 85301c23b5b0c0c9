"""What the load under way reports beside findings: coverage of memory, times between cores, and how long is enough."""

from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QColor, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from thresher.loads.status import MemoryStatus, RoundOffStatus, RoundTripStatus
from thresher.model.parts import PartKind
from thresher.model.run_states import StepState
from thresher.model.sheet import clock_text
from thresher.model.verdict import HowLong, SeenRate, Verdict, percent
from thresher.ui.look import Look, draw_fitting, draw_text, text_width
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState

_GIB = 1 << 30
_ROW = 16.0
_MOST_ROWS, _FEW_ROWS = 3, 2
_TAPE_AND_SUSPECTS = 290.0
"""What the tape needs for two entries, and the suspects below."""
_SMALL_PICTURE, _PICTURE = 84.0, 118.0
_ROUND_OFF_FROM = 0.3


def minutes_text(minutes: float | None) -> str:
    """Return a time to come in words short enough for a row."""
    if minutes is None:
        return "> 1000 h"
    if minutes < 1:
        return "reached" if minutes <= 0 else "< 1 min"
    return f"{minutes:.0f} min" if minutes < 100 else f"{minutes / 60:.0f} h"


def how_long_text(each: HowLong) -> str:
    """Return the whole story of one way of being faulty."""
    return (
        f"{each.title.capitalize()}: {percent(each.shown_share)} of such faults would have been detected by now.\n"
        f"95 % after {minutes_text(each.minutes_to_95)} more of this, 99 % after {minutes_text(each.minutes_to_99)}.\n"
        "How often a fault of unknown strength shows is taken over two decades, by load and temperature."
    )


def rate_text(seen: SeenRate) -> str:
    """Return in a sentence how often findings come and how long a proof must be."""
    times = "finding" if seen.findings == 1 else "findings"
    minutes = f"{seen.hours * 60:.0f} min"
    return (
        f"{seen.findings} {times} in {minutes} of the loads that showed them: {seen.per_hour:.0f} per hour"
        f" (nine times of ten between {seen.low:.1f} and {seen.high:.0f}). After the repair a clean run of"
        f" {minutes_text(seen.minutes_to_sure)} of the same makes 95 % sure."
    )


def coverage_text(memory: MemoryStatus) -> str:
    """Return how much of the memory is had."""
    return f"{memory.taken / _GIB:.1f} of {memory.total / _GIB:.1f} GiB"


def shown_rows(verdict: Verdict | None, rows: tuple[PartKind, ...]) -> list[HowLong]:
    """Return the ways of being faulty worth a row: those of the parts that are loaded first."""
    if verdict is None:
        return []
    ordered = sorted(verdict.clean_time, key=lambda each: (each.kind not in rows, -each.shown_share))
    return ordered[:_MOST_ROWS]


class LoadCard(PaintedWidget):
    """Above the suspects; as high as what there is to show, and not there before a load has run."""

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Begin without height."""
        super().__init__(state, look, "Load status", parent)
        self.setFixedHeight(0)
        self._with_picture = True
        state.refreshed.connect(self._fit)
        state.machine_changed.connect(self._fit)

    def _rows(self) -> list[HowLong]:
        run = self.state.run
        loaded = tuple(item.row for item in run.plan if item.state is StepState.RUNNING and item.row is not None)
        rows = shown_rows(self.state.verdict, loaded)
        return rows[:_FEW_ROWS] if run.newest(MemoryStatus) is not None and self._trips() else rows

    def _fit(self) -> None:
        """Take the height that its content needs, without the picture where the tape would get too small."""
        run, height = self.state.run, 0.0
        rows = self._rows()
        if rows:
            height += 26 + _ROW * len(rows) + (4 if self._seen() is None else 34)
        if run.newest(MemoryStatus) is not None:
            height += 50
        if self._round_off():
            height += 20
        column = self.parentWidget()
        there_is = (column.height() if column is not None else 0) - _TAPE_AND_SUSPECTS
        self._with_picture = height + self._picture_height() + 22 <= there_is
        if self._trips():
            height += self._picture_height() + 22 if self._with_picture else 20
        if int(height) != self.height():
            self.setFixedHeight(int(height))

    def _trips(self) -> tuple[tuple[int, int, float], ...]:
        status = self.state.run.newest(RoundTripStatus)
        return status.pairs if status is not None else ()

    def _round_off(self) -> float:
        status = self.state.run.newest(RoundOffStatus)
        return status.largest if status is not None else 0.0

    def _seen(self) -> SeenRate | None:
        return self.state.verdict.seen_rate if self.state.verdict else None

    def _picture_height(self) -> float:
        cpus = {cpu for one, other, _ in self._trips() for cpu in (one, other)}
        return _SMALL_PICTURE if len(cpus) <= 8 else _PICTURE

    def draw(self, painter: QPainter) -> None:
        """Draw one block below the other."""
        if self.height() < 10:
            return
        scheme, run = self.look.scheme, self.state.run
        painter.setPen(QPen(QColor(scheme.rule), 1))
        painter.drawLine(QPointF(8, 1), QPointF(self.width() - 8.0, 1))
        y = 4.0
        if (memory := run.newest(MemoryStatus)) is not None:
            y = self._draw_memory(painter, memory, y)
        if self._trips():
            y = self._draw_round_trips(painter, y)
        if self._round_off():
            y = self._draw_round_off(painter, y)
        if rows := self._rows():
            self._draw_how_long(painter, rows, y)

    def _draw_memory(self, painter: QPainter, memory: MemoryStatus, y: float) -> float:
        scheme, right = self.look.scheme, self.width() - 12.0
        colour = QColor(scheme.part(PartKind.MEMORY))
        draw_text(painter, QPointF(12, y + 13), "Memory", scheme.ink, 12, bold=True)
        draw_text(painter, QPointF(right, y + 13), coverage_text(memory), scheme.soft, 11, right=True)
        passes = f"{memory.passes} passes done, {clock_text(memory.pass_s)} each" if memory.passes else "first pass"
        draw_text(painter, QPointF(12, y + 41), passes, scheme.soft, 11)
        bar = QRectF(12, y + 19, right - 12, 8)
        painter.fillRect(bar, QColor(scheme.grid))
        had = memory.covered if memory.covered is not None else memory.taken
        painter.fillRect(QRectF(bar.x(), bar.y(), bar.width() * min(1.0, had / max(1, memory.total)), 8), colour)
        painter.setPen(QPen(QColor(scheme.rule), 1))
        painter.drawRect(bar)
        pages = (
            f"{memory.covered / _GIB:.2f} GiB tested so far, each page once; other pages each pass"
            if memory.covered is not None
            else "the kernel gives no addresses, so coverage is unknown"
        )
        locked = "Locked." if memory.locked else "Not locked: pages may be swapped out."
        summary = f"{coverage_text(memory)} taken; the rest is in use by the running system.\n{pages}.\n{locked}"
        self.spots.append(Spot(QRectF(0, y, self.width(), 48), summary))
        return y + 48

    def _draw_round_trips(self, painter: QPainter, y: float) -> float:
        """A square a pair of CPUs, the darker the longer a message takes there and back."""
        scheme, trips = self.look.scheme, self._trips()
        cpus = sorted({cpu for one, other, _ in trips for cpu in (one, other)})
        times = [ns for _, _, ns in trips]
        low, high = min(times), max(times)
        draw_text(painter, QPointF(12, y + 13), "Core-to-core round trip", scheme.ink, 12, bold=True)
        words = f"{low:.0f} to {high:.0f} ns" if high > low else f"{low:.0f} ns"
        draw_text(painter, QPointF(self.width() - 12.0, y + 13), words, scheme.soft, 11, right=True)
        if not self._with_picture:
            self.spots.append(Spot(QRectF(0, y, self.width(), 18), f"Core-to-core round trip: {words}"))
            return y + 20
        side = min(14.0, (self._picture_height() - 4) / len(cpus))
        left, top = 12.0 + text_width("CPU 88 ", 10), y + 20
        place = {cpu: number for number, cpu in enumerate(cpus)}
        colour = QColor(scheme.part(PartKind.PROCESSOR))
        for one, other, ns in trips:
            share = 0.12 + 0.88 * (ns - low) / (high - low) if high > low else 0.4
            shade = QColor(colour)
            shade.setAlphaF(share)
            for a, b in ((one, other), (other, one)):
                cell = QRectF(left + place[b] * side, top + place[a] * side, side - 1, side - 1)
                painter.fillRect(cell, shade)
                summary = f"CPU {one} and CPU {other}: {ns:.0f} ns round trip, the shortest measured"
                self.spots.append(Spot(cell, summary))
        step = max(1, -(-len(cpus) // 8))
        for cpu in cpus[::step]:
            draw_text(
                painter,
                QPointF(left - 5, top + place[cpu] * side + side - 3),
                f"CPU {cpu}",
                scheme.soft,
                9.5,
                right=True,
            )
        slow = sorted(trips, key=lambda each: -each[2])[:4]
        if high > low:
            at = QPointF(left + len(cpus) * side + 12, top + 12)
            draw_text(painter, at, "slowest", scheme.ink, 11)
        for number, (one, other, _ns) in enumerate(slow if high > low else []):
            at = QPointF(left + len(cpus) * side + 12, top + 27 + 15 * number)
            draw_text(painter, at, f"{one} to {other}", scheme.soft, 11)
        return y + self._picture_height() + 20

    def _draw_round_off(self, painter: QPainter, y: float) -> float:
        scheme, worst, right = self.look.scheme, self._round_off(), self.width() - 12.0
        warn = worst >= _ROUND_OFF_FROM
        draw_text(painter, QPointF(12, y + 13), "Round-off", scheme.ink, 12, bold=True)
        words = f"{worst:.3f}, warns from {_ROUND_OFF_FROM:.2f}"
        draw_text(painter, QPointF(right, y + 13), words, scheme.fault if warn else scheme.soft, 11, right=True)
        summary = (
            f"{worst:.3f} at most; an early warning from {_ROUND_OFF_FROM:.2f}, a wrong digit from 0.50.\n"
            "How far the transform's results are from whole numbers at most, over all beats.\n"
            "A healthy machine always gives the same value; a marginal one gives more before results go wrong."
        )
        self.spots.append(Spot(QRectF(0, y, self.width(), 18), summary))
        return y + 20

    def _draw_how_long(self, painter: QPainter, rows: list[HowLong], y: float) -> None:
        scheme, right = self.look.scheme, self.width() - 12.0
        draw_text(painter, QPointF(12, y + 14), "Detected by now", scheme.ink, 12, bold=True)
        draw_text(painter, QPointF(right, y + 14), "95 % in", scheme.soft, 11, right=True)
        y += 20
        bar_width = 24.0
        bar_left = right - 48 - bar_width
        for each in rows:
            colour = QColor(scheme.part(each.kind))
            draw_fitting(painter, QPointF(12, y + 11), each.title, scheme.ink, 11, bar_left - 16)
            painter.fillRect(QRectF(bar_left, y + 3, bar_width, 8), QColor(scheme.grid))
            painter.fillRect(QRectF(bar_left, y + 3, bar_width * each.shown_share, 8), colour)
            draw_text(painter, QPointF(right, y + 11), minutes_text(each.minutes_to_95), scheme.soft, 10.5, right=True)
            self.spots.append(Spot(QRectF(0, y, self.width(), _ROW), how_long_text(each)))
            y += _ROW
        if (seen := self._seen()) is not None:
            times = "finding" if seen.findings == 1 else "findings"
            first = f"{seen.findings} {times} in {seen.hours * 60:.0f} min: {seen.per_hour:.0f} per hour"
            second = f"proof after repair: {minutes_text(seen.minutes_to_sure)} clean for 95 %"
            draw_text(painter, QPointF(12, y + 13), first, scheme.fault, 11.5, bold=True)
            draw_text(painter, QPointF(12, y + 28), second, scheme.ink, 11)
            self.spots.append(Spot(QRectF(0, y, self.width(), 32), rate_text(seen)))
        self.setAccessibleDescription("\n".join(how_long_text(each) for each in rows))
