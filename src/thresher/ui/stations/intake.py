"""The Intake: what the customer says, what the machine is and what is not as it should be, and what to run."""

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import (
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from thresher.engine.protocol import SheetOffer
from thresher.model.parts import Doubt, Part
from thresher.model.sheet import clock_text
from thresher.ui.look import Look, draw_mark, draw_text, panel, text_width, wrap
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState
from thresher.ui.theme import Scheme, font

_SAVE_AFTER_MS = 400
_HEAD = 52.0
_CHIP_ROOM = 112.0
_SOURCES_FROM = 430.0
"""Width from which a fact's source has room beside it; the tooltip always has it."""
_LINE = 17.0


class PartsSheet(PaintedWidget):
    """Every part of the machine with its doubts; a part opens into its facts, each with where it was read."""

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Begin with all parts closed."""
        super().__init__(state, look, "Parts of the machine", parent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._open: set[str] = set()
        self._areas: list[tuple[str, QRectF]] = []
        self._chosen = ""
        state.machine_changed.connect(self._fit)

    def _parts(self) -> tuple[Part, ...]:
        return self.state.snapshot.machine.parts if self.state.snapshot else ()

    def _doubts(self, part: Part) -> list[Doubt]:
        snapshot = self.state.snapshot
        machine = snapshot.machine if snapshot else None
        first = machine.parts_of(part.kind)[0].tag if machine else ""
        doubts = machine.doubts if machine else ()
        # a doubt about a whole group stands with the group's first part
        return [
            each for each in doubts if each.part == part.tag or (each.part == part.kind.value and part.tag == first)
        ]

    def _height(self, part: Part) -> float:
        facts = len(part.facts) if part.tag in self._open else 0
        return _HEAD + _LINE * (len(self._doubts(part)) + facts) + (6 if facts else 0)

    def _fit(self) -> None:
        unknown = self.state.snapshot.unknown if self.state.snapshot else ()
        total = sum(self._height(part) + 6 for part in self._parts()) + (
            30 + 2 * _LINE * len(unknown) if unknown else 0
        )
        self.setMinimumHeight(int(total) + 8)
        self.update()

    def draw(self, painter: QPainter) -> None:
        """Draw the parts, then what could not be known."""
        scheme, y = self.look.scheme, 2.0
        self._areas = []
        for part in self._parts():
            area = QRectF(2, y, self.width() - 4.0, self._height(part))
            self._draw_part(painter, scheme, part, area)
            y = area.bottom() + 6
        unknown = self.state.snapshot.unknown if self.state.snapshot else ()
        if unknown:
            draw_text(painter, QPointF(12, y + 18), "NOT KNOWN", scheme.soft, 11, bold=True)
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
        right = area.right() - 12
        draw_mark(painter, QPointF(right - 4, area.y() + 18), self.state.status_of(part.kind), scheme)
        wide = draw_text(
            painter, QPointF(area.x() + 14, area.y() + 21), part.name, scheme.ink, 13, bold=True, width=right - 150
        )
        draw_text(painter, QPointF(area.x() + 24 + wide, area.y() + 21), part.tag, scheme.part(part.kind), 11.5)
        words = ", ".join(fact.value for fact in part.facts if fact.name in _TELLING)
        closed = part.tag not in self._open
        opens = f"{len(part.facts)} facts {'+' if closed else '−'}" if part.facts else ""
        draw_text(painter, QPointF(right, area.y() + 40), opens, scheme.soft, 11, right=True)
        room = right - area.x() - 34 - text_width(opens, 11)
        draw_text(painter, QPointF(area.x() + 14, area.y() + 40), words, scheme.soft, 11.5, width=room)
        y = area.y() + _HEAD
        for doubt in self._doubts(part):
            code = draw_text(
                painter, QPointF(area.x() + 14, y + 8), doubt.code, scheme.fault, 11.5, bold=True, mono=True
            )
            text = f"{doubt.title}: {doubt.detail}"
            draw_text(painter, QPointF(area.x() + 24 + code, y + 8), text, scheme.fault, 11.5, width=right - code - 40)
            self.spots.append(Spot(QRectF(area.x(), y - 6, area.width(), _LINE), text))
            y += _LINE
        for fact in part.facts if not closed else ():
            with_source = area.width() > _SOURCES_FROM
            room = area.width() * 0.42 if with_source else right - area.x() - 180
            draw_text(painter, QPointF(area.x() + 14, y + 8), fact.name, scheme.soft, 11.5, width=160)
            draw_text(painter, QPointF(area.x() + 180, y + 8), fact.value, scheme.ink, 11.5, width=room)
            if with_source:
                at, source = QPointF(right, y + 8), _short(fact.source)
                draw_text(painter, at, source, scheme.soft, 10.5, right=True, width=area.width() * 0.3)
            line = QRectF(area.x(), y - 6, area.width(), _LINE)
            self.spots.append(Spot(line, f"{fact.value}\nread from {fact.source}"))
            y += _LINE
        self._areas.append((part.tag, QRectF(area.x(), area.y(), area.width(), _HEAD)))

    def toggle(self, tag: str) -> None:
        """Open or close a part."""
        self._chosen = tag
        self._open ^= {tag}
        self._fit()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Open or close the part under the mouse."""
        if event is not None:
            for tag, area in self._areas:
                if area.contains(event.position()):
                    self.toggle(tag)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Go from part to part, open and close with Return or Space."""
        tags = [part.tag for part in self._parts()]
        if event is None or not tags:
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


_TELLING = (
    "cores and threads", "base clock", "firmware", "size", "kind", "configured speed", "memory", "transport", "driver",
    "speed", "full charge left", "preferred mode", "state", "largest power",
)  # fmt: skip


def _short(source: str) -> str:
    return source if len(source) < 44 else f"…{source[-42:]}"


class _Chip(QPushButton):
    """A symptom that can be picked."""

    def __init__(self, text: str, parent: QWidget) -> None:
        super().__init__(text, parent)
        self.setCheckable(True)
        self.setObjectName(f"symptom {text}".replace(" ", "_"))
        self.setAccessibleName(f"Symptom: {text}")
        self.setToolTip("Pick what the customer says; it changes which suspects are likely before any load has run")


class _OfferCard(QFrame):
    """A run sheet that may be put on the bench."""

    chosen = pyqtSignal(str)

    def __init__(self, offer: SheetOffer, suits: bool, look: Look, parent: QWidget) -> None:
        super().__init__(parent)
        self._offer, self._suits, self._look = offer, suits, look
        self.setFixedHeight(132)
        self.button = QPushButton("Put on the bench", self)
        self.button.setObjectName(f"offer_{offer.name}")
        self.button.setAccessibleName(f"Put {offer.title} on the bench")
        self.button.setToolTip("Shows the sheet on the Bench; nothing is started")
        self.button.clicked.connect(lambda: self.chosen.emit(offer.name))
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 98, 12, 8)
        column.addWidget(self.button, 0, Qt.AlignmentFlag.AlignRight)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Paint title, length and what it can and cannot find."""
        scheme = self._look.scheme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        area = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        painter.fillRect(area, QColor(scheme.field))
        painter.setPen(QPen(QColor(scheme.straw if self._suits else scheme.rule), 2.0 if self._suits else 1.0))
        painter.drawRect(area)
        length = clock_text(self._offer.length_s)
        draw_text(painter, QPointF(12, 22), self._offer.title, scheme.ink, 13, bold=True, width=self.width() - 90.0)
        draw_text(painter, QPointF(self.width() - 12.0, 22), length, scheme.soft, 12, right=True)
        for number, line in enumerate(wrap(self._offer.about, 11.5, self.width() - 24.0, 4)):
            draw_text(painter, QPointF(12, 41 + 15 * number), line, scheme.soft, 11.5)
        if self._suits:
            draw_text(painter, QPointF(12, 118), "fits the symptoms", scheme.ink, 11.5, bold=True)
        painter.end()


class _Panel(QWidget):
    """A sheet of paper with a title and a column on it."""

    def __init__(self, title: str, look: Look, parent: QWidget) -> None:
        super().__init__(parent)
        self._title, self._look, self.aside = title, look, ""
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(10, 34, 10, 10)
        self.column.setSpacing(7)
        look.changed.connect(self.update)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        """Paint the paper."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        panel(painter, QRectF(self.rect()), self._look.scheme, self._title, self.aside)
        painter.end()


class IntakeStation(QWidget):
    """The whole station. `job_changed` carries fields to be kept, `sheet_chosen` the name of a run sheet."""

    job_changed = pyqtSignal(dict)
    sheet_chosen = pyqtSignal(str)

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None) -> None:
        """Lay the station out."""
        super().__init__(parent)
        self._state, self._look = state, look
        self._filling = False
        self._chips: dict[str, _Chip] = {}
        self._shown_symptoms: tuple[str, ...] | None = None
        self._save = QTimer(self)
        self._save.setSingleShot(True)
        self._save.setInterval(_SAVE_AFTER_MS)
        self._save.timeout.connect(self._send)
        self.number = QLineEdit(self)
        self.machine = QLineEdit(self)
        self.words = QPlainTextEdit(self)
        self._job = self._make_job()
        self.parts = PartsSheet(state, look, self)
        self._offers = QWidget(self)
        QVBoxLayout(self._offers).setContentsMargins(0, 0, 4, 0)
        offers = _Panel("Proposed", look, self)
        offers.column.addWidget(self._scrolled(self._offers))
        machine = _Panel("Machine", look, self)
        machine.aside = "Return opens a part"
        machine.column.addWidget(self._scrolled(self.parts))
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 8, 12, 8)
        row.setSpacing(8)
        row.addWidget(self._job)
        row.addWidget(machine, 1)
        row.addWidget(offers)
        self._job.setFixedWidth(292)
        offers.setFixedWidth(296)
        state.machine_changed.connect(self._fill)
        state.refreshed.connect(self._follow)
        look.changed.connect(self._restyle)
        self._restyle()

    def sizeHint(self) -> QSize:
        """As wide as the window's usual size."""
        return QSize(1180, 690)

    def _scrolled(self, widget: QWidget) -> QScrollArea:
        scroll = QScrollArea(self)
        scroll.setWidget(widget)
        scroll.setWidgetResizable(True)
        scroll.setFrameShape(QFrame.Shape.NoFrame)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        return scroll

    def _make_job(self) -> _Panel:
        job = _Panel("Job", self._look, self)
        fields = QGridLayout()
        fields.setVerticalSpacing(6)
        for line, (label, field, name) in enumerate(
            (("Number", self.number, "job_number"), ("Machine", self.machine, "job_machine"))
        ):
            field.setObjectName(name)
            field.setAccessibleName(label)
            text = QLabel(label, job)
            text.setBuddy(field)
            fields.addWidget(text, line, 0)
            fields.addWidget(field, line, 1)
            field.textEdited.connect(self._touched)
        job.column.addLayout(fields)
        self.words.setObjectName("job_words")
        self.words.setAccessibleName("What the customer says")
        self.words.setPlaceholderText("What the customer says, in their own words: since when, what changed")
        self.words.setTabChangesFocus(True)
        self.words.setFixedHeight(84)
        self.words.textChanged.connect(self._touched)
        job.column.addWidget(self.words)
        self._symptoms = QVBoxLayout()
        self._symptoms.setSpacing(4)
        job.column.addLayout(self._symptoms)
        job.column.addStretch(1)
        return job

    # ---- filling in what the engine tells

    def _fill(self) -> None:
        snapshot = self._state.snapshot
        if snapshot is None:
            return
        self._filling = True
        self.number.setText(snapshot.job.get("number", ""))
        self.machine.setText(snapshot.job.get("machine", ""))
        self.words.setPlainText(snapshot.job.get("words", ""))
        stored = snapshot.kind == "stored job"
        for field in (self.number, self.machine, self.words):
            field.setReadOnly(stored)
        self._make_chips(stored)
        self._filling = False
        self._shown_symptoms = None
        self._follow()

    def _make_chips(self, stored: bool) -> None:
        while (item := self._symptoms.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.deleteLater()
        self._chips = {}
        snapshot = self._state.snapshot
        groups: dict[str, list[str]] = {}
        for choice in snapshot.symptom_choices if snapshot else ():
            groups.setdefault(choice.group, []).append(choice.text)
        for group, texts in groups.items():
            box = QWidget(self._job)
            column = QVBoxLayout(box)
            column.setContentsMargins(0, 2, 0, 0)
            column.setSpacing(3)
            title = QLabel(group, box)
            title.setObjectName("group_title")
            column.addWidget(title)
            line = QGridLayout()
            line.setSpacing(4)
            place = 0
            for text in texts:
                chip = _Chip(text, box)
                chip.setEnabled(not stored)
                chip.clicked.connect(self._send)
                self._chips[text] = chip
                span = 2 if text_width(text, 12) > _CHIP_ROOM else 1
                place += place % 2 if span == 2 else 0
                line.addWidget(chip, place // 2, place % 2, 1, span)
                place += span
            column.addLayout(line)
            self._symptoms.addWidget(box)
        self._restyle()

    def _follow(self) -> None:
        """Show the symptoms that are kept, and the sheets in the order that fits them."""
        snapshot = self._state.snapshot
        symptoms = self._state.symptoms
        if snapshot is None or symptoms == self._shown_symptoms:
            return
        self._shown_symptoms = symptoms
        for text, chip in self._chips.items():
            chip.setChecked(text in symptoms)
        column = self._offers.layout()
        assert isinstance(column, QVBoxLayout)
        while (item := column.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.deleteLater()
        for offer, suits in ordered_offers(snapshot.sheets, symptoms):
            card = _OfferCard(offer, suits, self._look, self._offers)
            card.chosen.connect(self.sheet_chosen)
            column.addWidget(card)
        column.addStretch(1)
        self._restyle()

    # ---- keeping what a person types

    def _touched(self) -> None:
        if not self._filling:
            self._save.start()

    def _send(self) -> None:
        symptoms = [text for text, chip in self._chips.items() if chip.isChecked()]
        self.job_changed.emit(
            {
                "number": self.number.text().strip(),
                "machine": self.machine.text().strip(),
                "words": self.words.toPlainText(),
                "symptoms": "\n".join(symptoms),
            }
        )

    def flush(self) -> None:
        """Keep what was typed and not yet sent, before the window closes."""
        if self._save.isActive():
            self._save.stop()
            self._send()

    def _restyle(self) -> None:
        scheme = self._look.scheme
        for widget in (self.number, self.machine, self.words, *self._chips.values()):
            widget.setFont(font(12))
        self.setStyleSheet(
            f"QLineEdit, QPlainTextEdit {{ background: {scheme.field}; color: {scheme.ink};"
            f" border: 1px solid {scheme.rule}; padding: 3px; }}"
            f"QLineEdit:focus, QPlainTextEdit:focus {{ border: 2px solid {scheme.processor}; }}"
            f"QLabel {{ color: {scheme.soft}; font-size: 12px; }}"
            f"QPushButton {{ color: {scheme.ink}; background: {scheme.panel}; border: 1px solid {scheme.rule};"
            " border-radius: 10px; padding: 3px 8px; font-size: 12px; }"
            f"QPushButton:checked {{ background: {scheme.ink}; color: {scheme.panel}; }}"
            f"QPushButton:focus {{ border: 2px solid {scheme.processor}; }}"
            f"QScrollArea, QScrollArea > QWidget > QWidget {{ background: {scheme.panel}; }}"
        )


def ordered_offers(offers: tuple[SheetOffer, ...], symptoms: tuple[str, ...]) -> list[tuple[SheetOffer, bool]]:
    """Return the sheets, those that fit the most symptoms first and the shorter before the longer."""
    fits = {offer.name: sum(symptom in offer.suits for symptom in symptoms) for offer in offers}
    ordered = sorted(offers, key=lambda offer: (-fits[offer.name], offer.length_s))
    return [(offer, fits[offer.name] > 0) for offer in ordered]
