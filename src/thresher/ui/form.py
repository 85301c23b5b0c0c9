"""What forms have in common: paper panels, scrolled columns, and one style for their fields."""

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QFrame, QLayout, QScrollArea, QVBoxLayout, QWidget

from thresher.ui.look import Look, panel
from thresher.ui.theme import Scheme


class Panel(QWidget):
    """A sheet of paper with a title and a column on it."""

    def __init__(self, title: str, look: Look, parent: QWidget) -> None:
        """`title` stands in its upper left corner, `aside` may be set for the right one."""
        super().__init__(parent)
        self._title, self._look, self.aside = title, look, ""
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(10, 34 if title else 10, 10, 10)
        self.column.setSpacing(7)
        look.changed.connect(self.update)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Paint the paper."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        panel(painter, QRectF(self.rect()), self._look.scheme, self._title, self.aside)
        painter.end()


def scrolled(widget: QWidget, parent: QWidget) -> QScrollArea:
    """Return a scroll area around a widget that is as wide as there is room."""
    scroll = QScrollArea(parent)
    scroll.setWidget(widget)
    scroll.setWidgetResizable(True)
    scroll.setFrameShape(QFrame.Shape.NoFrame)
    scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    return scroll


def emptied(layout: QLayout) -> None:
    """Take every widget out of a layout and let it go."""
    while (item := layout.takeAt(0)) is not None:
        widget, inner = item.widget(), item.layout()
        if widget is not None:
            widget.hide()
            widget.deleteLater()
        elif inner is not None:
            emptied(inner)


def form_style(scheme: Scheme) -> str:
    """Return the style sheet of fields, buttons and chips."""
    return (
        f"QLineEdit, QPlainTextEdit, QComboBox {{ background: {scheme.field}; color: {scheme.ink};"
        f" border: 1px solid {scheme.rule}; padding: 3px; font-size: 12px; }}"
        f"QLineEdit:focus, QPlainTextEdit:focus, QComboBox:focus {{ border: 2px solid {scheme.processor}; }}"
        "QComboBox { padding-right: 16px; }"
        "QComboBox QLineEdit { border: 0; padding: 0; background: transparent; }"
        "QComboBox::drop-down { border: 0; width: 16px; background: transparent; }"
        "QComboBox::down-arrow { image: none; }"
        f"QComboBox:disabled, QLineEdit:disabled {{ color: {scheme.soft}; background: {scheme.panel}; }}"
        f"QComboBox QAbstractItemView {{ background: {scheme.field}; color: {scheme.ink};"
        f" selection-background-color: {scheme.ink}; selection-color: {scheme.panel}; }}"
        f"QLabel {{ color: {scheme.soft}; font-size: 12px; }}"
        f"QLabel#trouble {{ color: {scheme.fault}; }}"
        f"QPushButton {{ color: {scheme.ink}; background: {scheme.panel}; border: 1px solid {scheme.rule};"
        " border-radius: 10px; padding: 3px 8px; font-size: 12px; }"
        f"QPushButton:checked {{ background: {scheme.ink}; color: {scheme.panel}; }}"
        f"QPushButton:disabled {{ color: {scheme.soft}; }}"
        f"QPushButton:focus {{ border: 2px solid {scheme.processor}; }}"
        f"QScrollArea, QScrollArea > QWidget > QWidget {{ background: {scheme.panel}; }}"
    )
