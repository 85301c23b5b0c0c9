"""The lanes: one strip of chart a quantity, on one time axis, with one cursor, one now line and one marked range.

Painted by hand over the pyramid: a plotting package that keeps each curve as an object of its own took a second for a
frame of a day with two hundred channels, where 16 ms are wanted.
"""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSettings, QSize, Qt
from PyQt6.QtGui import (
    QColor,
    QPainter,
    QPen,
    QPixmap,
)
from PyQt6.QtWidgets import QWidget

from thresher.model.channels import Quantity
from thresher.model.errors import InputError
from thresher.model.findings import Finding, Severity
from thresher.model.parts import PartKind
from thresher.model.run_states import StepState
from thresher.model.sheet import clock_text
from thresher.sensors.continuation import Continuation, continue_rise
from thresher.sensors.lanes import Lane
from thresher.sensors.layout import (
    LaneLayout,
    arranged,
    decode_layout,
    encode_layout,
    machine_sort,
)
from thresher.ui.look import Look, draw_text, text_width
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState
from thresher.ui.stations.bench.lane_painter import LaneFrame, LanePainter, continuation_text, frame_of
from thresher.ui.time_axis import LEFT_MARGIN, RIGHT_MARGIN, TimeAxis

_FOLDED_HIGH = 22.0
_LOWEST_LANE = 44.0
_LOOK_BACK_S = 240.0
_SHORTEST_RANGE = 4.0
"""Pixels that the mouse has to move before a range is meant."""


