"""Part tags on paper: two columns of tags on A4, written as a PDF that any viewer prints."""

from pathlib import Path

from PyQt6.QtCore import QMarginsF, QPointF, QRectF, QSizeF, Qt
from PyQt6.QtGui import QColor, QPageLayout, QPageSize, QPainter, QPdfWriter, QPen

from thresher.model.errors import EnvironmentFault
from thresher.report.tags import Tag
from thresher.ui.look import draw_fitting, draw_mark, draw_text
from thresher.ui.theme import LIGHT

_COLUMNS, _ROWS = 2, 6
_DPI = 96
_MARGIN_MM = 12.0


def write_tags(tags: tuple[Tag, ...], head: str, path: Path) -> int:
    """Write the tags as a PDF and return its pages; `head` is the job in a few words. Raises EnvironmentFault."""
    try:
        path.open("wb").close()
    except OSError as error:
        remedy = "Choose a folder that can be written."
        raise EnvironmentFault(f"writing {path}", error.strerror or str(error), remedy) from error
    writer = QPdfWriter(str(path))
    writer.setResolution(_DPI)
    margins = QMarginsF(_MARGIN_MM, _MARGIN_MM, _MARGIN_MM, _MARGIN_MM)
    writer.setPageLayout(
        QPageLayout(
            QPageSize(QPageSize.PageSizeId.A4), QPageLayout.Orientation.Portrait, margins, QPageLayout.Unit.Millimeter
        )
    )
    writer.setTitle(f"Part tags, {head}")
    painter = QPainter(writer)
    size = QSizeF(writer.width() / _COLUMNS, writer.height() / _ROWS)
    pages = 1
    for number, tag in enumerate(tags):
        on_page = number % (_COLUMNS * _ROWS)
        if number and on_page == 0:
            writer.newPage()
            pages += 1
        corner = QPointF(on_page % _COLUMNS * size.width(), on_page // _COLUMNS * size.height())
        draw_tag(painter, QRectF(corner, size), tag, head)
    painter.end()
    return pages


def draw_tag(painter: QPainter, area: QRectF, tag: Tag, head: str) -> None:
    """Draw one tag: cutting lines, a hole to tie it by, the code, and what is known."""
    scheme, inner = LIGHT, area.adjusted(8, 8, -8, -8)
    painter.setPen(QPen(QColor(scheme.soft), 0.8, Qt.PenStyle.DashLine))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRect(inner)
    painter.setPen(QPen(QColor(scheme.ink), 1.0))
    painter.drawEllipse(QPointF(inner.x() + 18, inner.center().y()), 7, 7)
    painter.fillRect(QRectF(inner.x() + 36, inner.y() + 10, 7, inner.height() - 20), scheme.part(tag.kind))
    left, wide = inner.x() + 54, inner.width() - 66
    draw_fitting(painter, QPointF(left, inner.y() + 44), tag.code, scheme.ink, 34, wide - 30)
    draw_mark(painter, QPointF(inner.right() - 22, inner.y() + 30), tag.status, scheme, 9.0)
    place = f", from {tag.place}" if tag.place else ""
    for line, (words, size, colour) in enumerate(
        (
            (f"{tag.kind.value}{place}", 13.0, scheme.ink),
            (tag.name, 12.0, scheme.ink),
            (tag.whose, 12.0, scheme.soft),
            (f"{head}; {tag.status.value}", 11.0, scheme.soft),
        )
    ):
        draw_text(painter, QPointF(left, inner.y() + 68 + 18 * line), words, colour, size, width=wide)
