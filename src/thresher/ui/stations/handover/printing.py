"""Printing the pages of a PDF on whatever printer was chosen."""

from PyQt6.QtCore import QBuffer, QByteArray, QRectF, QSize
from PyQt6.QtGui import QPageSize, QPainter
from PyQt6.QtPdf import QPdfDocument
from PyQt6.QtPrintSupport import QPrinter

from thresher.model.errors import EnvironmentFault
from thresher.shop.details import Paper

_SIZES = {Paper.A4: QPageSize.PageSizeId.A4, Paper.LETTER: QPageSize.PageSizeId.Letter}
_MOST_DPI = 300


def printer_for(paper: Paper) -> QPrinter:
    """Return a printer set to a sheet of paper, with no margin of its own: the pages have theirs."""
    printer = QPrinter(QPrinter.PrinterMode.HighResolution)
    printer.setPageSize(QPageSize(_SIZES[paper]))
    printer.setFullPage(True)
    return printer


def print_pdf(data: bytes, printer: QPrinter) -> int:
    """Print all pages of a PDF and return how many there were; may be called on any thread.

    Raises EnvironmentFault when the printer does not start.
    """
    document, buffer = QPdfDocument(None), QBuffer()
    buffer.setData(QByteArray(data))
    buffer.open(QBuffer.OpenModeFlag.ReadOnly)
    document.load(buffer)
    painter = QPainter()
    if not painter.begin(printer):
        raise EnvironmentFault("printing the report", "the printer did not start", "Save it as PDF and print that.")
    scale = min(1.0, _MOST_DPI / printer.resolution())
    area = QRectF(printer.pageLayout().fullRectPixels(printer.resolution()))
    for number in range(document.pageCount()):
        if number:
            printer.newPage()
        size = QSize(round(area.width() * scale), round(area.height() * scale))
        painter.drawImage(QRectF(0, 0, area.width(), area.height()), document.render(number, size))
    painter.end()
    pages = document.pageCount()
    document.close()
    return pages
