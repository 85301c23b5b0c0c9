"""Fields that a pointer or a finger passes over, with the buttons and the wheel that came."""

import time

from PyQt6.QtCore import QEvent, QPointF, QRect, QRectF, Qt
from PyQt6.QtGui import (
    QColor,
    QEventPoint,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPointingDevice,
    QTouchEvent,
    QWheelEvent,
)

from thresher.compose.key_times import KeyTimes
from thresher.model.questions import DOWNWARDS, FIELDS, FIELDS_LEFT, FINGERS, UPWARDS, Answer, Question, Watched
from thresher.ui.look import Look
from thresher.ui.questions.keys_pane import button_name, times_answer
from thresher.ui.questions.pane import Pane

_COLUMNS, _ROWS = 16, 9
_NOTCH = 120
"""Of a wheel's own unit, an eighth of a degree (Qt, QWheelEvent.angleDelta)."""


class FieldsPane(Pane):
    """Marks each field that was passed over; those under the buttons are left out."""

    covers = True

    def __init__(self, look: Look, question: Question) -> None:
        """Begin with no field passed."""
        super().__init__(look, question)
        self.touch = question.watch is Watched.TOUCH
        self.passed: set[tuple[int, int]] = set()
        self.covered: set[tuple[int, int]] = set()
        self.buttons = KeyTimes()
        self.up = self.down = self._turned_up = self._turned_down = 0
        self._last: QPointF | None = None
        self.most_fingers = 0
        self.setMouseTracking(True)
        self.setAttribute(Qt.WidgetAttribute.WA_AcceptTouchEvents, self.touch)

    def answer(self, word: str) -> Answer:
        """Return the fields passed over, the buttons and the notches of the wheel both ways."""
        found = times_answer(word, self.buttons)
        rest = (
            (FIELDS, float(_COLUMNS * _ROWS - len(self.covered))),
            (FIELDS_LEFT, float(self.left)),
            (UPWARDS, float(self.up)),
            (DOWNWARDS, float(self.down)),
            (FINGERS, float(self.most_fingers)),
        )
        names = ", ".join(self.buttons.came)
        return Answer(word, (*found.measured, *rest), found.details or names)

    @property
    def left(self) -> int:
        """How many fields were not passed over yet."""
        return _COLUMNS * _ROWS - len(self.passed | self.covered)

    def _area(self, column: int, row: int) -> QRectF:
        wide, high = self.width() / _COLUMNS, self.height() / _ROWS
        return QRectF(column * wide, row * high, wide, high)

    def leave_out(self, areas: list[QRect]) -> None:
        """Leave out the fields that buttons cover."""
        self.covered = {
            (column, row)
            for column in range(_COLUMNS)
            for row in range(_ROWS)
            if any(QRectF(area).intersects(self._area(column, row)) for area in areas)
        }
        self._report()

    def _report(self) -> None:
        """Say what has come."""
        if self.touch:
            self.said.emit(f"{self.left} fields left · {self.most_fingers} fingers at once")
        else:
            came = ", ".join(self.buttons.came) or "no button yet"
            self.said.emit(f"{self.left} fields left · {came} · wheel {self.up} up, {self.down} down")
        self.update()

    def _pass(self, at: QPointF) -> None:
        column, row = int(at.x() * _COLUMNS / max(1, self.width())), int(at.y() * _ROWS / max(1, self.height()))
        if 0 <= column < _COLUMNS and 0 <= row < _ROWS and (column, row) not in self.passed:
            self.passed.add((column, row))
            self._report()

    def _pass_along(self, start: QPointF, end: QPointF) -> None:
        """Pass over every field of a movement: a fast one comes in jumps."""
        steps = max(1, int((end - start).manhattanLength() / max(1, self.height() / _ROWS / 3)))
        for step in range(steps + 1):
            self._pass(start + (end - start) * (step / steps))

    def event(self, event: QEvent | None) -> bool:
        """Take touches; what the system makes of them for a pointer counts for nothing here."""
        kinds = (QEvent.Type.TouchBegin, QEvent.Type.TouchUpdate, QEvent.Type.TouchEnd)
        if self.touch and isinstance(event, QTouchEvent) and event.type() in kinds:
            points = event.points()
            self.most_fingers = max(self.most_fingers, len(points))
            for point in points:
                at = self.mapFromGlobal(point.globalPosition())
                begun = point.state() == QEventPoint.State.Pressed
                self._pass_along(at if begun else self.mapFromGlobal(point.globalLastPosition()), at)
            self._report()
            event.accept()
            return True
        return super().event(event)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Mark what the pointer passes over."""
        if event is not None and self._counts(event):
            self._pass_along(self._last or event.position(), event.position())
            self._last = event.position()

    def _counts(self, event: QMouseEvent) -> bool:
        device = event.device()
        finger = device is not None and device.type() == QPointingDevice.DeviceType.TouchScreen
        return not self.touch and not finger

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Note a button that goes down."""
        if event is not None and self._counts(event):
            self.buttons.press(button_name(event), time.monotonic())
            self._report()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        """Note a second press: a button that bounces comes as a double click."""
        self.mousePressEvent(event)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Note a button that goes up."""
        if event is not None and self._counts(event):
            self.buttons.release(button_name(event), time.monotonic())
            self._report()

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        """Count the wheel both ways."""
        if event is not None and not self.touch:
            # a pad sends a notch in many small pieces
            turned = event.angleDelta().y()
            self._turned_up += max(0, turned)
            self._turned_down += max(0, -turned)
            self.up, self.down = -(-self._turned_up // _NOTCH), -(-self._turned_down // _NOTCH)
            event.accept()
            self._report()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Draw the fields."""
        painter, scheme = QPainter(self), self.look.scheme
        painter.fillRect(self.rect(), QColor(scheme.paper))
        painter.setPen(QPen(QColor(scheme.rule), 1))
        for column in range(_COLUMNS):
            for row in range(_ROWS):
                if (column, row) not in self.covered:
                    done = (column, row) in self.passed
                    painter.setBrush(QColor(scheme.cleared if done else scheme.field))
                    painter.drawRect(self._area(column, row).adjusted(1, 1, -2, -2))
        painter.end()
