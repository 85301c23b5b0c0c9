"""The scene that a card draws under a raster load, for a person to watch: every frame was compared before it is shown.

The frames come through a file that the load writes (`graphics.mirror`), read beside the window's thread.
"""

import threading

from PyQt6.QtCore import QPointF, QRectF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QColor, QImage, QKeyEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from thresher.graphics.mirror import Frame, MirrorReader
from thresher.loads.status import LoadedCard
from thresher.model.card_port import Artefact
from thresher.model.errors import SourceUnavailable
from thresher.model.sheet import clock_text
from thresher.ui.look import Look, draw_text
from thresher.ui.state import BenchState
from thresher.ui.stations.bench.frame_strip import FrameHistory, draw_frames
from thresher.ui.stations.bench.frames_card import cards_of_run
from thresher.ui.theme import LIGHT

KEYS: dict[Qt.Key, Artefact] = {
    Qt.Key.Key_F: Artefact.FLICKER,
    Qt.Key.Key_D: Artefact.DOTS,
    Qt.Key.Key_S: Artefact.STRIPES,
    Qt.Key.Key_C: Artefact.COLOURS,
    Qt.Key.Key_T: Artefact.TEARING,
    Qt.Key.Key_B: Artefact.BLACK,
}
"""One key for each thing that a person may see."""
_SIZES = {"Fit the window": 0.0, "1 : 1": 1.0, "2 : 1": 2.0}
_LOOK_S = 0.03
_SAID_MS = 4000
_STRIP = 30.0


class _Follower(threading.Thread):
    """Reads the mirror on a thread of its own: its file may lie on a drive that is slow to answer."""

    def __init__(self, path: str, deliver: "SceneView") -> None:
        super().__init__(name="scene", daemon=True)
        self._path, self._view = path, deliver
        self.ended = threading.Event()

    def run(self) -> None:
        """Hand over every new frame until it is to end."""
        reader: MirrorReader | None = None
        while not self.ended.wait(_LOOK_S):
            try:
                reader = reader or MirrorReader(self._path)
            except SourceUnavailable:
                continue  # the load has not drawn yet; the window says so meanwhile
            # a window that is slow to paint gets the newest frame, and no queue of older ones
            frame = reader.newest() if self._view.ready.is_set() else None
            if frame is not None and not self.ended.is_set():
                self._view.ready.clear()
                try:
                    self._view.came.emit(frame)
                except RuntimeError:
                    return  # the window is gone


