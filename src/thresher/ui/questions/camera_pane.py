"""The picture of a camera, by a process of its own."""

import base64

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QImage, QPainter, QPaintEvent

from thresher.media.frames import WORKER, Frame, camera_answer, parse_frame
from thresher.model.own_program import own_command
from thresher.model.questions import Answer, Question
from thresher.ui.look import Look, draw_text
from thresher.ui.questions.device_process import DeviceProcess
from thresher.ui.questions.pane import Pane


class CameraPane(Pane):
    """Shows what the camera sees, with how many frames have come."""

    def __init__(self, look: Look, question: Question) -> None:
        """Be made for one question about a camera."""
        super().__init__(look, question)
        self.picture, self.last = QImage(), Frame()
        self._process: DeviceProcess | None = None
        self.setMinimumHeight(390)

    def begin(self) -> None:
        """Start the process that reads the camera."""
        self._process = DeviceProcess(own_command(WORKER, str(self.question.device)), self._take, self._ended, self)

    def end(self) -> None:
        """Let go of the camera."""
        process, self._process = self._process, None
        if process is not None:
            process.end()

    def _take(self, line: bytes) -> None:
        frame = parse_frame(line)
        if frame is None:
            return
        self.last = frame
        if frame.picture:
            self.picture.loadFromData(base64.b64decode(frame.picture))
        self.update()

    def _ended(self) -> None:
        if not self.last.reason:
            self.last = Frame(reason="the process that reads the camera has ended before its time")
        self.by_itself.emit(camera_answer("", self.last))

    def answer(self, word: str) -> Answer:
        """Return the answer with what the frames show."""
        return camera_answer(word, self.last)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Draw the newest frame, and below it how many have come."""
        painter, scheme = QPainter(self), self.look.scheme
        area = QRectF(0, 0, self.width(), self.height() - 30)
        painter.fillRect(area, QColor(scheme.field))
        words = "Opening the camera…"
        if not self.picture.isNull():
            shown = self.picture.scaled(area.size().toSize(), Qt.AspectRatioMode.KeepAspectRatio)
            painter.drawImage(QPointF(area.center().x() - shown.width() / 2, area.y()), shown)
            words = f"{self.last.device} · {self.last.frames} frames"
        draw_text(painter, QPointF(0, self.height() - 8), words, scheme.soft, 15)
        painter.end()
