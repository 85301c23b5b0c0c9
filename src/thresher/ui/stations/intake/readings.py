"""Every channel: its reading now and at idle, its limit, what is odd about it. Limits and trust are set here."""

from collections.abc import Callable

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget

from thresher.model.channels import Channel, IdleReading, LimitSide, Quantity, SensorDoubt
from thresher.ui.chooser import Chooser
from thresher.ui.form import scrolled
from thresher.ui.look import Look, draw_text, wrap
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState

_ROW, _LINE = 38.0, 15.0


def number_text(channel: Channel, value: float | None) -> str:
    """Return a reading with its unit, as many digits as its quantity bears."""
    if value is None:
        return "no reading"
    whole = channel.quantity in (Quantity.FAN, Quantity.THROTTLE)
    digits = 0 if whole else 1 if channel.quantity in (Quantity.TEMPERATURE, Quantity.USE, Quantity.POWER) else 2
    return f"{value:.{digits}f} {channel.unit}"


def limit_text(channel: Channel) -> str:
    """Return a channel's limits and who says so, in one line."""
    entries = []
    for side in LimitSide:
        limit = next((each for each in channel.limits if each.side is side), None)
        if limit is not None:
            entries.append(f"{side.value} {limit.value:.4g}, {limit.reason or limit.source}")
    return "; ".join(entries) or "no limit"


class ChannelList(PaintedWidget):
    """Draws the channels; `picked` carries the key of the chosen one."""

    picked = pyqtSignal(str)

    def __init__(self, state: BenchState, look: Look, parent: QWidget) -> None:
        """Begin with nothing chosen."""
        super().__init__(state, look, "Readings and limits", parent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.chosen = ""
        self._areas: list[tuple[str, QRectF]] = []
        state.intake_changed.connect(self._fit)

    def ordered(self) -> list[int]:
        """Return the channels, those with something odd first."""
        odd = {doubt.channel for doubt in self._doubts()}
        channels = self.state.channels
        return sorted(range(len(channels)), key=lambda i: (channels[i].key not in odd and not channels[i].distrust, i))

    def _doubts(self) -> tuple[SensorDoubt, ...]:
        baseline = self.state.intake.baseline
        return baseline.doubts if baseline else ()

    def _idle(self, key: str) -> IdleReading | None:
        baseline = self.state.intake.baseline
        return next((each for each in baseline.readings if each.channel == key), None) if baseline else None

    def _notes(self, channel: Channel) -> list[str]:
        """Return the lines about what is odd."""
        room = self.width() - 24.0
        lines: list[str] = []
        for doubt in self._doubts():
            if doubt.channel == channel.key:
                lines += wrap(f"{doubt.code} {doubt.title}: {doubt.detail}", 11, room, 3)
        if channel.distrust:
            why = "" if lines else f": {channel.distrust}"
            lines += wrap(f"Ignored for limits and diagnosis{why}", 11, room, 3)
        return lines

    def _fit(self) -> None:
        high = sum(_ROW + _LINE * len(self._notes(channel)) for channel in self.state.channels)
        self.setMinimumHeight(int(high) + 6)
        self.update()

    def resizeEvent(self, _event: object) -> None:
        """Lines break elsewhere at another width."""
        self._fit()

    def draw(self, painter: QPainter) -> None:
        """Draw a row a channel."""
        scheme, y = self.look.scheme, 0.0
        self._areas = []
        for index in self.ordered():
            channel = self.state.channels[index]
            notes = self._notes(channel)
            area = QRectF(1, y, self.width() - 2.0, _ROW + _LINE * len(notes))
            if channel.key == self.chosen:
                painter.fillRect(area, QColor(scheme.field))
                painter.setPen(QPen(QColor(scheme.processor if self.hasFocus() else scheme.rule), 1.5))
                painter.drawRect(area.adjusted(0.5, 0.5, -0.5, -1.5))
            painter.fillRect(QRectF(area.x(), y + 4, 3, area.height() - 8), scheme.part(channel.kind))
            value = self.state.value(index)
            ink = scheme.soft if channel.distrust else scheme.ink
            shown = number_text(channel, value)
            wide = draw_text(painter, QPointF(area.right() - 8, y + 16), shown, ink, 12, bold=True, right=True)
            draw_text(painter, QPointF(12, y + 16), channel.name, ink, 12, width=area.width() - wide - 30)
            idle = self._idle(channel.key)
            mean = f"idle {number_text(channel, idle.mean)}" if idle is not None and idle.mean is not None else ""
            wide = draw_text(painter, QPointF(area.right() - 8, y + 31), mean, scheme.soft, 11, right=True)
            draw_text(
                painter, QPointF(12, y + 31), limit_text(channel), scheme.soft, 11, width=area.width() - wide - 30
            )
            for number, line in enumerate(notes):
                draw_text(painter, QPointF(12, y + 46 + _LINE * number), line, scheme.fault, 11)
            entries = [f"{channel.name}: {shown}", f"read from {channel.source}", *_idle_words(channel, idle)]
            entries += [
                f"limit: {limit.side.value} {limit.value:g} {channel.unit}, {limit.source}"
                + (f", because {limit.reason}" if limit.reason else "")
                for limit in channel.limits
            ]
            self.spots.append(Spot(area, "\n".join([*entries, *notes])))
            self._areas.append((channel.key, area))
            y = area.bottom()

    def pick(self, key: str) -> None:
        """Choose a channel."""
        self.chosen = key
        self.picked.emit(key)
        self.update()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Choose the channel under the mouse."""
        if event is not None:
            hit = next((key for key, area in self._areas if area.contains(event.position())), None)
            if hit is not None:
                self.pick(hit)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Go from channel to channel."""
        keys = [self.state.channels[index].key for index in self.ordered()]
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key())) if event is not None else None
        if step is None or not keys:
            super().keyPressEvent(event)
            return
        now = keys.index(self.chosen) if self.chosen in keys else -1 if step > 0 else 0
        self.pick(keys[(now + step) % len(keys)])


