"""A list on the paper of a station: rows that a delegate paints, scrolled by the pixel, without a frame."""

from PyQt6.QtCore import QModelIndex, Qt
from PyQt6.QtGui import QKeyEvent, QMouseEvent
from PyQt6.QtWidgets import QListView, QWidget

from thresher.ui.look import Look


class PaperList(QListView):
    """Base of the lists of the stations; they set a model and a delegate."""

    def __init__(self, look: Look, name: str, spoken: str, parent: QWidget | None = None) -> None:
        """`name` is the object's, `spoken` what a screen reader says."""
        super().__init__(parent)
        self.setObjectName(name)
        self.setAccessibleName(spoken)
        self.setUniformItemSizes(True)
        self.setVerticalScrollMode(QListView.ScrollMode.ScrollPerPixel)
        self.setFrameShape(self.Shape.NoFrame)
        self._look = look
        look.changed.connect(self._restyle)
        self._restyle()

    def _restyle(self) -> None:
        self.setStyleSheet(f"QListView {{ background: {self._look.scheme.panel}; }}")


class PickList(PaperList):
    """A list whose rows are put in or left out: by a click, Space or Enter."""

    def pick(self, index: QModelIndex) -> None:
        """Put a row in, or leave it out."""
        raise TypeError(f"{type(self).__name__} picks nothing")

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Space and Enter pick."""
        if event is not None and event.key() in (Qt.Key.Key_Space, Qt.Key.Key_Return, Qt.Key.Key_Enter):
            if self.currentIndex().isValid():
                self.pick(self.currentIndex())
            event.accept()
            return
        super().keyPressEvent(event)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """A click picks."""
        super().mouseReleaseEvent(event)
        if event is not None and event.button() is Qt.MouseButton.LeftButton:
            index = self.indexAt(event.pos())
            if index.isValid():
                self.pick(index)