class LanesCanvas(PaintedWidget):
    """All lanes of a machine, and what a person does with them."""

    def __init__(
        self,
        state: BenchState,
        look: Look,
        axis: TimeAxis,
        parent: QWidget | None = None,
        settings: QSettings | None = None,
    ) -> None:
        """Share the run sheet's axis; the lanes follow the machine. `settings` keeps arrangements, None nothing."""
        super().__init__(state, look, "Lanes", parent)
        self.setMinimumHeight(220)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._axis = axis
        self._settings = settings
        self.layout_of_lanes = LaneLayout()
        self.chosen = ""
        self._frames: list[LaneFrame] = []
        self._leads: dict[str, tuple[Continuation, float]] = {}
        self._chips: list[tuple[Lane, QRectF]] = []
        self._cursor_x: float | None = None
        self._marking: float | None = None
        self._panning: float | None = None
        self.range: tuple[float, float] | None = None
        self._base: QPixmap | None = None
        self._base_for: tuple[object, ...] = ()
        self._range_words: dict[str, str] = {}
        self._range_high: dict[str, float] = {}
        state.machine_changed.connect(self._take_layout)
        state.limits_changed.connect(self.update)
        axis.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        """As high as six lanes."""
        return QSize(600, 420)

    # ---- arrangement

    def _take_layout(self) -> None:
        """Take the arrangement that is remembered for machines of this sort."""
        self.layout_of_lanes, self.range, self.chosen = LaneLayout(), None, ""
        if self._settings is not None and self.state.lanes:
            text = self._settings.value(f"lanes/{machine_sort(self.state.lanes)}", "")
            if isinstance(text, str) and text:
                try:
                    self.layout_of_lanes = decode_layout(text)
                except InputError as error:
                    self.state.say_trouble(f"The arrangement of the lanes was not understood: {error}")
        self.update()

    def arrange(self, layout: LaneLayout) -> None:
        """Arrange the lanes again and remember it for machines of this sort."""
        self.layout_of_lanes = layout
        if self._settings is not None and self.state.lanes:
            self._settings.setValue(f"lanes/{machine_sort(self.state.lanes)}", encode_layout(layout))
        self.update()

    def shown(self) -> list[Lane]:
        """Return the lanes that stand open, in their order."""
        return arranged(self.state.lanes, self.layout_of_lanes)[0]

    def folded_lanes(self) -> list[Lane]:
        """Return the lanes that are folded, in their order."""
        return arranged(self.state.lanes, self.layout_of_lanes)[1]

    def _hidden(self) -> frozenset[int]:
        keys = self.layout_of_lanes.hidden
        if not keys:
            return frozenset()
        return frozenset(i for i, channel in enumerate(self.state.channels) if channel.key in keys)

    def _place(self, width: float, height: float) -> tuple[list[LaneFrame], list[Lane]]:
        """Return frames for the open lanes that fit, and the lanes that have no room."""
        open_lanes, rest = arranged(self.state.lanes, self.layout_of_lanes)
        room = height - (_FOLDED_HIGH if rest else 0.0)
        most = max(1, int(room // _LOWEST_LANE))
        fitting, left_out = open_lanes[:most], open_lanes[most:]
        if left_out and not rest:
            room -= _FOLDED_HIGH
        weights = [self.layout_of_lanes.heights.get(lane.key, 1.0) for lane in fitting]
        spare = max(0.0, room - _LOWEST_LANE * len(fitting))
        shares = [_LOWEST_LANE + spare * weight / sum(weights) for weight in weights] if weights else []
        frames, y = [], 0.0
        for lane, high in zip(fitting, shares, strict=True):
            area = QRectF(0, y + 1, width, high - 2)
            frames.append(frame_of(lane, area, self.state.history, self._axis, self.state.origin))
            y += high
        return frames, [*left_out, *rest]

    # ---- painting

    def draw(self, painter: QPainter) -> None:
        """Paint the lanes from their picture, then what moves with the mouse."""
        ratio = self.devicePixelRatioF()
        wanted = (
            self.size(),
            self._axis.begin,
            self._axis.end,
            len(self.state.history),
            self.layout_of_lanes,
            self.state.lanes,
            self.look.scheme,
            len(self.state.findings),
            self.state.origin,
            self.chosen,
            self.hasFocus(),
            ratio,
        )
        if wanted != self._base_for or self._base is None:
            self._base_for = wanted
            self._base = QPixmap(self.size() * ratio)
            self._base.setDevicePixelRatio(ratio)
            self._base.fill(QColor(self.look.scheme.panel))
            inside = QPainter(self._base)
            inside.setRenderHint(QPainter.RenderHint.TextAntialiasing)
            self._paint_lanes(inside, self.width(), self.height())
            inside.end()
        painter.drawPixmap(0, 0, self._base)
        self._note_spots()
        self._paint_range(painter)
        self._paint_cursor(painter)
        self._paint_now(painter, self.width(), self.height())

    def _paint_lanes(self, painter: QPainter, width: float, height: float, chips: bool = True) -> None:
        state = self.state
        self._frames, beneath = self._place(width, height)
        brush = LanePainter(painter, self.look.scheme, state.history, self._axis, state.origin, width)
        flags, hidden = self._flags(width), self._hidden()
        self._leads.clear()
        for frame in self._frames:
            brush.ground(frame, flags)
            brush.limit(frame, brush.curves(frame, hidden))
            key = frame.lane.key
            brush.margin(frame, key == self.chosen and self.hasFocus(), key in self.layout_of_lanes.pinned)
            found = self._continuation(frame.lane)
            if found is not None:
                self._leads[key] = found
                brush.continuation(frame, state.now, found[1], found[0])
        if chips:
            self._paint_folded(painter, beneath, width, height)

    def _flags(self, width: float) -> list[tuple[float, str]]:
        """Return a flag a pixel at most, faults before warnings."""
        scheme, flags = self.look.scheme, {}
        for finding in self.state.run_findings():
            at = finding.run_at or 0.0
            if self._axis.begin <= at <= self._axis.end:
                x = float(round(self._axis.x(at, width)))
                fault = finding.severity is Severity.FAULT
                if fault or x not in flags:
                    flags[x] = scheme.fault if fault else scheme.straw
        return list(flags.items())

    def _continuation(self, lane: Lane) -> tuple[Continuation, float] | None:
        """Where the hottest channel of a temperature lane leads while loads run, and its reading now."""
        state = self.state
        channel = state.channels[lane.lead[0]] if lane.lead and state.channels else None
        if channel is None or channel.quantity is not Quantity.TEMPERATURE or not state.run.busy_cores:
            return None
        if channel.kind not in (PartKind.PROCESSOR, PartKind.GRAPHICS):
            return None
        readings = [(value, i) for i in lane.lead if (value := state.value(i)) is not None]
        if not readings:
            return None
        value, hottest = max(readings)
        end = state.now + state.origin
        times, rows = state.history.rows(end - _LOOK_BACK_S, end)
        begun = max(
            (item.start_s for item in state.run.plan if item.state is StepState.RUNNING and not item.gate), default=0.0
        )
        loaded = times >= begun + state.origin
        found = continue_rise(times[loaded], rows[loaded, hottest].astype(np.float64))
        if found is not None and lane.limit is not None and found.level_c > lane.limit.value:
            # at its limit a chip lowers its clock, so that it never gets there
            return None if value >= lane.limit.value - 2 else (found, value)
        return None if found is None else (found, value)

    def _paint_folded(self, painter: QPainter, lanes: list[Lane], width: float, height: float) -> None:
        self._chips = []
        scheme, x, y = self.look.scheme, 12.0, height - _FOLDED_HIGH + 3
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for number, lane in enumerate(lanes):
            text = f"+ {lane.title}"
            wide = text_width(text, 10.5) + 14
            left = len(lanes) - number
            if x + wide > width - RIGHT_MARGIN - (48 if left > 1 else 0):
                draw_text(painter, QPointF(x + 2, y + 12), f"{left} more", scheme.soft, 10.5)
                self._chips.append((lane, QRectF(x, y, 48, 17)))
                return
            area = QRectF(x, y, wide, 17)
            chosen = lane.key == self.chosen and self.hasFocus()
            painter.setPen(QPen(scheme.part(lane.kind) if chosen else QColor(scheme.rule), 1.6 if chosen else 1.0))
            painter.setBrush(QColor(scheme.field))
            painter.drawRoundedRect(area, 8, 8)
            draw_text(painter, QPointF(x + 7, y + 12), text, scheme.part(lane.kind), 10.5)
            self._chips.append((lane, area))
            x += wide + 5

    def _note_spots(self) -> None:
        for frame in self._frames:
            lane = frame.lane
            lines = [f"{lane.title}, {lane.unit}: {len(lane.channels)} channels"]
            if lane.limit is not None:
                lines.append(f"limit {lane.limit.side.value} {lane.limit.value:g} {lane.unit}, {lane.limit.source}")
            found = self._leads.get(lane.key)
            lines += [continuation_text(*found, lane.limit)] if found is not None else []
            lines.append("right button or F10 with Shift: hide channels, move, fold, more height")
            self.spots.append(Spot(QRectF(0, frame.area.y(), LEFT_MARGIN, frame.area.height()), "\n".join(lines)))
        for lane, area in self._chips:
            self.spots.append(Spot(area, f"{lane.title} is folded; click to open it"))

    def _paint_now(self, painter: QPainter, width: float, height: float) -> None:
        """Paint the now line and its time at the foot."""
        now = self.state.now
        if not self._frames or not self._axis.begin <= now <= self._axis.end:
            return
        scheme, x = self.look.scheme, self._axis.x(now, width)
        bottom = self._frames[-1].area.bottom()
        painter.setPen(QPen(QColor(scheme.ink), 1.6))
        painter.drawLine(QPointF(x, 0), QPointF(x, bottom))
        label = clock_text(now)
        wide = text_width(label, 11, bold=True) + 10
        left = min(max(x - wide / 2, LEFT_MARGIN), width - wide - 2)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(scheme.ink))
        painter.drawRoundedRect(QRectF(left, bottom - 15, wide, 15), 2, 2)
        draw_text(painter, QPointF(left + 5, bottom - 4), label, scheme.panel, 11, bold=True)

    def _paint_cursor(self, painter: QPainter) -> None:
        if self._cursor_x is None or not self._frames:
            return
        scheme, x = self.look.scheme, self._cursor_x
        at = self._axis.time(x, self.width())
        if not self._axis.begin <= at <= self._axis.end:
            return
        painter.setPen(QPen(QColor(scheme.soft), 1))
        painter.drawLine(QPointF(x, 0), QPointF(x, self._frames[-1].area.bottom()))
        for frame in self._frames:
            reading = self.reading_at(frame.lane, at)
            y = min(frame.area.y() + 46, frame.area.bottom() - 4)
            draw_text(painter, QPointF(12, y), reading, scheme.ink, 12, bold=True, width=LEFT_MARGIN - 40.0)
        label = clock_text(at)
        wide = text_width(label, 10.5) + 8
        left = min(x + 4, self.width() - wide - RIGHT_MARGIN)
        ground = QColor(scheme.panel)
        ground.setAlphaF(0.9)
        bottom = self._frames[-1].area.bottom()
        painter.fillRect(QRectF(left, bottom - 15, wide, 14), ground)
        draw_text(painter, QPointF(left + 4, bottom - 4), label, scheme.ink, 10.5)

    def _paint_range(self, painter: QPainter) -> None:
        if self.range is None:
            return
        scheme, width = self.look.scheme, self.width()
        left, right = (self._axis.x(each, width) for each in self.range)
        shade = QColor(scheme.straw)
        shade.setAlphaF(0.16)
        for frame in self._frames:
            painter.fillRect(QRectF(left, frame.area.y(), right - left, frame.area.height()), shade)
            words = self._range_words.get(frame.lane.key, "")
            if words:
                wide = text_width(words, 10.5) + 10
                x = min(max(LEFT_MARGIN, left + 2), width - wide - RIGHT_MARGIN)
                # where the curves are not: below them when they run in the upper half
                y = frame.area.bottom() - 18 if self._range_high.get(frame.lane.key, 0) > 0.5 else frame.area.y() + 3
                ground = QColor(scheme.panel)
                ground.setAlphaF(0.92)
                painter.fillRect(QRectF(x, y, wide, 15), ground)
                draw_text(painter, QPointF(x + 5, y + 11), words, scheme.ink, 10.5)

    def repaint_now(self) -> None:
        """Paint at once instead of when the event loop comes to it, to be measured."""
        self.repaint()

    def picture(self, painter: QPainter, size: QSize) -> None:
        """Paint the lanes as they stand now, with title, times and job, for a file of its own."""
        state, scheme = self.state, self.look.scheme
        high = 34.0
        painter.fillRect(QRectF(0, 0, size.width(), size.height()), QColor(scheme.panel))
        number = f"Job {state.job['number']}, " if state.job.get("number") else ""
        title = f"{number}{state.job.get('machine', '')}"
        if state.snapshot is not None and state.snapshot.machine.simulated:
            title += " (simulated machine)"
        run = f"run {state.run.run}, {state.run.title}" if state.run.run is not None else "idle"
        span = f"{run}, {clock_text(self._axis.begin)} to {clock_text(self._axis.end)}"
        draw_text(painter, QPointF(12, 21), title, scheme.ink, 13, bold=True)
        draw_text(painter, QPointF(size.width() - 14.0, 21), span, scheme.soft, 11.5, right=True)
        painter.translate(0, high)
        painter.save()
        kept = self._frames, self._chips
        self._paint_lanes(painter, size.width(), size.height() - high, chips=False)
        for tick in self._axis.ticks(size.width()):
            x = self._axis.x(tick, size.width())
            draw_text(painter, QPointF(x - 20, -2), clock_text(tick), scheme.soft, 9.5)
        self._paint_now(painter, size.width(), size.height() - high)
        self._frames, self._chips = kept
        painter.restore()

    # ---- what can be asked

    def reading_at(self, lane: Lane, at: float) -> str:
        """Return what a lane's leading channels read at a time on the axis: one value, or lowest to highest."""
        state = self.state
        span = 2.0 * (state.health.interval_s if state.health else 1.0)
        times, rows = state.history.rows(at + state.origin - span, at + state.origin + span)
        if not len(times):
            return ""
        row = rows[int(np.abs(times - (at + state.origin)).argmin())]
        found = [float(row[channel]) for channel in lane.lead if not np.isnan(row[channel])]
        if not found:
            return ""
        digits = 0 if max(found) > 20 else 2
        low, high = f"{min(found):.{digits}f}", f"{max(found):.{digits}f}"
        return low if low == high else f"{low}–{high}"

    def mark(self, begin: float, end: float) -> None:
        """Mark a range of the axis and work out what each lane did in it."""
        self.range = (min(begin, end), max(begin, end))
        times, rows = self.state.history.rows(*(each + self.state.origin for each in self.range))
        hidden = self._hidden()
        self._range_words = {
            lane.key: range_text(lane, times, rows, [c for c in lane.lead if c not in hidden]) for lane in self.shown()
        }
        self._range_high = {}
        for frame in self._frames:
            values = rows[:, list(frame.lane.lead)]
            if values.size and not np.isnan(values).all():
                middle = float(np.nanmean(values))
                self._range_high[frame.lane.key] = (middle - frame.low) / (frame.high - frame.low)
        self.setAccessibleDescription(
            "; ".join(f"{lane.title}: {self._range_words[lane.key]}" for lane in self.shown())
        )
        self.update()

    def unmark(self) -> None:
        """Take the mark away."""
        self.range = None
        self._range_words = {}
        self.setAccessibleDescription("")
        self.update()

    def go_to_finding(self, step: int) -> Finding | None:
        """Bring the next (1) or the one before (-1) of the run's findings into the middle; return it."""
        findings = sorted(self.state.run_findings(), key=lambda each: each.run_at or 0.0)
        axis = self._axis
        middle = self._axis.time(self._cursor_x, self.width()) if self._cursor_x is not None else axis.begin
        after = [each for each in findings if (each.run_at or 0.0) > middle + 0.5]
        before = [each for each in findings if (each.run_at or 0.0) < middle - 0.5]
        found = (after[0] if after else None) if step > 0 else (before[-1] if before else None)
        if found is None:
            self.state.say_trouble("No finding further on" if step > 0 else "No finding before")
            return None
        at, half = found.run_at or 0.0, (axis.end - axis.begin) / 2
        axis.look_at(at - half, at + half)
        self._cursor_x = axis.x(at, self.width())
        self.state.say_trouble(f"{clock_text(at)}  {found.code}  {found.title}: {found.detail}")
        self.update()
        return found

    # ---- mouse and keyboard


def range_text(lane: Lane, times: np.ndarray, rows: np.ndarray, channels: list[int]) -> str:
    """Say what a lane's leading channels did in a range: minimum, mean, maximum, and the time beyond the limit."""
    values = rows[:, channels].astype(np.float64) if channels else np.empty((0, 0))
    if not values.size or np.isnan(values).all():
        return "no readings"
    low, mean, high = float(np.nanmin(values)), float(np.nanmean(values)), float(np.nanmax(values))
    digits = 0 if lane.unit in ("rpm", "MHz", "events") else 1 if high > 20 else 2
    text = f"min {low:.{digits}f}  mean {mean:.{digits}f}  max {high:.{digits}f} {lane.unit}"
    if lane.limit is not None and len(times) > 1:
        with np.errstate(invalid="ignore"):
            over = values > lane.limit.value if lane.limit.side.value == "below" else values < lane.limit.value
        beyond = over.any(axis=1)
        seconds = float(np.diff(times, prepend=times[0])[beyond].sum())
        text += f"  beyond its limit {clock_text(seconds)}" if seconds else ""
    return text
