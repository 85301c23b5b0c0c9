"""The window on the whole of a screen while a picture is judged there, and back to its place after it."""

from PyQt6.QtCore import QObject, QRect, Qt, QTimer
from PyQt6.QtGui import QGuiApplication, QScreen
from PyQt6.QtWidgets import QWidget

from thresher.model.questions import PICTURE_HIGH, PICTURE_WIDE, SHOWN_ELSEWHERE, Answer

_NEXT_PICTURE_MS = 1500


def connector_of(screen: str) -> str:
    """Return a connector's name without what drivers and systems write in different ways (HDMI-A-1, HDMI-1)."""
    return screen.upper().replace("-A-", "-").replace("DISPLAYPORT", "DP")


class FullScreen(QObject):
    """Takes the screen of a connector, and gives the window its place back when no picture follows."""

    def __init__(self, window: QWidget) -> None:
        """Belong to a window."""
        super().__init__(window)
        self._window = window
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.timeout.connect(self._give_back)
        self._before: tuple[Qt.WindowState, QRect] | None = None
        self._wanted: str | None = None

    def take(self, output: str) -> None:
        """Fill the screen at a connector; the window's own where that is unknown."""
        window = self._window
        if self._before is None:
            self._before = window.windowState(), window.geometry()
        screen = self._screen_of(output)
        if screen is not None and screen is not window.screen():
            window.showNormal()
            handle = window.windowHandle()
            if handle is not None:
                handle.setScreen(screen)
            window.setGeometry(screen.geometry())
        self._wanted = output
        window.showFullScreen()

    def _screen_of(self, output: str) -> QScreen | None:
        found = [each for each in QGuiApplication.screens() if connector_of(each.name()) == connector_of(output)]
        return found[0] if output and found else None

    def answer(self, word: str) -> Answer:
        """Return an answer, with the size of the picture in pixels and whether another screen had to show it."""
        screen = self._window.screen()
        if self._wanted is None or screen is None:
            return Answer(word)
        ratio = screen.devicePixelRatio()
        wide, high = round(screen.geometry().width() * ratio), round(screen.geometry().height() * ratio)
        elsewhere = bool(self._wanted) and self._screen_of(self._wanted) is None
        measured = ((PICTURE_WIDE, float(wide)), (PICTURE_HIGH, float(high)), (SHOWN_ELSEWHERE, float(elsewhere)))
        return Answer(word, measured, screen.name())

    def give_back_soon(self) -> None:
        """Give the window its place back, unless the next picture comes at once."""
        self._wanted = None
        if self._before is not None:
            self._later.start(_NEXT_PICTURE_MS)

    def _give_back(self) -> None:
        if self._before is not None and self._wanted is None:
            state, area = self._before
            self._before = None
            self._window.setWindowState(state)
            if (
                state & (Qt.WindowState.WindowMaximized | Qt.WindowState.WindowFullScreen)
                == Qt.WindowState.WindowNoState
            ):
                self._window.setGeometry(area)
