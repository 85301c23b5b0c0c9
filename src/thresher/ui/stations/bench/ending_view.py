"""How the run before came to its end: what kind, why, the last seconds as lanes up to the end, and the one question.

It stands where the lanes are, until another run begins or somebody asks for the lanes.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import partial

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF, QResizeEvent
from PyQt6.QtWidgets import QGridLayout, QPushButton, QVBoxLayout, QWidget

from thresher.endings.compare import compare
from thresher.model.endings import EndingKind, LastMoments, MachineEnding, Moment, SeenAtEnd, span_text
from thresher.model.parts import PartKind
from thresher.model.run_states import RunState
from thresher.sensors.lanes import choose_lanes
from thresher.ui.look import Look, draw_fitting, draw_text, text_width, wrap
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState

SHOWN_S = 60.0
_MOST_LANES = 6
_HEAD = 62.0
_SIDE_SHARE = 0.40
_LANE_TITLE = 84.0
_MOST_CHANCES = 4
_ANSWERS = (
    (SeenAtEnd.STARTED_AGAIN, "Black, then it started by itself"),
    (SeenAtEnd.STOOD_STILL, "The picture stood still"),
    (SeenAtEnd.WAS_OFF, "It was off, the room lit"),
    (SeenAtEnd.ALL_OFF, "All on that mains was off"),
    (SeenAtEnd.PLUG_PULLED, "Plug pulled, switched off"),
    (SeenAtEnd.SHUT_DOWN, "Somebody shut it down"),
    (SeenAtEnd.TEXT_OF_A_PANIC, "Text of a kernel panic"),
    (SeenAtEnd.NOBODY_LOOKED, "Nobody was there"),
)


@dataclass(frozen=True, slots=True)
class _Strip:
    """One lane of the last seconds: its words, colour, and points as seconds before the end and value."""

    title: str
    unit: str
    colour: QColor
    lines: tuple[tuple[tuple[float, float], ...], ...]
    limit: float | None
    limit_words: str = ""

    @property
    def span(self) -> tuple[float, float]:
        """Lowest and highest value that is drawn."""
        values = [value for line in self.lines for _, value in line]
        low, high = min(values), max(values)
        if self.limit is not None and abs(self.limit - high) < max(high - low, 0.3 * abs(high)):
            low, high = min(low, self.limit), max(high, self.limit)
        pad = max((high - low) * 0.12, 0.02 * abs(high), 1e-6)
        return low - pad, high + pad


class EndingView(QWidget):
    """Everything about the end of the run before.

    `seen` carries the number of the end and what somebody saw; `moments_wanted` the number of an end whose last rows
    are to be had; `lanes_wanted` that somebody wants the lanes instead.
    """

    seen = pyqtSignal(int, object)
    moments_wanted = pyqtSignal(int)
    lanes_wanted = pyqtSignal()

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Be hidden until a run has come to a sudden end."""
        super().__init__(parent)
        self._state, self._look = state, look
        self._asked_for: tuple[str, float] | None = None
        self._dismissed: tuple[str, float] | None = None
        self.paper = _Paper(state, look, self)
        self.setAccessibleName("How the run ended")
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 4, 12, 8)
        column.setSpacing(4)
        column.addWidget(self.paper, 1)
        self.answers = QWidget(self)
        grid = QGridLayout(self.answers)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(5)
        self.buttons: dict[SeenAtEnd, QPushButton] = {}
        for number, (each, words) in enumerate(_ANSWERS):
            button = QPushButton(f"{number + 1}  {words}", self.answers)
            button.setObjectName(f"seen_{each.name.lower()}")
            button.setToolTip(each.value)
            button.setShortcut(f"Alt+{number + 1}")
            button.clicked.connect(partial(self._answer, each))
            self.buttons[each] = button
            grid.addWidget(button, number // 4, number % 4)
        column.addWidget(self.answers)
        self.lanes_button = QPushButton("Show the lanes", self)
        self.lanes_button.setObjectName("show_lanes")
        self.lanes_button.clicked.connect(self._dismiss)
        state.endings_changed.connect(self.follow)
        state.refreshed.connect(self.follow)  # the run itself is known to have ended a little later
        state.machine_changed.connect(self.follow)
        look.changed.connect(self._restyle)
        self._restyle()
        self.hide()

    def _restyle(self) -> None:
        scheme = self._look.scheme
        self.answers.setStyleSheet(
            f"QPushButton {{ font-size: 12px; padding: 5px 4px; color: {scheme.ink}; background: {scheme.field};"
            f" border: 1px solid {scheme.rule}; }} QPushButton:focus {{ border: 2px solid {scheme.straw}; }}"
        )
        self.lanes_button.setStyleSheet(
            f"QPushButton {{ font-size: 11px; padding: 2px 8px; color: {scheme.ink}; background: {scheme.field};"
            f" border: 1px solid {scheme.rule}; border-radius: 9px; }}"
        )

    @property
    def ending(self) -> MachineEnding | None:
        """The end that is shown: that of the newest run, while no other is in progress."""
        endings, run = self._state.endings, self._state.run
        if not endings or run.state not in (RunState.IDLE, RunState.ENDED):
            return None
        last = endings[-1]
        mine = run.run is None or last.run in (0, run.run) or bool(self._state.going_on.tried)
        return last if mine and self._dismissed != (last.boot_id, last.at) else None

    @property
    def wanted(self) -> bool:
        """Whether there is an end to be shown."""
        return self.ending is not None

    def follow(self) -> None:
        """Show what is known now."""
        ending = self.ending
        if ending is None:
            return
        self.answers.setVisible(bool(ending.question))
        key = (ending.boot_id, ending.at)
        if key != self._asked_for:
            self._asked_for = key
            self.paper.moments = None
            self.moments_wanted.emit(len(self._state.endings) - 1)
        self.paper.ending = ending
        self.paper.update()

    def take_moments(self, moments: LastMoments | None) -> None:
        """Take the last rows of the end that is shown."""
        self.paper.moments = moments
        self.paper.update()

    def _answer(self, seen: SeenAtEnd) -> None:
        if self._state.endings:
            self.seen.emit(len(self._state.endings) - 1, seen)

    def _dismiss(self) -> None:
        ending = self.ending
        if ending is not None:
            self._dismissed = (ending.boot_id, ending.at)
            self.lanes_wanted.emit()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Keep the button at its corner."""
        super().resizeEvent(event)
        size = self.lanes_button.sizeHint()
        self.lanes_button.setGeometry(self.width() - size.width() - 12, 6, size.width(), size.height())


class _Paper(PaintedWidget):
    """The painted part."""

    def __init__(self, state: BenchState, look: Look, parent: QWidget) -> None:
        super().__init__(state, look, "Last seconds before the end", parent)
        self.ending: MachineEnding | None = None
        self.moments: LastMoments | None = None
        self.setMinimumHeight(220)

    def draw(self, painter: QPainter) -> None:
        """Draw head, lanes and reasons."""
        ending = self.ending
        if ending is None:
            return
        self._draw_head(painter, ending)
        below = QRectF(0, _HEAD, self.width(), self.height() - _HEAD)
        side = round(below.width() * _SIDE_SHARE)
        left = QRectF(below.left(), below.top(), below.width() - side - 14, below.height())
        right = QRectF(left.right() + 14, below.top(), side, below.height())
        self._draw_strips(painter, left)
        if self.state.going_on.tried:
            self._draw_search(painter, right)
        else:
            self._draw_reasons(painter, right, ending)

    def _draw_head(self, painter: QPainter, ending: MachineEnding) -> None:
        scheme = self.look.scheme
        run = f"RUN {ending.run} ENDED BY" if ending.run else "THE IDLE MACHINE ENDED BY"
        draw_text(painter, QPointF(0, 14), run, scheme.soft, 11, bold=True)
        when = datetime.fromtimestamp(ending.wall).astimezone().strftime("%H:%M:%S")
        off = "" if ending.off_s is None else f", started again after {span_text(ending.off_s)}"
        loads = " and ".join(ending.loads) or "no load"
        draw_fitting(
            painter,
            QPointF(text_width(run, 11, bold=True) + 12, 14),
            f"at {when}{off}; under {loads}",
            scheme.soft,
            11,
            self.width() - text_width(run, 11, bold=True) - 140,
        )
        kind = ending.kind.value
        colour = scheme.fault if ending.is_evidence else scheme.ink
        draw_text(painter, QPointF(0, 42), kind[0].upper() + kind[1:], colour, 24, bold=True)
        at = text_width(kind, 24, bold=True) + 26
        if ending.kind is not EndingKind.UNKNOWN:
            sure = f"{ending.probability * 100:.0f} %"
            draw_text(painter, QPointF(at, 42), sure, colour, 16, bold=True)
            at += text_width(sure, 16, bold=True) + 22
        rest = [each for each in ending.chances if each.kind is not ending.kind and each.probability >= 0.01]
        for each in rest[:_MOST_CHANCES]:
            words = f"{each.kind.value} {each.probability * 100:.0f} %"
            wide = text_width(words, 11.5) + 14
            if at + wide > self.width():
                break
            draw_text(painter, QPointF(at, 36), words, scheme.soft, 11.5)
            bar = QRectF(at, 41, wide - 14, 4)
            painter.fillRect(bar, QColor(scheme.grid))
            painter.fillRect(QRectF(bar.left(), bar.top(), bar.width() * each.probability, 4), QColor(scheme.soft))
            at += wide

    def _draw_strips(self, painter: QPainter, rect: QRectF) -> None:
        scheme = self.look.scheme
        cores = self.ending.cores if self.ending is not None else ()
        strips = strips_of(self.moments, scheme.part, cores) if self.moments is not None else []
        if not strips:
            why = "no rows of the black box are left of it" if self.moments is None else "no channel had readings then"
            draw_text(painter, QPointF(rect.left(), rect.top() + 18), f"Last seconds: {why}", scheme.soft, 11.5)
            return
        axis = 18.0
        high = (rect.height() - axis) / len(strips)
        plot_left, plot_right = rect.left() + _LANE_TITLE, rect.right() - 18.0
        for number, strip in enumerate(strips):
            area = QRectF(plot_left, rect.top() + number * high + 2, plot_right - plot_left, high - 5)
            self._draw_strip(painter, strip, area, rect.left())
        bottom = rect.top() + high * len(strips)
        for seconds in (60, 45, 30, 15):
            x = plot_right - (plot_right - plot_left) * seconds / SHOWN_S
            draw_text(painter, QPointF(x, bottom + 13), f"−{seconds} s", scheme.soft, 10.5)
        painter.setPen(QPen(QColor(scheme.fault), 2.5))
        painter.drawLine(QPointF(plot_right, rect.top()), QPointF(plot_right, bottom + 2))
        flag = QRectF(plot_right - 15, bottom + 2, 30, 15)
        painter.fillRect(flag, QColor(scheme.fault))
        draw_text(painter, QPointF(flag.left() + 4, flag.bottom() - 4), "END", scheme.on_stop, 10.5, bold=True)

    def _draw_strip(self, painter: QPainter, strip: _Strip, area: QRectF, left: float) -> None:
        scheme = self.look.scheme
        painter.setPen(QPen(QColor(scheme.grid), 1))
        painter.setBrush(QColor(scheme.field))
        painter.drawRect(area)
        low, high = strip.span
        last = strip.lines[0][-1][1]
        digits = 2 if abs(last) < 20 else 0
        draw_fitting(painter, QPointF(left, area.top() + 12), strip.title, strip.colour, 11.5, _LANE_TITLE - 6)
        draw_text(
            painter, QPointF(left, area.top() + 26), f"{last:.{digits}f} {strip.unit}", scheme.ink, 11.5, bold=True
        )

        def at(seconds: float, value: float) -> QPointF:
            x = area.right() - min(SHOWN_S, seconds) / SHOWN_S * area.width()
            return QPointF(x, area.bottom() - (value - low) / (high - low) * area.height())

        if strip.limit is not None and low < strip.limit < high:
            painter.setPen(QPen(QColor(scheme.fault), 1, Qt.PenStyle.DashLine))
            painter.drawLine(at(SHOWN_S, strip.limit), at(0.0, strip.limit))
        painter.setPen(QPen(strip.colour, 1.5))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for line in strip.lines:
            painter.drawPolyline(QPolygonF([at(seconds, value) for seconds, value in line]))
        self.spots.append(
            Spot(area, f"{strip.title}: {last:.{digits}f} {strip.unit} in the last row{strip.limit_words}")
        )

    def _draw_reasons(self, painter: QPainter, rect: QRectF, ending: MachineEnding) -> None:
        scheme = self.look.scheme
        y = rect.top() + 12
        draw_text(painter, QPointF(rect.left(), y), "WHAT WAS LEFT BEHIND", scheme.soft, 11, bold=True)
        y += 6
        telling = [each for each in ending.traces if each.speaks_for is not None]
        others = [each for each in ending.traces if each.speaks_for is None and each.name not in ("another boot",)]
        for each in (*telling, *others):
            lines = wrap(each.words, 11.5, rect.width() - 12, 3)
            if y + 15 * len(lines) > rect.bottom() - 4:
                break
            colour = scheme.ink if each.speaks_for is not None else scheme.soft
            mark = QRectF(rect.left(), y + 6, 4, 15 * len(lines) - 4)
            painter.fillRect(mark, QColor(scheme.fault if each.speaks_for is ending.kind else scheme.grid))
            for line in lines:
                y += 15
                draw_text(painter, QPointF(rect.left() + 10, y), line, colour, 11.5)
            y += 5
        if ending.question and y + 20 < rect.bottom():
            draw_text(painter, QPointF(rect.left(), rect.bottom() - 6), ending.question, scheme.ink, 12.5, bold=True)
            return
        self._draw_compared(painter, QRectF(rect.left(), y + 4, rect.width(), rect.bottom() - y - 4))

    def _draw_compared(self, painter: QPainter, rect: QRectF) -> None:
        """Draw what the ends of this job have in common, as far as there is room."""
        scheme = self.look.scheme
        sentences = compare(self.state.endings)
        if not sentences or rect.height() < 50:
            return
        y = rect.top() + 12
        draw_text(painter, QPointF(rect.left(), y), "ENDS COMPARED", scheme.soft, 11, bold=True)
        for sentence in sentences:
            lines = wrap(sentence, 11.5, rect.width(), 2)
            if y + 15 * len(lines) > rect.bottom():
                break
            for line in lines:
                y += 15
                draw_text(painter, QPointF(rect.left(), y), line, scheme.ink, 11.5)
            y += 2

    def _draw_search(self, painter: QPainter, rect: QRectF) -> None:
        """Draw the groups of a search one below the other: the cores of each, and whether the machine ended."""
        scheme, search = self.look.scheme, self.state.going_on
        y = rect.top() + 12
        draw_text(painter, QPointF(rect.left(), y), "FINDING THE PART", scheme.soft, 11, bold=True)
        if search.named:
            lines = wrap(f"Ends under {search.named}", 14, rect.width(), 2)
            for line in lines:
                y += 19
                draw_text(painter, QPointF(rect.left(), y), line, scheme.fault, 14, bold=True)
        elif search.next_words:
            y += 18
            draw_fitting(painter, QPointF(rect.left(), y), f"Next: {search.next_words}", scheme.ink, 12, rect.width())
        y += 10
        cores = _cores_of(self.state)
        for words, ended, seconds, on in search.tried:
            if y + 30 > rect.bottom():
                break
            self._draw_group(
                painter, QRectF(rect.left(), y, rect.width(), 30), words, ended, seconds, on or cores, cores
            )
            y += 33
        self._draw_compared(painter, QRectF(rect.left(), y + 6, rect.width(), rect.bottom() - y - 6))

    def _draw_group(
        self,
        painter: QPainter,
        rect: QRectF,
        words: str,
        ended: bool,
        seconds: float,
        on: Sequence[int],
        cores: Sequence[int],
    ) -> None:
        scheme = self.look.scheme
        how = f"ended after {span_text(seconds)}" if ended else f"clean for {span_text(seconds)}"
        draw_fitting(painter, QPointF(rect.left(), rect.top() + 11), words, scheme.ink, 11.5, rect.width() - 118)
        colour = scheme.fault if ended else scheme.cleared
        draw_text(painter, QPointF(rect.right(), rect.top() + 11), how, colour, 11.5, right=True, bold=ended)
        wide = min(20.0, rect.width() / max(1, len(cores)))
        for number, core in enumerate(cores):
            cell = QRectF(rect.left() + number * wide, rect.top() + 16, wide - 3, 11)
            painter.setPen(QPen(QColor(scheme.rule), 1))
            painter.setBrush(QColor(scheme.field))
            painter.drawRect(cell)
            if core not in on:
                continue
            painter.setBrush(QColor(colour))
            painter.drawRect(cell)
            if ended:  # never by colour alone
                painter.setPen(QPen(QColor(scheme.on_stop), 1.5))
                painter.drawLine(cell.bottomLeft(), cell.topRight())
        self.spots.append(Spot(rect, f"{words}: {how}"))


def _cores_of(state: BenchState) -> tuple[int, ...]:
    machine = state.snapshot.machine if state.snapshot is not None else None
    return tuple(sorted({cpu.core for cpu in machine.cpus})) if machine is not None else ()


def strips_of(
    moments: LastMoments, colour_of: Callable[[PartKind | None], QColor], cores: Sequence[int] = ()
) -> list[_Strip]:
    """Return the lanes of the last seconds that have readings, the most telling first, and what the workers did.

    Where the loads ran on some `cores` only, it is those that are drawn.
    """
    rows = [row for row in moments.rows if row.at >= moments.rows[-1].at - SHOWN_S] if moments.rows else []
    strips: list[_Strip] = []
    for lane in choose_lanes(moments.channels):
        lines = []
        loaded = [each for each in lane.channels if moments.channels[each].core in cores] if cores else []
        for channel in (loaded or lane.lead)[:4]:
            points = [
                (rows[-1].at - row.at, value)
                for row in rows
                if channel < len(row.values) and (value := row.values[channel]) is not None
            ]
            if len(points) > 1:
                lines.append(tuple(points))
        if lines:
            limit = lane.limit.value if lane.limit is not None else None
            words = f"; limit {limit:g} {lane.unit}" if limit is not None else ""
            strips.append(_Strip(lane.title, lane.unit, colour_of(lane.kind), tuple(lines), limit, words))
    beats = _beats(rows)
    if beats:
        strips = [*strips[: _MOST_LANES - 1], _Strip("Beats", "/s", colour_of(PartKind.BOARD), (beats,), None)]
    return strips[:_MOST_LANES]


def _beats(rows: Sequence[Moment]) -> tuple[tuple[float, float], ...]:
    """Return the beats a second that all workers together did, over a second or more each."""
    points: list[tuple[float, float]] = []
    before = None
    for row in rows:
        workers = row.workers
        if not workers:
            before = None
            continue
        total = sum(each.beats for each in workers)
        if before is None:
            before = (row.at, total)
        elif row.at - before[0] >= 0.95:
            rate = max(0.0, (total - before[1]) / (row.at - before[0]))
            points.append((rows[-1].at - row.at, rate))
            before = (row.at, total)
    return tuple(points) if len(points) > 1 else ()
