"""A sound that is played or recorded while a question is open, by a process of its own."""

from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QColor, QKeyEvent, QPainter, QPaintEvent, QPen

from thresher.media.messages import Message, answer_of, parse_message, worker_arguments
from thresher.model.own_program import own_command
from thresher.model.questions import Answer, Question, SoundKind
from thresher.ui.look import Look, draw_text
from thresher.ui.questions.device_process import DeviceProcess
from thresher.ui.questions.pane import Pane

_LOWEST_DB = -60.0
_BAR_HIGH = 34.0
_AGAIN = "P"


class SoundPane(Pane):
    """Plays or records; a recording answers by itself, and P plays a sound again."""

    def __init__(self, look: Look, question: Question) -> None:
        """Be made for one question about a sound."""
        super().__init__(look, question)
        assert question.sound is not None
        self.kind: SoundKind = question.sound
        self.messages: list[Message] = []
        self.level_db = _LOWEST_DB
        self._process: DeviceProcess | None = None
        self.setFixedHeight(110)

    @property
    def playing(self) -> bool:
        """Whether the sound is on."""
        return self._process is not None

    def begin(self) -> None:
        """Start the process."""
        self.messages = []
        self._process = DeviceProcess(own_command(*worker_arguments(self.question)), self._take, self._ended, self)
        self.update()

    def end(self) -> None:
        """Stop the sound."""
        process, self._process = self._process, None
        if process is not None:
            process.end()

    def _take(self, line: bytes) -> None:
        message = parse_message(line)
        if message is None:
            return
        if message.level_db is not None:
            self.level_db = max(_LOWEST_DB, message.level_db)
        else:
            self.messages.append(message)
        self.update()

    def _ended(self) -> None:
        self._process = None
        self.update()
        if not any(each.reason or each.device for each in self.messages):
            self.messages.append(Message(reason="the process that plays and records has ended before its time"))
        if self.kind.recorded or any(each.reason for each in self.messages):
            self.by_itself.emit(answer_of(self.messages))

    def answer(self, word: str) -> Answer:
        """Return the answer with the name of the device and how many there are."""
        return answer_of(self.messages, word)

    def key(self, event: QKeyEvent, pressed: bool) -> bool:
        """Play again with P."""
        if not pressed or event.text().upper() != _AGAIN or self.kind.recorded:
            return False
        if not self.playing:
            self.begin()
        return True

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Draw the device, and the level while it records."""
        painter, scheme = QPainter(self), self.look.scheme
        device = next((each.device for each in self.messages if each.device), "")
        recorded = self.kind.recorded
        doing = ("Recording from" if recorded else "Playing on") if self.playing else "Played on"
        again = "" if recorded else f" · {_AGAIN} plays it again"
        words = f"{doing} {device}{again}" if device else "Opening the sound device…"
        area = QRectF(1, 46, self.width() - 2, _BAR_HIGH)
        draw_text(painter, QPointF(0, 28), words, scheme.soft, 15)
        painter.setPen(QPen(QColor(scheme.rule), 1.2))
        painter.setBrush(QColor(scheme.field))
        painter.drawRect(area)
        if recorded:
            filled = QRectF(area)
            filled.setWidth(area.width() * (1.0 - self.level_db / _LOWEST_DB))
            painter.fillRect(filled, QColor(scheme.ink))
            draw_text(painter, QPointF(0, 102), f"{self.level_db:.0f} dBFS", scheme.soft, 13)
        elif self.playing:
            sides = {SoundKind.LEFT: (0.0, 0.5), SoundKind.RIGHT: (0.5, 1.0)}.get(self.kind, (0.0, 1.0))
            on = QRectF(area.x() + sides[0] * area.width(), area.y(), (sides[1] - sides[0]) * area.width(), _BAR_HIGH)
            painter.fillRect(on.adjusted(4, 4, -4, -4), QColor(scheme.ink))
        painter.end()
