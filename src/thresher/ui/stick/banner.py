"""The warning that jobs are in memory only, until they are saved elsewhere."""

from collections.abc import Callable

from PyQt6.QtCore import QPointF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from thresher.stick.boot import HOME, StickState, stick_without_jobs
from thresher.ui.actions import MenuItem, add_action
from thresher.ui.look import Look, draw_text
from thresher.ui.stick.save_dialog import SaveDialog

_HIGH = 34


class MemoryBanner(QWidget):
    """One line over the foot of the window, as long as jobs do not last."""

    def __init__(self, state: StickState, look: Look, save: Callable[[], None], parent: QWidget | None = None) -> None:
        """`save` opens what saves jobs."""
        super().__init__(parent)
        self._look = look
        self.words = f"Jobs are in memory only and will be lost at shutdown: {state.reason}."
        self.setFixedHeight(_HIGH)
        self.setAccessibleName(self.words)
        self.save = QPushButton("Save jobs…  Ctrl+Shift+K", self)
        self.save.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.save.clicked.connect(lambda _checked=False: save())
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 4, 14, 4)
        row.addStretch(1)
        row.addWidget(self.save)
        look.changed.connect(self.update)

    def sizeHint(self) -> QSize:
        """As wide as the window."""
        return QSize(800, _HIGH)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Paint the line."""
        scheme, painter = self._look.scheme, QPainter(self)
        painter.fillRect(self.rect(), QColor(scheme.straw))
        width = self.width() - self.save.width() - 48.0
        draw_text(painter, QPointF(14, 22), self.words, "#1B1B16", 13, bold=True, width=width)
        painter.end()


def add_memory_banner(window: QWidget, column: QVBoxLayout, look: Look) -> None:
    """Add the warning and its key to a window, where jobs are in memory only."""
    state = stick_without_jobs()
    if state is None:
        return

    def save() -> None:
        dialog = SaveDialog(HOME, look.scheme, window)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()

    column.addWidget(MemoryBanner(state, look, save, window))
    add_action(window, None, MenuItem("Save jobs…", ("Ctrl+Shift+K",), save))
