"""Text from outside is text: labels, tooltips and message boxes never take it for a page with pictures and links."""

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QPalette
from PyQt6.QtWidgets import QApplication, QLabel, QProxyStyle, QWidget


class PlainTextStyle(QProxyStyle):
    """A style that makes every label that would guess show plain text; tooltips and message boxes are labels too."""

    def polish(self, what: QWidget | QApplication | QPalette | None) -> QPalette:  # type: ignore[override]
        """Called once for each widget before it is shown."""
        if isinstance(what, QLabel) and what.textFormat() is Qt.TextFormat.AutoText:
            what.setTextFormat(Qt.TextFormat.PlainText)
        return super().polish(what)  # type: ignore[return-value]