class SceneView(QWidget):
    """The newest frame, as large as the window lets it, or in whole pixels."""

    came = pyqtSignal(object)

    def __init__(self, parent: QWidget) -> None:
        """Show nothing yet."""
        super().__init__(parent)
        self.setAccessibleName("Scene")
        self.setMinimumSize(320, 180)
        self.image: QImage | None = None
        self.scale = 0.0
        self.hint = ""
        self.ready = threading.Event()
        self.ready.set()
        self.came.connect(self.show_frame)

    def show_frame(self, frame: Frame) -> None:
        """Show a frame; its rows come from the bottom."""
        picture = QImage(frame.pixels, frame.width, frame.height, 4 * frame.width, QImage.Format.Format_RGBX8888)
        self.image = picture.mirrored(False, True)
        self.ready.set()
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Paint the frame in the middle of black."""
        painter = QPainter(self)
        painter.fillRect(self.rect(), Qt.GlobalColor.black)
        image = self.image
        if image is None:
            draw_text(painter, QPointF(24, 40), "No frame yet: the load is starting.", LIGHT.paper, 14)
        else:
            scale = self.scale or min(self.width() / image.width(), self.height() / image.height())
            wide, high = image.width() * scale, image.height() * scale
            area = QRectF((self.width() - wide) / 2, (self.height() - high) / 2, wide, high)
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, not self.scale)
            painter.drawImage(area, image)
        if self.hint:
            painter.fillRect(QRectF(0, self.height() - 34.0, self.width(), 34), QColor(0, 0, 0, 170))
            draw_text(painter, QPointF(16, self.height() - 12.0), self.hint, LIGHT.paper, 13)
        painter.end()


class _Strip(QWidget):
    """Frame times below the scene."""

    def __init__(self, look: Look, parent: QWidget) -> None:
        super().__init__(parent)
        self._look = look
        self.card: LoadedCard | None = None
        self._history = FrameHistory()
        self.setFixedHeight(int(_STRIP))
        self.setAccessibleName("Frame times")

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        card = self.card
        times = self._history.add(card.card, card.recent_ms) if card is not None else ()
        median = card.middle_ms or 0.0 if card is not None else 0.0
        draw_frames(painter, QRectF(0, 2, self.width(), self.height() - 4.0), times, median, self._look.scheme)
        painter.end()


class SceneWindow(QWidget):
    """The scene with what a person may report. `seen` carries the card's name and what was seen."""

    seen = pyqtSignal(str, object)
    stop_wanted = pyqtSignal()

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Follow no card yet."""
        super().__init__(parent, Qt.WindowType.Window)
        self._state, self._look = state, look
        self._follower: _Follower | None = None
        self._mirror = ""
        self.card = ""
        self.setObjectName("scene_window")
        self.resize(1120, 720)
        self.view = SceneView(self)
        self.strip = _Strip(look, self)
        self.words = QLabel(self)
        self.said = QLabel(self)
        self.buttons: dict[Artefact, QPushButton] = {}
        self._bottom = QWidget(self)
        self._lay_out()
        self._hide_hint = QTimer(self)
        self._hide_hint.setSingleShot(True)
        self._hide_hint.timeout.connect(self._clear_hint)
        state.refreshed.connect(self.follow)
        look.changed.connect(self._restyle)
        self._restyle()

    def _lay_out(self) -> None:
        row = QHBoxLayout()
        row.setSpacing(6)
        row.addWidget(QLabel("I see:", self._bottom))
        for key, artefact in KEYS.items():
            button = QPushButton(f"{artefact.value.capitalize()} ({chr(key.value)})", self._bottom)
            button.setAccessibleName(f"I see {artefact.value}")
            button.setToolTip(
                f"Records that you see {artefact.value}, with whether the frames were right (key {chr(key.value)})"
            )
            button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            button.clicked.connect(lambda _checked=False, what=artefact: self.report(what))
            self.buttons[artefact] = button
            row.addWidget(button)
        row.addStretch(1)
        self.size_box = QComboBox(self._bottom)
        self.size_box.addItems(list(_SIZES))
        self.size_box.setAccessibleName("Size of the scene")
        self.size_box.setToolTip("Size of the scene: whole pixels show single wrong ones best")
        self.size_box.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.size_box.currentTextChanged.connect(self._resize_scene)
        self.full = QPushButton("Full screen (F11)", self._bottom)
        self.full.setToolTip("Shows nothing but the scene; the keys work there too, F11 comes back")
        self.full.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.full.clicked.connect(self.toggle_full_screen)
        row.addWidget(self.size_box)
        row.addWidget(self.full)
        lines = QHBoxLayout()
        lines.addWidget(self.words, 1)
        lines.addWidget(self.said)
        column = QVBoxLayout(self._bottom)
        column.setContentsMargins(14, 8, 14, 10)
        column.setSpacing(6)
        column.addWidget(self.strip)
        column.addLayout(lines)
        column.addLayout(row)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        outer.addWidget(self.view, 1)
        outer.addWidget(self._bottom)

    def _restyle(self) -> None:
        scheme = self._look.scheme
        self.setStyleSheet(
            f"#scene_window {{ background: {scheme.paper}; }} QLabel {{ color: {scheme.ink}; font-size: 13px; }}"
            f"QPushButton {{ color: {scheme.ink}; background: {scheme.field}; border: 1px solid {scheme.rule};"
            f" padding: 5px 10px; }}"
            f"QPushButton:focus, QComboBox:focus {{ border: 2px solid {scheme.processor}; }}"
            f"QComboBox {{ color: {scheme.ink}; background: {scheme.field}; border: 1px solid {scheme.rule};"
            f" padding: 4px 8px; }}"
        )

    # ---- which card

    def watch(self, card: str) -> None:
        """Show the scene of a card, by its kernel name."""
        self.card = card
        self.follow()
        self.show()
        self.raise_()
        self.activateWindow()
        self.setFocus()

    def follow(self) -> None:
        """Take in how the load does; a load that ended leaves its last frame."""
        card = next((each for each in cards_of_run(self._state) if each.card == self.card and each.mirror), None)
        simulated = self._state.snapshot is not None and self._state.snapshot.kind == "simulated"
        label = " (simulated)" if simulated else ""
        self.setWindowTitle(f"Scene of {self.card}{label}")
        for button in self.buttons.values():
            button.setEnabled(card is not None)
        self.strip.card = card
        self.strip.update()
        if card is None:
            self.words.setText(f"{self.card}{label}: no scene is drawn now")
            return
        rate = f", {1000 / card.middle_ms:.0f} frames per second" if card.middle_ms else ""
        self.words.setText(f"{card.card}{label}: {card.words}{rate}")
        if card.mirror != self._mirror or self._follower is None:
            self._end_follower()
            self._mirror = card.mirror
            self._follower = _Follower(card.mirror, self.view)
            self._follower.start()

    def _end_follower(self) -> None:
        if self._follower is not None:
            self._follower.ended.set()
            self._follower = None

    # ---- what a person does

    def report(self, seen: Artefact) -> None:
        """Pass on what the person sees."""
        if self.buttons[seen].isEnabled():
            self.seen.emit(self.card, seen)
            self.say(f"Recorded: {seen.value}, {clock_text(self._state.now)} into the run")

    def say(self, words: str) -> None:
        """Say something for some seconds."""
        self.said.setText(words)
        self.view.hint = words if self.isFullScreen() else ""
        self.view.update()
        self._hide_hint.start(_SAID_MS)

    def _clear_hint(self) -> None:
        self.said.setText("")
        self.view.hint = ""
        self.view.update()

    def _resize_scene(self, words: str) -> None:
        self.view.scale = _SIZES[words]
        self.view.update()

    def toggle_full_screen(self) -> None:
        """Show the scene alone on the whole screen, or come back from that."""
        if self.isFullScreen():
            self.showNormal()
            self._bottom.show()
            return
        self._bottom.hide()
        self.showFullScreen()
        keys = ", ".join(f"{chr(key.value)} {artefact.value}" for key, artefact in KEYS.items())
        self.say(f"I see: {keys}.  F11 leaves full screen, Esc stops the run.")

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Take the keys for what is seen, full screen and Stop."""
        if event is None:
            return
        artefact = next((seen for key, seen in KEYS.items() if key == event.key()), None)
        if artefact is not None and not event.isAutoRepeat():
            self.report(artefact)
        elif event.key() == Qt.Key.Key_F11:
            self.toggle_full_screen()
        elif event.key() == Qt.Key.Key_Escape:
            self.stop_wanted.emit()
        else:
            super().keyPressEvent(event)

    def closeEvent(self, event: object) -> None:
        """Read no more frames."""
        self._end_follower()
        super().closeEvent(event)  # type: ignore[arg-type]  # Qt hands over its own event