def _idle_words(channel: Channel, idle: IdleReading | None) -> list[str]:
    if idle is None or idle.low is None or idle.high is None:
        return []
    return [f"at idle: {idle.low:.4g} to {idle.high:.4g} {channel.unit} in {idle.readings} readings"]


class ReadingsPanel(QWidget):
    """The list, the idle readings above it, and below it what can be changed on the chosen channel.

    `limit_wanted` carries channel, side, value (None takes the limit away) and reason; `trust_wanted` channel,
    trusted and reason; `idle_wanted` asks for idle readings.
    """

    limit_wanted = pyqtSignal(str, str, object, str)
    trust_wanted = pyqtSignal(str, bool, str)
    idle_wanted = pyqtSignal()

    def __init__(self, state: BenchState, look: Look, parent: QWidget) -> None:
        """Lay the panel out."""
        super().__init__(parent)
        self._state = state
        self.idle_button = QPushButton("Take idle readings", self)
        self.idle_button.setObjectName("take_idle")
        self.idle_button.setToolTip("Read every channel for 30 s with nothing running, and show what is odd")
        self.idle_button.clicked.connect(self.idle_wanted)
        self.notice = QLabel("", self)
        self.notice.setWordWrap(True)
        self.list = ChannelList(state, look, self)
        self.list.picked.connect(self._show)
        self.side = Chooser(self)
        self.side.setObjectName("limit_side")
        self.side.setAccessibleName("Limit: which side")
        for side in LimitSide:
            self.side.addItem(side.value)
        self.value, self.reason = QLineEdit(self), QLineEdit(self)
        self.value.setObjectName("limit_value")
        self.value.setAccessibleName("Limit: value")
        self.value.setPlaceholderText("value")
        self.reason.setObjectName("limit_reason")
        self.reason.setAccessibleName("Limit or trust: why")
        self.reason.setPlaceholderText("why; the report repeats it")
        self.set_button = self._button("Set limit", "limit_set", self._set_limit)
        self.clear_button = self._button("Remove limit", "limit_clear", self._clear_limit)
        self.trust_button = self._button("Trust sensor", "trust", self._toggle_trust)
        self.name = QLabel("Pick a channel to change its limit", self)
        grid = QGridLayout()
        grid.setSpacing(4)
        grid.addWidget(self.name, 0, 0, 1, 3)
        grid.addWidget(self.side, 1, 0)
        grid.addWidget(self.value, 1, 1)
        grid.addWidget(self.trust_button, 1, 2)
        grid.addWidget(self.reason, 2, 0, 1, 3)
        grid.addWidget(self.clear_button, 3, 0, 1, 2)
        grid.addWidget(self.set_button, 3, 2)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        top = QHBoxLayout()
        top.addWidget(self.idle_button)
        top.addWidget(self.notice, 1)
        column.addLayout(top)
        column.addWidget(scrolled(self.list, self), 1)
        column.addLayout(grid)
        state.refreshed.connect(self._follow)
        state.intake_changed.connect(self._follow)
        self._show("")

    def _button(self, text: str, name: str, slot: Callable[[], None]) -> QPushButton:
        button = QPushButton(text, self)
        button.setObjectName(name)
        button.setAccessibleName(text)
        button.clicked.connect(slot)
        return button

    def _channel(self) -> Channel | None:
        return next((each for each in self._state.channels if each.key == self.list.chosen), None)

    def _follow(self) -> None:
        intake, snapshot = self._state.intake, self._state.snapshot
        busy = self._state.active or snapshot is None or snapshot.kind == "stored job"
        self.idle_button.setEnabled(intake.baseline_left_s is None and not busy)
        if intake.baseline_left_s is not None:
            left = self._state.idle_left()
            self.notice.setText(f"{left:.0f} s left" if left else "summing up")
        elif intake.baseline is not None:
            odd = len(intake.baseline.doubts)
            self.notice.setText(f"taken over {intake.baseline.seconds:.0f} s, {f'{odd} odd' if odd else 'nothing odd'}")
        else:
            self.notice.setText("none taken of this machine yet")
        channel = self._channel()
        for widget in (self.set_button, self.clear_button, self.trust_button):
            widget.setEnabled(channel is not None and not busy)
        if channel is not None:
            self.trust_button.setText("Trust sensor" if channel.distrust else "Ignore sensor")

    def _show(self, key: str) -> None:
        channel = self._channel()
        if channel is not None:
            self.name.setText(f"{channel.name}, in {channel.unit}")
            side = LimitSide.BELOW if any(each.side is LimitSide.BELOW for each in channel.limits) else LimitSide.ABOVE
            side = side if channel.limits else LimitSide.BELOW
            self.side.setCurrentText(side.value)
            limit = next((each for each in channel.limits if each.side is side), None)
            self.value.setText(f"{limit.value:g}" if limit else "")
            self.reason.setText(limit.reason if limit else "")
        self._follow()

    def _set_limit(self) -> None:
        try:
            value = float(self.value.text().replace(",", "."))
        except ValueError:
            self.name.setText(f"Expected a number, found {self.value.text()!r}")
            self.value.setFocus()
            return
        if not self.reason.text().strip():
            self.name.setText("Give a reason; the report repeats it")
            self.reason.setFocus()
            return
        self.limit_wanted.emit(self.list.chosen, self.side.currentText(), value, self.reason.text())

    def _clear_limit(self) -> None:
        self.limit_wanted.emit(self.list.chosen, self.side.currentText(), None, "")

    def _toggle_trust(self) -> None:
        channel = self._channel()
        if channel is not None:
            self.trust_wanted.emit(channel.key, bool(channel.distrust), self.reason.text())
