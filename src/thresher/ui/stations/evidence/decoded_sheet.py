"""One decoded thing on paper: what it is, the parts it points at, registers as strips of bits, causes and steps."""

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap, QResizeEvent
from PyQt6.QtWidgets import QWidget

from thresher.decoding.recognise import DecodedThing
from thresher.events.machine_checks.registers import BitField, PartShare, Strip
from thresher.ui.look import Look, draw_text, text_width, wrap

_MARGIN, _LINE = 12.0, 16.0
_BAR = 9.0
_BIT_HIGH = 20.0
_MOST_LINES = 12


@dataclass(frozen=True, slots=True)
class _FieldSpot:
    """Where a field of a register stands."""

    area: QRectF
    strip: Strip
    field: BitField


class DecodedSheet(QWidget):
    """Paints a thing as high as it needs to be. A field of a register under the pointer, or chosen by Left and Right,
    is named in the line below its strip.
    """

    def __init__(self, look: Look, parent: QWidget | None = None) -> None:
        """Show nothing yet."""
        super().__init__(parent)
        self.setObjectName("Decoded")
        self.setAccessibleName("What was decoded")
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._look = look
        self.thing: DecodedThing | None = None
        self._raw = False
        self._spots: list[_FieldSpot] = []
        self._named: tuple[str, int] | None = None
        self._high = 0
        look.changed.connect(self.update)

    def show_thing(self, thing: DecodedThing | None) -> None:
        """Show another thing."""
        self.thing = thing
        self._named = None
        self._fit()

    def show_raw(self, raw: bool) -> None:
        """Show the raw text below, or not."""
        self._raw = raw
        self._fit()

    def named_field(self) -> BitField | None:
        """Return the field that is named now."""
        return next((spot.field for spot in self._spots if self._key(spot) == self._named), None)

    def sizeHint(self) -> QSize:
        """As high as the thing needs."""
        return QSize(380, self._high)

    def _fit(self) -> None:
        canvas = QPixmap(1, 1)
        painter = QPainter(canvas)
        self._high = int(self._draw(painter)) + 8
        painter.end()
        self.setMinimumHeight(self._high)
        self.updateGeometry()
        self.update()
        if self.thing is not None:
            self.setAccessibleDescription(f"{self.thing.code} {self.thing.title}. {self.thing.words}")

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Break lines again."""
        super().resizeEvent(event)
        self._fit()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Paint."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), QColor(self._look.scheme.panel))
        self._draw(painter)
        painter.end()

    # ---- the sheet from top to bottom; each part returns where the next begins

    def _draw(self, painter: QPainter) -> float:
        self._spots = []
        thing, scheme = self.thing, self._look.scheme
        if thing is None:
            words = "Choose a signature on the left, or paste or drop anything above."
            return self._paragraph(painter, words, 22, scheme.soft, 12.5)
        y = self._paragraph(painter, f"{thing.code}  {thing.title}".strip(), 20, scheme.ink, 14, bold=True)
        y = self._paragraph(painter, thing.words, y + 3, scheme.ink, 12.5)
        for line in thing.lines:
            y = self._paragraph(painter, line, y + 1, scheme.soft, 12)
        y = self._shares(painter, thing.shares, y + 8)
        for strip in thing.strips:
            y = self._strip(painter, strip, y + 8)
        if thing.causes:
            y = self._heading(painter, "USUAL CAUSES", y + 8)
            for cause in thing.causes:
                y = self._paragraph(painter, cause, y, scheme.ink, 12, indent=14)
        if thing.steps:
            y = self._heading(painter, "NEXT, CHEAPEST FIRST", y + 8)
            for number, step in enumerate(thing.steps, 1):
                y = self._paragraph(painter, f"{number}  {step}", y, scheme.ink, 12, indent=0)
        if self._raw and thing.raw:
            y = self._heading(painter, "AS IT CAME", y + 8)
            for line in thing.raw.splitlines()[:60]:
                y = self._paragraph(painter, line, y, scheme.soft, 11, mono=True)
        return y

    def _paragraph(
        self,
        painter: QPainter,
        text: str,
        y: float,
        colour: str,
        pixels: float,
        bold: bool = False,
        mono: bool = False,
        indent: float = 0.0,
    ) -> float:
        width = self.width() - 2 * _MARGIN - indent
        for line in self._broken(text, pixels, width, mono):
            draw_text(painter, QPointF(_MARGIN + indent, y), line, colour, pixels, bold, mono, width=width)
            y += pixels + 4.5
        return y

    def _broken(self, text: str, pixels: float, width: float, mono: bool) -> list[str]:
        if not mono:
            return wrap(text, pixels, width, _MOST_LINES)
        most = max(8, int(width / max(1.0, text_width("0", pixels, mono=True))))
        return [text[at : at + most] for at in range(0, len(text), most)] or [""]

    def _heading(self, painter: QPainter, text: str, y: float) -> float:
        draw_text(painter, QPointF(_MARGIN, y + 4), text, self._look.scheme.soft, 10.5, bold=True)
        return y + 4 + _LINE + 2

    def _shares(self, painter: QPainter, shares: tuple[PartShare, ...], y: float) -> float:
        if not shares:
            return y
        scheme = self._look.scheme
        y = self._heading(painter, "POINTS AT", y)
        room = self.width() - 2 * _MARGIN - 150
        for each in sorted(shares, key=lambda one: -one.share):
            draw_text(painter, QPointF(_MARGIN, y), each.part.value, scheme.ink, 12)
            painter.fillRect(QRectF(_MARGIN + 84, y - _BAR, room, _BAR), QColor(scheme.grid))
            painter.fillRect(QRectF(_MARGIN + 84, y - _BAR, room * each.share, _BAR), scheme.part(each.part))
            text = f"{each.share * 100:.0f} %"
            draw_text(painter, QPointF(self.width() - _MARGIN, y), text, scheme.ink, 12, right=True)
            y += _LINE + 1
        return y

    def _strip(self, painter: QPainter, strip: Strip, y: float) -> float:
        """Draw a register in rows of 32 bits, highest first: set bits inked, fields told apart by their background."""
        scheme = self._look.scheme
        y = self._heading(painter, strip.name, y)
        digits = f"{strip.value:0{strip.width // 4}x}"
        draw_text(
            painter, QPointF(self.width() - _MARGIN, y - _LINE - 2), digits, scheme.ink, 12, mono=True, right=True
        )
        cell = (self.width() - 2 * _MARGIN) / 32
        for row in range(strip.width // 32):
            highest = strip.width - 1 - 32 * row
            top = y - 10
            for number, field in enumerate(strip.fields):
                self._field(painter, strip, field, number, QRectF(_MARGIN, top, cell, _BIT_HIGH), highest)
            for bit, ends in ((highest, 0), (highest - 15, 1), (highest - 16, 0), (highest - 31, 1)):
                at = QPointF(_MARGIN + (highest - bit + ends) * cell + (-3 if ends else 3), top + _BIT_HIGH + 10)
                draw_text(painter, at, str(bit), scheme.soft, 9, right=bool(ends))
            y += _BIT_HIGH + 16
        return self._name_below(painter, strip, y - 2)

    def _field(self, painter: QPainter, strip: Strip, field: BitField, number: int, cell: QRectF, highest: int) -> None:
        high, low = min(field.high, highest), max(field.low, highest - 31)
        if high < low:
            return
        scheme = self._look.scheme
        area = QRectF(
            cell.x() + (highest - high) * cell.width(), cell.y(), (high - low + 1) * cell.width(), cell.height()
        )
        spot = _FieldSpot(area, strip, field)
        named = self._key(spot) == self._named
        painter.fillRect(area, QColor(scheme.straw if named else scheme.grid if number % 2 else scheme.field))
        for bit in range(high, low - 1, -1):
            left = cell.x() + (highest - bit) * cell.width()
            if strip.value >> bit & 1:
                inner = QRectF(left + 2, cell.y() + 4, cell.width() - 4, cell.height() - 8)
                painter.fillRect(inner, QColor(scheme.ink))
        painter.setPen(QPen(QColor(scheme.rule), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(area)
        self._spots.append(spot)

    def _name_below(self, painter: QPainter, strip: Strip, y: float) -> float:
        """Name the field under the pointer; without one, those that are set and say something."""
        scheme = self._look.scheme
        named = next((each for each in strip.fields if (strip.name, each.low) == self._named), None)
        if named is not None:
            return self._paragraph(painter, field_words(named), y + 6, scheme.ink, 12, bold=True)
        entries = [field for field in strip.fields if field.value and not field.name.startswith("reserved")]
        words = "; ".join(f"{field.name}: {field.meaning}" for field in entries[:8])
        return self._paragraph(painter, words or "no documented bit is set", y + 6, scheme.soft, 11.5)

    # ---- asking for fields

    @staticmethod
    def _key(spot: _FieldSpot) -> tuple[str, int]:
        return spot.strip.name, spot.field.low

    def field_at(self, position: QPointF) -> BitField | None:
        """Return the field under a position."""
        return next((spot.field for spot in self._spots if spot.area.contains(position)), None)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Name the field under the pointer."""
        if event is None:
            return
        spot = next((each for each in self._spots if each.area.contains(event.position())), None)
        named = self._key(spot) if spot is not None else None
        if named != self._named:
            self._named = named
            self.update()

    def name_next(self, step: int) -> None:
        """Name the field after or before the one that is named, for the keyboard."""
        keys = list(dict.fromkeys(self._key(spot) for spot in self._spots))
        if not keys:
            return
        at = keys.index(self._named) + step if self._named in keys else 0 if step > 0 else len(keys) - 1
        self._named = keys[at % len(keys)]
        self._fit()


def field_words(field: BitField) -> str:
    """Say a field in one sentence."""
    bits = f"bit {field.high}" if field.high == field.low else f"bits {field.high} to {field.low}"
    return f"{field.name}, {bits}, {field.value:#x}: {field.meaning}"
