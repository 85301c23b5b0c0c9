"""The pages of a report as they will print: on a desk, one below the other, drawn when they come into view."""

from PyQt6.QtCore import QBuffer, QByteArray, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QImage, QPainter, QPaintEvent, QPen, QResizeEvent
from PyQt6.QtPdf import QPdfDocument
from PyQt6.QtWidgets import QScrollArea, QWidget

from thresher.ui.look import Look, draw_text, wrap

_EDGE, _GAP, _WIDEST = 18.0, 16.0, 760.0
_KEPT = 12
"""Drawn pages that are kept: each is some two megabytes."""


class _Desk(QWidget):
    """Draws the pages that are in view."""

    def __init__(self, look: Look, parent: QWidget) -> None:
        super().__init__(parent)
        self._look = look
        self.document = QPdfDocument(self)
        self._buffer: QBuffer | None = None
        self._drawn: dict[int, QImage] = {}
        self.message = ""
        self.setAccessibleName("Report as it will print")

    def show_pdf(self, data: bytes) -> None:
        """Show another PDF; what cannot be opened leaves an empty desk with a message."""
        self._drawn = {}
        self.document.close()
        buffer = QBuffer(self)
        buffer.setData(QByteArray(data))
        buffer.open(QBuffer.OpenModeFlag.ReadOnly)
        self.document.load(buffer)
        if self._buffer is not None:
            self._buffer.deleteLater()
        self._buffer = buffer
        if self.document.status() is not QPdfDocument.Status.Ready:
            self.message = "The pages cannot be shown here. The files can be saved all the same."
        self.lay_out()

    def page_size(self) -> tuple[float, float]:
        """Return how large a page is drawn; all are of one size."""
        size = self.document.pagePointSize(0)
        wide = min(self.width() - 2 * _EDGE, _WIDEST)
        return wide, wide * size.height() / size.width() if size.width() else wide

    def page_area(self, number: int) -> QRectF:
        """Return where a page lies."""
        wide, high = self.page_size()
        return QRectF((self.width() - wide) / 2, _EDGE + number * (high + _GAP), wide, high)

    def lay_out(self) -> None:
        """Be as high as all pages need."""
        pages = self.document.pageCount()
        high = self.page_area(pages - 1).bottom() + _EDGE if pages else 200
        self.setMinimumHeight(round(high))
        self.setAccessibleDescription(f"{pages} page{'' if pages == 1 else 's'}" if pages else self.message)
        self.update()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Lay the pages out for another width."""
        super().resizeEvent(event)
        self._drawn = {}
        self.lay_out()

    def _page(self, number: int, size: QSize) -> QImage:
        if number not in self._drawn:
            while len(self._drawn) >= _KEPT:
                self._drawn.pop(next(iter(self._drawn)))
            self._drawn[number] = self.document.render(number, size)
        return self._drawn[number]

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw what is in view."""
        painter, scheme = QPainter(self), self._look.scheme
        painter.fillRect(self.rect(), QColor(scheme.rail))
        shown = QRectF(event.rect()) if event is not None else QRectF(self.rect())
        ratio = self.devicePixelRatioF()
        for number in range(self.document.pageCount()):
            area = self.page_area(number)
            if not area.intersects(shown):
                continue
            painter.fillRect(area.translated(4, 4), QColor(scheme.rule))
            painter.fillRect(area, QColor("white"))
            image = self._page(number, QSize(round(area.width() * ratio), round(area.height() * ratio)))
            painter.drawImage(area, image)
            painter.setPen(QPen(QColor(scheme.rule), 1))
            painter.drawRect(area)
        if not self.document.pageCount() and self.message:
            for row, line in enumerate(wrap(self.message, 14, self.width() - 80, 6)):
                draw_text(painter, QPointF(40, 60 + 22 * row), line, scheme.soft, 14)
        painter.end()


class PageView(QScrollArea):
    """The desk with its pages; the arrow keys and Page Up and Down move it."""

    def __init__(self, look: Look, parent: QWidget) -> None:
        """Begin with an empty desk."""
        super().__init__(parent)
        self.setObjectName("report_pages")
        self.setAccessibleName("Report as it will print")
        self.setFrameShape(QScrollArea.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setWidgetResizable(True)
        self.desk = _Desk(look, self)
        self.setWidget(self.desk)
        look.changed.connect(self.desk.update)

    @property
    def document(self) -> QPdfDocument:
        """The PDF that is shown."""
        return self.desk.document

    def show_pdf(self, data: bytes) -> None:
        """Show a PDF from its beginning, or from where the same report was looked at."""
        bar = self.verticalScrollBar()
        at = bar.value() if bar is not None else 0
        self.desk.message = ""
        self.desk.show_pdf(data)
        if bar is not None:
            bar.setValue(at)

    def say(self, message: str) -> None:
        """Show why there is nothing to show."""
        self.desk.message = message
        self.desk.show_pdf(b"") if self.desk.document.pageCount() else self.desk.lay_out()
        self.desk.message = message
        self.desk.lay_out()
