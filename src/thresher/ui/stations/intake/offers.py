"""The proposed run sheets: why each is proposed, how long it takes, what it can and cannot find."""

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from thresher.model.sheet import clock_text
from thresher.protocol.intake import SheetOffer
from thresher.ui.form import emptied, scrolled
from thresher.ui.look import Look, draw_text, wrap
from thresher.ui.state import BenchState

_LINE = 15.0
_WIDE = 240.0


def offer_lines(offer: SheetOffer, wide: float = _WIDE) -> list[tuple[str, bool]]:
    """Return the lines of a card, each with whether it is a reason."""
    if offer.trouble:
        return [(line, True) for line in wrap(offer.trouble, 11.5, wide, 8)]
    lines = [(line, False) for line in wrap(offer.about, 11.5, wide, 3)]
    for reason in offer.reasons:
        lines += [(line, True) for line in wrap(f"– {reason}", 11.5, wide, 3)]
    for word, text in (("Finds", offer.finds), ("Not", offer.misses)):
        lines += [(line, False) for line in wrap(f"{word}: {text}", 11.5, wide, 3)] if text else []
    return lines


class OfferCard(QFrame):
    """A run sheet that may be put on the bench, kept as the shop's own, or, when it is that, changed."""

    chosen = pyqtSignal(str)
    kept = pyqtSignal(str)
    edited = pyqtSignal(str)

    def __init__(self, offer: SheetOffer, live: bool, look: Look, parent: QWidget) -> None:
        """`live` says whether anything can be done with it; a stored job's sheets can only be read."""
        super().__init__(parent)
        self._offer, self._look = offer, look
        self._lines = offer_lines(offer)
        top = 32 + int(_LINE * len(self._lines))
        self.setFixedHeight(top + 36)
        row = QHBoxLayout()
        row.setSpacing(4)
        row.addStretch(1)
        if offer.own:
            more = QPushButton("Change", self)
            more.setObjectName(f"edit_{offer.name}")
            more.setToolTip(f"Opens {offer.path} in an editor; it is reloaded when you return to this window")
            more.clicked.connect(lambda: self.edited.emit(offer.path))
        else:
            more = QPushButton("Keep a copy", self)
            more.setObjectName(f"keep_{offer.name}")
            more.setToolTip("Makes it the shop's own sheet, to be changed")
            more.clicked.connect(lambda: self.kept.emit(offer.name))
        more.setAccessibleName(f"{more.text()}: {offer.title}")
        self.button = QPushButton("Put on the bench", self)
        self.button.setObjectName(f"offer_{offer.name}")
        self.button.setAccessibleName(f"Put {offer.title} on the bench")
        self.button.setToolTip("Shows the sheet on the Bench; nothing is started")
        self.button.clicked.connect(lambda: self.chosen.emit(offer.name))
        self.button.setEnabled(live and not offer.trouble)
        more.setEnabled(live)
        row.addWidget(more)
        row.addWidget(self.button)
        column = QVBoxLayout(self)
        column.setContentsMargins(10, top, 10, 8)
        column.addLayout(row)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Paint title, length, reasons and what it can and cannot find."""
        scheme, offer = self._look.scheme, self._offer
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        area = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        painter.fillRect(area, QColor(scheme.field))
        painter.setPen(QPen(QColor(scheme.straw if offer.fits else scheme.rule), 2.0 if offer.fits else 1.0))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(area)
        length = "cannot be used" if offer.trouble else clock_text(offer.length_s)
        title = f"{offer.title} (shop's own)" if offer.own else offer.title
        draw_text(painter, QPointF(10, 22), title, scheme.ink, 13, bold=True, width=self.width() - 84.0)
        draw_text(painter, QPointF(self.width() - 10.0, 22), length, scheme.soft, 11.5, right=True)
        for number, (line, reason) in enumerate(self._lines):
            ink = scheme.fault if offer.trouble else scheme.ink if reason else scheme.soft
            draw_text(painter, QPointF(10, 40 + _LINE * number), line, ink, 11.5, width=self.width() - 20.0)
        painter.end()


class OffersPanel(QWidget):
    """All cards in a column that scrolls."""

    chosen = pyqtSignal(str)
    kept = pyqtSignal(str)
    edited = pyqtSignal(str)

    def __init__(self, state: BenchState, look: Look, parent: QWidget) -> None:
        """Begin empty."""
        super().__init__(parent)
        self._state, self._look = state, look
        self._shown: tuple[object, ...] = ()
        self._cards = QWidget(self)
        self._column = QVBoxLayout(self._cards)
        self._column.setContentsMargins(0, 0, 4, 0)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(scrolled(self._cards, self))
        state.intake_changed.connect(self._follow)

    def _follow(self) -> None:
        snapshot = self._state.snapshot
        live = snapshot is not None and snapshot.kind != "stored job"
        wanted = (self._state.intake.offers, live)
        if wanted == self._shown:
            return
        self._shown = wanted
        emptied(self._column)
        for offer in self._state.intake.offers:
            card = OfferCard(offer, live, self._look, self._cards)
            card.chosen.connect(self.chosen)
            card.kept.connect(self.kept)
            card.edited.connect(self.edited)
            self._column.addWidget(card)
        self._column.addStretch(1)
