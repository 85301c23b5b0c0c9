"""The proposed run sheets: why each is proposed, how long it takes, what it can and cannot find."""

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from thresher.compose.entry import length_text
from thresher.protocol.intake import SheetOffer
from thresher.ui.form import emptied, scrolled
from thresher.ui.look import Look, draw_text, text_width, wrap
from thresher.ui.state import BenchState
from thresher.ui.stations.bench.sheet_list import offer_line, short_title

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
    """A run sheet that may be put on the bench, kept as the shop's own, or, when it is that, changed.

    Closed it shows title, time and one reason; `opened` comes when it is clicked, and open it shows everything.
    """

    opened = pyqtSignal(str)
    chosen = pyqtSignal(str)
    kept = pyqtSignal(str)
    edited = pyqtSignal(str)

    def __init__(self, offer: SheetOffer, live: bool, look: Look, parent: QWidget) -> None:
        """`live` says whether anything can be done with it; a stored job's sheets can only be read."""
        super().__init__(parent)
        self.offer, self._look = offer, look
        self._lines = offer_lines(offer)
        self._short = [(line, False) for line in wrap(offer_line(offer), 11.5, _WIDE, 2)]
        self._is_open = False
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setObjectName(f"card_{offer.name}")
        self.setAccessibleName(f"{offer.title}, {length_text(offer.length_s)}")
        self.setToolTip("\n".join(line for line, _ in self._lines))
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
        self._more = more
        row.addWidget(more)
        row.addWidget(self.button)
        self._column = QVBoxLayout(self)
        self._column.addLayout(row)
        self.open(False)

    def open(self, wanted: bool) -> None:
        """Show everything, or title, time and one reason."""
        self._is_open = wanted
        self.button.setVisible(wanted)
        self._more.setVisible(wanted)
        top = 30 + int(_LINE * (len(self._lines) if wanted else len(self._short)))
        self._column.setContentsMargins(10, top, 10, 8)
        self.setFixedHeight(top + 36 if wanted else top + 4)
        self.update()

    def mousePressEvent(self, _event: QMouseEvent | None) -> None:
        """Open."""
        self.opened.emit(self.offer.name)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Open with Return or Space."""
        if event is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.opened.emit(self.offer.name)
        else:
            super().keyPressEvent(event)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Paint title, length and reason, or all there is to say."""
        scheme, offer = self._look.scheme, self.offer
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        area = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        painter.fillRect(area, QColor(scheme.field))
        strong = offer.fits or self.hasFocus()
        edge = scheme.processor if self.hasFocus() else scheme.straw if offer.fits else scheme.rule
        painter.setPen(QPen(QColor(edge), 2.0 if strong else 1.0))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(area)
        length = "cannot be used" if offer.trouble else length_text(offer.length_s)
        title = f"{short_title(offer.title)} (shop's own)" if offer.own else short_title(offer.title)
        room = self.width() - 30.0 - text_width(length, 11.5)
        draw_text(painter, QPointF(10, 20), title, scheme.ink, 12.5, bold=True, width=room)
        draw_text(painter, QPointF(self.width() - 10.0, 20), length, scheme.soft, 11.5, right=True)
        for number, (line, reason) in enumerate(self._lines if self._is_open else self._short):
            ink = scheme.fault if offer.trouble else scheme.ink if reason else scheme.soft
            draw_text(painter, QPointF(10, 37 + _LINE * number), line, ink, 11.5, width=self.width() - 20.0)
        painter.end()


class OffersPanel(QWidget):
    """All cards in a column that scrolls; one of them is open."""

    chosen = pyqtSignal(str)
    kept = pyqtSignal(str)
    edited = pyqtSignal(str)

    def __init__(self, state: BenchState, look: Look, parent: QWidget) -> None:
        """Begin empty."""
        super().__init__(parent)
        self._state, self._look = state, look
        self._shown: tuple[object, ...] = ()
        self._open = ""
        self.cards: list[OfferCard] = []
        self._cards = QWidget(self)
        self._column = QVBoxLayout(self._cards)
        self._column.setContentsMargins(0, 0, 4, 0)
        self._column.setSpacing(4)
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
        self.cards = []
        for offer in self._state.intake.offers:
            card = OfferCard(offer, live, self._look, self._cards)
            card.chosen.connect(self.chosen)
            card.kept.connect(self.kept)
            card.edited.connect(self.edited)
            card.opened.connect(self.open)
            self._column.addWidget(card)
            self.cards.append(card)
        self._column.addStretch(1)
        names = [offer.name for offer in self._state.intake.offers]
        self.open(self._open if self._open in names else next(iter(names), ""))

    def open(self, name: str) -> None:
        """Open one card and close the others."""
        self._open = name
        for card in self.cards:
            card.open(card.offer.name == name)
