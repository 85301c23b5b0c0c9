"""Every part of the machine with its tag and doubts; a part opens into its facts, each with where it was read."""

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QKeyEvent, QKeySequence, QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QApplication, QWidget

from thresher.model.parts import Fact, Part
from thresher.ui.look import Look, draw_mark, draw_text, text_width, wrap
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState
from thresher.ui.theme import Scheme

_HEAD = 48.0
_FACT_NAMES = 132.0
"""Pixels for the name of a fact, left of its value."""
_LINE = 17.0

_TELLING = (
    "cores and threads",
    "base clock",
    "firmware",
    "size",
    "health",
    "kind",
    "configured speed",
    "memory",
    "transport",
    "driver",
    "speed",
    "full charge left",
    "preferred mode",
    "state",
    "largest power",
)


def part_text(part: Part, tag: str, doubts: list[str]) -> str:
    """Return all that is known of a part as text for another program."""
    lines = [f"{part.name} ({part.tag}{', tag ' + tag if tag else ''})", *doubts]
    lines += [f"  {fact.name}: {fact.value}  [{fact.source}]" for fact in part.facts]
    return "\n".join(lines)


def grouped_by_source(facts: tuple[Fact, ...]) -> list[tuple[str, list[Fact]]]:
    """Return facts by where they were read, in the order of their first fact, so that each source is named once."""
    groups: dict[str, list[Fact]] = {}
    for fact in facts:
        groups.setdefault(fact.source, []).append(fact)
    return list(groups.items())


