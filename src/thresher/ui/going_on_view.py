"""The countdown before a run goes on by itself: what happened, what comes next, and that any key stops it."""

from PyQt6.QtCore import QEvent, QObject, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from thresher.ui.centred import centred_labels
from thresher.ui.look import Look
from thresher.ui.state import BenchState

_EVERY_MS = 250
_MODIFIERS = (Qt.Key.Key_Shift, Qt.Key.Key_Control, Qt.Key.Key_Alt, Qt.Key.Key_AltGr, Qt.Key.Key_Meta)


class GoingOnView(QWidget):
    """Covers the window while something is about to start by itself.

    `stopped` says that a key was pressed, `hurried` that it is to go on at once.
    """

    stopped = pyqtSignal()
    hurried = pyqtSignal()

    def __init__(self, state: BenchState, look: Look, window: QWidget) -> None:
        """Be hidden until something is due."""
        super().__init__(window)
        self._state, self._look, self._window = state, look, window
        self.setObjectName("going_on_view")
        self.setAccessibleName("Goes on by itself")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        names = ("happened", "count", "next", "ends", "hint")
        self.labels = dict(zip(names, centred_labels(self, *(f"going_on_{name}" for name in names)), strict=True))
        column = QVBoxLayout(self)
        column.setContentsMargins(110, 40, 110, 40)
        column.setSpacing(16)
        column.addStretch(2)
        for label in self.labels.values():
            column.addWidget(label)
        self.stop_button = QPushButton("Stop: nothing starts by itself", self)
        self.now_button = QPushButton("Go on now   Enter", self)
        for button, signal in ((self.stop_button, self.stopped), (self.now_button, self.hurried)):
            button.setFocusPolicy(Qt.FocusPolicy.NoFocus)
            button.clicked.connect(signal.emit)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(self.stop_button)
        row.addSpacing(16)
        row.addWidget(self.now_button)
        row.addStretch(1)
        column.addSpacing(10)
        column.addLayout(row)
        column.addStretch(3)
        self._timer = QTimer(self)
        self._timer.setInterval(_EVERY_MS)
        self._timer.timeout.connect(self._count)
        window.installEventFilter(self)
        state.endings_changed.connect(self.follow)
        state.machine_changed.connect(self.follow)
        look.changed.connect(self._restyle)
        self._restyle()
        self.hide()

    def _restyle(self) -> None:
        scheme = self._look.scheme
        self.setStyleSheet(
            f"QLabel {{ color: {scheme.ink}; }}"
            f"QLabel#going_on_happened {{ font-size: 20px; }}"
            f"QLabel#going_on_count {{ font-size: 64px; font-weight: bold; color: {scheme.ink}; }}"
            f"QLabel#going_on_next {{ font-size: 26px; font-weight: bold; }}"
            f"QLabel#going_on_ends {{ font-size: 15px; color: {scheme.soft}; }}"
            f"QLabel#going_on_hint {{ font-size: 18px; color: {scheme.fault}; font-weight: bold; }}"
            f"QPushButton {{ font-size: 17px; padding: 11px 20px; color: {scheme.ink}; background: {scheme.field};"
            f" border: 1.5px solid {scheme.rule}; }}"
        )

    def follow(self) -> None:
        """Show what is due, or go away."""
        event = self._state.going_on
        if event.due is None:
            self._timer.stop()
            if self.isVisible():
                self.hide()
                self._window.setFocus()
            return
        self.labels["happened"].setText(event.happened)
        self.labels["next"].setText(f"Next: {event.next_words}")
        self.labels["ends"].setText(f"That was sudden end {event.ends}; after {event.most} it stops by itself.")
        self.labels["hint"].setText("Any key stops it")
        self._count()
        self.setGeometry(self._window.rect())
        self.show()
        self.raise_()
        self.setFocus(Qt.FocusReason.OtherFocusReason)
        self._timer.start()

    def _count(self) -> None:
        due = self._state.going_on.due
        if due is None:
            return
        left = max(0.0, due - self._state.machine_now)
        self.labels["count"].setText(f"{left:.0f} s" if left < 100 else f"{int(left) // 60}:{int(left) % 60:02d}")

    def event(self, event: QEvent | None) -> bool:
        """Take keys before the window's shortcuts do."""
        if event is not None and event.type() == QEvent.Type.ShortcutOverride:
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Enter goes on at once; any other key stops it."""
        if event is None or event.key() in _MODIFIERS or event.isAutoRepeat():
            return
        (self.hurried if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) else self.stopped).emit()

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """Stay as large as the window."""
        if watched is self._window and event is not None and event.type() == QEvent.Type.Resize and self.isVisible():
            self.setGeometry(self._window.rect())
        return False

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Paint the paper."""
        painter = QPainter(self)
        painter.fillRect(self.rect(), QColor(self._look.scheme.paper))
        painter.end()
