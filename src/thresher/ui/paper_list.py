"""A list on the paper of a station: rows that a delegate paints, scrolled by the pixel, without a frame."""

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