class PartsSheet(PaintedWidget):
    """Draws the parts as cards under each other; arrow keys, Return and Ctrl+C work on the chosen one."""

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Begin with all parts closed."""
        super().__init__(state, look, "Parts of the machine", parent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._open: set[str] = set()
        self._areas: list[tuple[str, QRectF]] = []
        self._chosen = ""
        state.machine_changed.connect(self._fit)
        state.limits_changed.connect(self._fit)

    def _parts(self) -> tuple[Part, ...]:
        return self.state.snapshot.machine.parts if self.state.snapshot else ()

    def _doubt_lines(self, part: Part) -> list[tuple[str, list[str], str]]:
        """Return the doubts as code, lines and whole text."""
        room = self.width() - 80.0
        return [
            (doubt.code, wrap(text, 11.5, room, 3), text)
            for doubt in self.state.doubts_of(part)
            for text in (f"{doubt.title}: {doubt.detail}",)
        ]

    def _height(self, part: Part) -> float:
        lines = sum(len(each[1]) for each in self._doubt_lines(part))
        groups = grouped_by_source(part.facts) if part.tag in self._open else []
        facts = sum(len(facts) + 1 for _, facts in groups)
        return _HEAD + _LINE * (lines + facts) + (6 if facts or lines else 0)

    def _fit(self) -> None:
        unknown = self.state.snapshot.unknown if self.state.snapshot else ()
        total = sum(self._height(part) + 6 for part in self._parts())
        total += 30 + 2 * _LINE * len(unknown) if unknown else 0
        total += _LINE * len(self.state.intake.news) + 30 if self.state.intake.news else 0
        self.setMinimumHeight(int(total) + 8)
        self.update()

    def resizeEvent(self, _event: object) -> None:
        """Lines break elsewhere at another width."""
        self._fit()

    def draw(self, painter: QPainter) -> None:
        """Draw the parts, what is new since the last visit, then what could not be known."""
        scheme, y = self.look.scheme, 2.0
        self._areas = []
        for part in self._parts():
            area = QRectF(2, y, self.width() - 4.0, self._height(part))
            self._draw_part(painter, scheme, part, area)
            y = area.bottom() + 6
        news = self.state.intake.news
        if news:
            title = f"SINCE THE LAST VISIT, {self.state.intake.last_visit.upper()}"
            draw_text(painter, QPointF(12, y + 18), title, scheme.soft, 11, bold=True, width=self.width() - 24.0)
            y += 22
        for sentence in news:
            draw_text(painter, QPointF(12, y + 14), sentence, scheme.ink, 11.5, width=self.width() - 24.0)
            self.spots.append(Spot(QRectF(2, y, self.width() - 4.0, _LINE), sentence))
            y += _LINE
        unknown = self.state.snapshot.unknown if self.state.snapshot else ()
        if unknown:
            draw_text(painter, QPointF(12, y + 18), "UNKNOWN", scheme.soft, 11, bold=True)
            y += 22
        for fact in unknown:
            draw_text(painter, QPointF(12, y + 14), fact.name, scheme.ink, 12, bold=True, width=self.width() - 24.0)
            draw_text(painter, QPointF(12, y + 14 + _LINE - 2), fact.value, scheme.soft, 11, width=self.width() - 24.0)
            self.spots.append(
                Spot(QRectF(2, y, self.width() - 4.0, 2 * _LINE), f"{fact.name}: {fact.value}\n{fact.source}")
            )
            y += 2 * _LINE

    def _draw_part(self, painter: QPainter, scheme: Scheme, part: Part, area: QRectF) -> None:
        chosen = part.tag == self._chosen and self.hasFocus()
        painter.setPen(QPen(scheme.part(part.kind) if chosen else QColor(scheme.rule), 2.0 if chosen else 1.0))
        painter.setBrush(QColor(scheme.field))
        painter.drawRect(area)
        painter.fillRect(QRectF(area.x(), area.y(), 4, area.height()), scheme.part(part.kind))
        right, x = area.right() - 12, area.x() + 14
        draw_mark(painter, QPointF(right - 4, area.y() + 17), self.state.status_of_part(part), scheme)
        tag = self.state.tag_of(part)
        tag_wide = text_width(tag, 11.5, mono=True) + 12 if tag else 0.0
        if tag:
            label = QRectF(right - 22 - tag_wide, area.y() + 8, tag_wide, 18)
            painter.setPen(QPen(scheme.part(part.kind), 1.0))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(label)
            draw_text(painter, QPointF(label.x() + 6, label.y() + 13), tag, scheme.part(part.kind), 11.5, mono=True)
            self.spots.append(Spot(label, f"The tag of this very part: write {tag} on it before it is taken out"))
        room = right - 34 - tag_wide - x
        draw_text(painter, QPointF(x, area.y() + 20), part.name, scheme.ink, 13, bold=True, width=room)
        words = ", ".join([part.tag, *(fact.value for fact in part.facts if fact.name in _TELLING)])
        closed = part.tag not in self._open
        opens = f"{len(part.facts)} facts {'+' if closed else '−'}" if part.facts else ""
        draw_text(painter, QPointF(right, area.y() + 38), opens, scheme.soft, 11, right=True)
        room = right - x - 20 - text_width(opens, 11)
        draw_text(painter, QPointF(x, area.y() + 38), words, scheme.soft, 11.5, width=room)
        self._draw_lines(painter, scheme, part, area, closed)
        self._areas.append((part.tag, QRectF(area.x(), area.y(), area.width(), _HEAD)))

    def _draw_lines(self, painter: QPainter, scheme: Scheme, part: Part, area: QRectF, closed: bool) -> None:
        y, x, right = area.y() + _HEAD, area.x() + 14, area.right() - 12
        for code, lines, text in self._doubt_lines(part):
            wide = draw_text(painter, QPointF(x, y + 10), code, scheme.fault, 11.5, bold=True, mono=True)
            for number, line in enumerate(lines):
                at = QPointF(x + wide + 8, y + 10 + number * _LINE)
                draw_text(painter, at, line, scheme.fault, 11.5, width=right - x - wide - 8)
            self.spots.append(Spot(QRectF(area.x(), y - 4, area.width(), _LINE * len(lines)), f"{code} {text}"))
            y += _LINE * len(lines)
        if closed:
            return
        for source, facts in grouped_by_source(part.facts):
            for fact in facts:
                draw_text(painter, QPointF(x, y + 8), fact.name, scheme.soft, 11.5, width=_FACT_NAMES - 6)
                room = right - x - _FACT_NAMES
                draw_text(painter, QPointF(x + _FACT_NAMES, y + 8), fact.value, scheme.ink, 11.5, width=room)
                self.spots.append(
                    Spot(QRectF(area.x(), y - 6, area.width(), _LINE), f"{fact.value}\nread from {fact.source}")
                )
                y += _LINE
            draw_text(painter, QPointF(right, y + 6), f"from {_short(source)}", scheme.soft, 10.5, right=True)
            y += _LINE

    def toggle(self, tag: str) -> None:
        """Open or close a part."""
        self._chosen = tag
        self._open ^= {tag}
        self._fit()

    def show_only(self, tag: str) -> None:
        """Open one part and close the others."""
        self._chosen = tag
        self._open = {tag}
        self._fit()

    def copied(self, tag: str) -> str:
        """Return a part's text, or that of all parts for an empty tag."""
        parts = [part for part in self._parts() if not tag or part.tag == tag]
        texts = []
        for part in parts:
            doubts = [f"  {each.code} {each.title}: {each.detail}" for each in self.state.doubts_of(part)]
            texts.append(part_text(part, self.state.tag_of(part), doubts))
        return "\n\n".join(texts)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Open or close the part under the mouse."""
        if event is not None:
            for tag, area in self._areas:
                if area.contains(event.position()):
                    self.toggle(tag)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Go from part to part, open and close with Return or Space, copy with Ctrl+C."""
        tags = [part.tag for part in self._parts()]
        if event is None or not tags:
            return
        clipboard = QApplication.clipboard()
        if event.matches(QKeySequence.StandardKey.Copy) and clipboard is not None:
            clipboard.setText(self.copied(self._chosen))
            return
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
        if step is not None:
            now = tags.index(self._chosen) if self._chosen in tags else -1
            self._chosen = tags[(now + step) % len(tags)]
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Space) and self._chosen:
            self.toggle(self._chosen)
        else:
            super().keyPressEvent(event)


def _short(source: str) -> str:
    return source if len(source) < 44 else f"…{source[-42:]}"
