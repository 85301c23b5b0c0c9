"""The machine map: what is installed where, what is loaded, how it does, and how suspect it is."""

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from thresher.model.channels import LimitSide, Quantity
from thresher.model.parts import Inventory, Part, PartKind
from thresher.ui.look import Look, draw_fitting, draw_mark, draw_outcome, draw_text, panel, text_width
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.state import BenchState
from thresher.ui.stations.bench.map_layout import SIZES, CoreGrid, Drawn, Sizes, core_grid, other_parts, reading_words
from thresher.ui.stations.bench.map_legend import draw_legend
from thresher.ui.stations.bench.map_picks import Picks, Target

_LEGEND_HIGH = 30.0


_OTHER_HIGH = 26.0
_LEAST_WORDS = 48.0
_ARROWS = {
    Qt.Key.Key_Down: (1, True),
    Qt.Key.Key_Up: (-1, True),
    Qt.Key.Key_Right: (1, False),
    Qt.Key.Key_Left: (-1, False),
}
"""Up and down go from part to part, left and right to the cores between them too."""


class MachineMap(PaintedWidget):
    """Draws the machine and lets parts be pointed at by mouse or arrow keys; `picked` carries the story of the one
    that the keys have come to, `part_picked` its name in the inventory.

    With `several`, parts and cores can be picked to be loaded: `picks_changed` comes then, and `load_wanted` when the
    usual load is to be put on them.
    """

    picked = pyqtSignal(str)
    part_picked = pyqtSignal(str)
    picks_changed = pyqtSignal()
    load_wanted = pyqtSignal()

    def __init__(self, state: BenchState, look: Look, parent: QWidget | None = None, several: bool = False) -> None:
        """Take part in keyboard focus."""
        super().__init__(state, look, "Machine map", parent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumWidth(236)
        self._several = several
        self.picks = Picks()
        self._drawn: list[Drawn] = []
        self._at: Target | None = None
        state.machine_changed.connect(self._forget)

    def _forget(self) -> None:
        self.picks, self._at = Picks(), None
        self.picks_changed.emit()

    def _is_picked(self, part: Part) -> bool:
        return any(each.tag == part.tag and each.core is None for each in self.picks.targets)

    def sizeHint(self) -> QSize:
        """Wide enough for two columns of drives."""
        return QSize(268, 560)

    # ---- drawing

    def draw(self, painter: QPainter) -> None:
        """Draw the parts from the processor down."""
        scheme = self.look.scheme
        panel(
            painter,
            QRectF(self.rect()),
            scheme,
            "Machine",
            "click parts; Ctrl adds" if self._several else "point at a part",
        )
        self._drawn = []
        snapshot = self.state.snapshot
        if snapshot is None:
            draw_text(painter, QPointF(12, 52), "waiting for the engine", scheme.soft, 12)
            return
        machine = snapshot.machine
        sizes = next((each for each in SIZES if self._needs(machine, each) <= self.height()), SIZES[-1])
        gap, box = sizes.gap, sizes.box
        left, wide, top = 12.0, self.width() - 24.0, 34.0
        top = self._draw_row_of_cores(painter, machine, QRectF(left, top, wide, 0), sizes.cell) + gap
        top = self._draw_power(painter, QRectF(left, top, wide, sizes.power)) + gap
        for part in machine.parts_of(PartKind.GRAPHICS)[:2]:
            line = self._temperature_line(part)
            top = self._draw_box(painter, part, QRectF(left, top, wide, box), part.name, line) + gap
        drives = machine.parts_of(PartKind.DRIVE)[:4]
        column = (wide - 8) / 2 if len(drives) > 1 else wide
        for number, part in enumerate(drives):
            x = left + (number % 2) * (column + 8)
            size = next((fact.value for fact in part.facts if fact.name == "size"), "")
            area = QRectF(x, top + (number // 2) * (box + gap), column, box)
            self._draw_box(painter, part, area, part.name, f"{size} {self._temperature_line(part)}".strip())
        top += -(-len(drives) // 2) * (box + gap)
        for part in machine.parts_of(PartKind.COOLING):
            top = self._draw_box(painter, part, QRectF(left, top, wide, min(box, 42.0)), self._fans_line(), "") + gap
        top = self._draw_others(painter, machine, QRectF(left, top, wide, 0), gap)
        for part in machine.parts_of(PartKind.BOARD):
            name = "" if part.name == "Board" else part.name
            area = QRectF(left, top, wide, min(box, 42.0))
            if area.bottom() < self.height() - 4:
                self._draw_box(painter, part, area, name or "maker and model unknown", "")
        if self._needs(machine, sizes) + _LEGEND_HIGH <= self.height():
            draw_legend(painter, self.look.scheme, self.width(), self.height())

    def _draw_others(self, painter: QPainter, machine: Inventory, area: QRectF, gap: float) -> float:
        """Battery, network, display and sound in low boxes, two beside each other."""
        parts = other_parts(machine)
        column = (area.width() - 8) / 2
        for number, part in enumerate(parts):
            x = area.x() + (number % 2) * (column + 8)
            y = area.y() + (number // 2) * (_OTHER_HIGH + gap)
            self._draw_box(painter, part, QRectF(x, y, column, _OTHER_HIGH), part.name, "")
        return area.y() + -(-len(parts) // 2) * (_OTHER_HIGH + gap)

    def _needs(self, machine: Inventory, sizes: "Sizes") -> float:
        """Return the height that the whole machine takes with boxes of these sizes."""
        grid = core_grid(machine.core_count, sizes.cell)
        high = 34.0 + 54.0 + grid.rows * (grid.cell_high + grid.gap) + 15.0 + sizes.gap
        high += sizes.power + sizes.gap if machine.parts_of(PartKind.POWER) else 0.0
        boxes = min(2, len(machine.parts_of(PartKind.GRAPHICS))) + -(
            -min(4, len(machine.parts_of(PartKind.DRIVE))) // 2
        )
        low = len(machine.parts_of(PartKind.COOLING)) + len(machine.parts_of(PartKind.BOARD))
        high += -(-len(other_parts(machine)) // 2) * (_OTHER_HIGH + sizes.gap)
        return high + boxes * (sizes.box + sizes.gap) + low * (min(sizes.box, 42.0) + sizes.gap)

    def _draw_row_of_cores(self, painter: QPainter, machine: Inventory, area: QRectF, cell_high: float) -> float:
        """Processor and memory side by side; return where they end, slot names included."""
        slots = self._memory_slots()
        memory_wide = max(46.0, 21.0 * len(slots)) if slots else 0.0
        grid = core_grid(machine.core_count, cell_high)
        high = 54.0 + grid.rows * (grid.cell_high + grid.gap)
        processor = machine.parts_of(PartKind.PROCESSOR)[0]
        own = QRectF(area.x(), area.y(), area.width() - memory_wide - 8, high)
        self._draw_processor(painter, processor, own, grid)
        self._draw_memory(painter, slots, QRectF(area.right() - memory_wide, area.y(), memory_wide, high))
        return area.y() + high + 15

    def _fans_line(self) -> str:
        fans = [
            f"{self.state.channels[i].name} {value:.0f}"
            for i in self.state.find_channels(Quantity.FAN)
            if (value := self.state.value(i)) is not None
        ]
        return ", ".join(fans) + " rpm" if fans else "no fan speeds reported"

    def _frame(self, painter: QPainter, part: Part, area: QRectF, tested: bool) -> None:
        scheme = self.look.scheme
        here, picked = self._is_at(part), self._is_picked(part)
        pen = QPen(QColor(scheme.straw) if picked else scheme.part(part.kind), 2.6 if here or picked else 1.5)
        if not tested and not picked:
            pen.setStyle(Qt.PenStyle.DashLine)
        painter.setPen(pen)
        painter.setBrush(QColor(scheme.field if here or picked else scheme.panel))
        painter.drawRoundedRect(area, 2, 2)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if here and picked:
            painter.setPen(QPen(scheme.part(part.kind), 1.2, Qt.PenStyle.DotLine))
            painter.drawRoundedRect(area.adjusted(3, 3, -3, -3), 2, 2)
        self._drawn.append(Drawn(part, area))
        self.spots.append(Spot(area, self.about(part)))
        self._draw_doubt(painter, part, area)
        self._draw_check(painter, part, area)

    def _draw_check(self, painter: QPainter, part: Part, area: QRectF) -> None:
        """How the checks of a round stand, beside the mark of the part's status."""
        words = self.state.check_of(part.kind, part.place)
        if words:
            draw_outcome(painter, QPointF(area.right() - 32, area.y() + 14), words, self.look.scheme, 5.5)

    def _draw_doubt(self, painter: QPainter, part: Part, area: QRectF) -> None:
        """A folded corner on a part that is not as it should be; asked, it says what."""
        if not self.state.doubts_of(part):
            return
        painter.save()
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(self.look.scheme.fault))
        fold = min(11.0, area.width() * 0.7)
        corner = area.bottomRight()
        painter.drawPolygon(QPolygonF([corner, corner - QPointF(fold, 0), corner - QPointF(0, fold)]))
        painter.restore()

    def _draw_processor(self, painter: QPainter, part: Part, area: QRectF, grid: "CoreGrid") -> None:
        scheme, state = self.look.scheme, self.state
        self._frame(painter, part, area, tested=True)
        draw_text(painter, QPointF(area.x() + 8, area.y() + 18), "Processor", scheme.part(part.kind), 13, bold=True)
        draw_mark(painter, QPointF(area.right() - 13, area.y() + 14), state.status_of(part.kind), scheme)
        columns, gap = grid.columns, grid.gap
        cell_wide = (area.width() - 16 - gap * (columns - 1)) / columns
        cores = sorted({cpu.core for cpu in state.snapshot.machine.cpus}) if state.snapshot else []
        for number, core in enumerate(cores):
            x = area.x() + 8 + (number % columns) * (cell_wide + gap)
            y = area.y() + 28 + (number // columns) * (grid.cell_high + gap)
            self._draw_core(painter, part, core, QRectF(x, y, cell_wide, grid.cell_high))
        threads = len(state.snapshot.machine.cpus) if state.snapshot else 0
        line = f"{len(cores)} cores, {threads} threads"
        if state.run.busy_cores:
            line = f"load on {len(state.run.busy_cores)} of {len(cores)} cores"
        picked = [core for core in cores if self.picks.has_core(core)]
        if picked:
            line = f"{len(picked)} core{'s' if len(picked) > 1 else ''} picked"
        y = area.y() + 28 + grid.rows * (grid.cell_high + gap) + 14
        ink = scheme.ink if picked else scheme.soft
        if picked:
            draw_text(painter, QPointF(area.x() + 8, y), line, ink, 11.5, bold=True, width=area.width() - 16)
        else:
            draw_fitting(painter, QPointF(area.x() + 8, y), line, ink, 11.5, area.width() - 16)

    def _draw_core(self, painter: QPainter, part: Part, core: int, cell: QRectF) -> None:
        """A core fills from below with the share of its way from 30 °C to its limit; a hit core is hatched."""
        scheme, state = self.look.scheme, self.state
        index = next((i for i in state.find_channels(Quantity.TEMPERATURE) if state.channels[i].core == core), None)
        reading = state.value(index) if index is not None else None
        hits = state.hits_on(core)
        summary = [f"Core {core}"]
        busy = core in state.run.busy_cores
        if index is not None:
            channel = state.channels[index]
            limit = channel.limit(LimitSide.BELOW)
            summary += [reading_words(channel, reading), f"read from {channel.source}", state.extremes_text(index)]
            if limit is not None:
                summary.append(f"limit {limit.value:g} °C, {limit.source}")
                if reading is not None:
                    share = min(1.0, max(0.0, (reading - 30.0) / (limit.value - 30.0)))
                    fill = scheme.part(PartKind.PROCESSOR)
                    fill.setAlphaF(0.32 if busy else 0.18)
                    high = cell.height() * share
                    painter.fillRect(QRectF(cell.x(), cell.bottom() - high, cell.width(), high), fill)
        for i in state.find_channels(Quantity.CLOCK):
            if state.channels[i].core == core:
                summary += [reading_words(state.channels[i], state.value(i)), state.extremes_text(i)]
        if hits:
            summary.append(f"{hits} findings in this run on this core")
            fill = QColor(scheme.fault)
            fill.setAlphaF(0.35)
            painter.fillRect(cell, fill)
        self._core_words(painter, cell, core, reading, busy, bool(hits))
        picked = self.picks.has_core(core)
        here = self.hasFocus() and self._at == Target(part.tag, part.kind, core)
        colour = scheme.fault if hits else scheme.straw if picked else scheme.ink if here else scheme.rule
        painter.setPen(QPen(QColor(colour), 2.2 if hits or picked or here else 1.0))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(cell)
        if hits and picked:
            painter.setPen(QPen(QColor(scheme.straw), 2.2))
            painter.drawRect(cell.adjusted(2.5, 2.5, -2.5, -2.5))
        if self._several:
            self._drawn.append(Drawn(part, cell, core))
        self.spots.append(Spot(cell, "\n".join(filter(None, summary))))

    def _core_words(
        self, painter: QPainter, cell: QRectF, core: int, reading: float | None, busy: bool, hit: bool
    ) -> None:
        """Write a core's temperature over its number; without a sensor the number alone, darker while loaded."""
        scheme = self.look.scheme
        tall, name = cell.height() > 28, f"c{core}"
        ink = scheme.fault if hit else scheme.ink
        if reading is None:
            size = 12.0 if tall else 10.0
            y = cell.center().y() + 4
            if text_width(name, size) <= cell.width() - 2:
                self._centred(painter, cell, y, name, ink if busy or hit else scheme.soft, size, busy)
            return
        size = 13.5 if tall else 10.0
        text = f"{reading:.0f}"
        if text_width(text, size, bold=True) > cell.width():
            size = 8.5
        if text_width(text, size, bold=True) <= cell.width() + 1:
            y = cell.y() + (cell.height() * 0.42 + 2 if tall else cell.height() / 2 + 4)
            self._centred(painter, cell, y, text, ink, size, True)
        if tall:
            self._centred(painter, cell, cell.bottom() - cell.height() * 0.14, name, scheme.soft, 10.5, False)

    def _centred(self, painter: QPainter, cell: QRectF, y: float, text: str, colour: str, size: float, b: bool) -> None:
        x = cell.x() + (cell.width() - text_width(text, size, bold=b)) / 2
        draw_text(painter, QPointF(x, y), text, colour, size, bold=b)

    def _memory_slots(self) -> list[tuple[str, Part | None]]:
        snapshot = self.state.snapshot
        if snapshot is None:
            return []
        fitted = [(part.place, part) for part in snapshot.machine.parts_of(PartKind.MEMORY)]
        slots: list[tuple[str, Part | None]] = [*fitted, *((slot, None) for slot in snapshot.machine.empty_slots)]
        return sorted(slots, key=lambda slot: slot[0])[:8]

    def _draw_memory(self, painter: QPainter, slots: list[tuple[str, Part | None]], area: QRectF) -> None:
        scheme = self.look.scheme
        if not slots:
            return
        pitch = area.width() / len(slots)
        for number, (name, part) in enumerate(slots):
            bar = QRectF(area.x() + number * pitch + 3, area.y(), min(pitch - 6, 17.0), area.height())
            colour = scheme.part(PartKind.MEMORY)
            if part is None:
                painter.setPen(QPen(QColor(scheme.soft), 1.0, Qt.PenStyle.DashLine))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRect(bar)
                self.spots.append(Spot(bar, f"Slot {name} is empty"))
            else:
                fill = QColor(colour)
                fill.setAlphaF(0.85)
                here, picked = self._is_at(part), self._is_picked(part)
                edge = QColor(scheme.straw if picked else scheme.ink)
                painter.setPen(QPen(edge if here or picked else colour, 2.8 if here or picked else 1.2))
                painter.setBrush(fill)
                painter.drawRect(bar)
                centre = QPointF(bar.center().x(), bar.y() + 15)
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(QColor(scheme.panel))
                painter.drawEllipse(centre, 8.5, 8.5)
                draw_mark(painter, centre, self.state.status_of_part(part), scheme, 5)
                if checked := self.state.check_of(part.kind, part.place):
                    below = centre + QPointF(0, 22)
                    painter.setPen(Qt.PenStyle.NoPen)
                    painter.setBrush(QColor(scheme.panel))
                    painter.drawEllipse(below, 8.5, 8.5)
                    draw_outcome(painter, below, checked, scheme, 4.5)
                self._drawn.append(Drawn(part, bar))
                self.spots.append(Spot(bar, self.about(part)))
                self._draw_doubt(painter, part, bar)
            label = QRectF(bar.x() - 6, bar.bottom(), bar.width() + 12, 16)
            self._centred(painter, label, bar.bottom() + 15, name or "all", scheme.soft, 10.5, False)

    def _draw_power(self, painter: QPainter, area: QRectF) -> float:
        scheme, state = self.look.scheme, self.state
        parts = state.snapshot.machine.parts_of(PartKind.POWER) if state.snapshot else ()
        if not parts:
            return area.y()
        rails = [i for i in state.find_channels(Quantity.VOLTAGE, PartKind.POWER) if state.channels[i].limits][:3]
        self._frame(painter, parts[0], area, tested=bool(rails))
        draw_text(painter, QPointF(area.x() + 8, area.y() + 18), "Power", scheme.part(PartKind.POWER), 13, bold=True)
        draw_mark(painter, QPointF(area.right() - 13, area.y() + 14), state.status_of(PartKind.POWER), scheme)
        if not rails:
            draw_text(painter, QPointF(area.x() + 8, area.y() + 40), "no rail voltages reported", scheme.soft, 11.5)
            return area.bottom()
        pitch = (area.width() - 12) / len(rails)
        for number, index in enumerate(rails):
            channel, value = state.channels[index], state.value(index)
            x, y, wide = area.x() + 8 + number * pitch, area.y() + 36, pitch - 8
            draw_text(painter, QPointF(x, y), channel.name.lstrip("+"), scheme.soft, 10)
            shown = f"{value:.2f}" if value is not None else "–"
            draw_text(painter, QPointF(x + wide, y), shown, scheme.ink, 11, bold=True, right=True)
            track = QRectF(x, y + 11, wide, 7)
            painter.fillRect(track, QColor(scheme.grid))
            low, high = channel.limit(LimitSide.ABOVE), channel.limit(LimitSide.BELOW)
            painter.fillRect(QRectF(track.center().x() - 0.5, track.y() - 2, 1, 11), QColor(scheme.soft))
            if value is not None and low is not None and high is not None:
                share = min(1.0, max(0.0, (value - low.value) / (high.value - low.value)))
                beyond = not low.value <= value <= high.value
                ink = QColor(scheme.fault) if beyond else scheme.part(PartKind.POWER)
                painter.fillRect(QRectF(track.x() + share * (wide - 4), track.y() - 2, 4, 11), ink)
            summary = [reading_words(channel, value), f"read from {channel.source}", state.extremes_text(index)]
            summary += [f"must stay {limit.side.value} {limit.value:.2f} V, {limit.source}" for limit in channel.limits]
            self.spots.append(Spot(QRectF(x, area.y() + 24, wide, 36), "\n".join(filter(None, summary))))
        return area.bottom()

    def _draw_box(self, painter: QPainter, part: Part, area: QRectF, line: str, second: str) -> float:
        scheme = self.look.scheme
        loaded = any(item.row is part.kind for item in self.state.run.plan) or part.kind in (
            PartKind.COOLING,
            PartKind.BOARD,
        )
        self._frame(painter, part, area, tested=loaded)
        named = part.kind in (PartKind.DRIVE, PartKind.GRAPHICS)
        checked = bool(self.state.check_of(part.kind, part.place))
        title = f"{part.kind.value.capitalize()} {part.place}" if named else part.kind.value.capitalize()
        if part.kind is PartKind.NETWORK and (how := part.fact("kind")):
            title = how.capitalize()
        x, wide = area.x() + 8, area.width() - (52 if checked else 34)
        draw_text(painter, QPointF(x, area.y() + 18), title, scheme.part(part.kind), 13, bold=True, width=wide)
        draw_mark(painter, QPointF(area.right() - 13, area.y() + 14), self.state.status_of_part(part), scheme)
        if area.height() < 30:
            self._one_line(painter, area, title, line, part)
            return area.bottom()
        two_lines = area.height() > 50
        if not two_lines and second:
            line = f"{line}, {second}"
        draw_text(painter, QPointF(x, area.y() + 35), line, scheme.ink, 11.5, width=area.width() - 16)
        if two_lines:
            draw_text(painter, QPointF(x, area.y() + 49), second, scheme.soft, 11, width=area.width() - 16)
        return area.bottom()

    def _one_line(self, painter: QPainter, area: QRectF, title: str, line: str, part: Part) -> None:
        """Write a low box's title and line side by side."""
        scheme = self.look.scheme
        wide = text_width(title, 13, bold=True)
        room = area.width() - wide - (58 if self.state.check_of(part.kind, part.place) else 40)
        if room < _LEAST_WORDS:
            return
        draw_text(painter, QPointF(area.x() + 8 + wide + 8, area.y() + 16), line, scheme.ink, 10.5, width=room)

    def _temperature_line(self, part: Part) -> str:
        """Return the temperature of this part, not of another of its kind."""
        alone = self.state.snapshot is not None and len(self.state.snapshot.machine.parts_of(part.kind)) == 1
        for index in self.state.find_channels(Quantity.TEMPERATURE, part.kind):
            value = self.state.value(index)
            mine = self.state.channels[index].place == part.place or (alone and not self.state.channels[index].place)
            if value is not None and mine:
                return f"{value:.0f} °C"
        return ""

    # ---- asking and picking

    def about(self, part: Part) -> str:
        """Return what is known about a part, each fact with where it was read."""
        status = self.state.status_of_part(part)
        lines = [f"{part.tag.capitalize()}: {part.name}"]
        tag = self.state.tag_of(part)
        lines.append(f"Tag {tag}, status: {status.value}" if tag else f"Status: {status.value}")
        lines += [f"{each.code} {each.title}: {each.detail}" for each in self.state.doubts_of(part)]
        checks = [each for each in self.state.checks if each.row is part.kind and each.place in ("", part.place)]
        lines += [f"Check {each.title}: {each.outcome.value}. {each.why}" for each in checks[-3:]]
        lines += [f"{fact.name}: {fact.value}  ({fact.source})" for fact in part.facts]
        return "\n".join(lines)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Point at the part under the mouse; where several may be picked, pick it."""
        if event is None:
            return
        hit = next((each for each in reversed(self._drawn) if each.area.contains(event.position())), None)
        if hit is None:
            return
        self._go_to(hit, asked=not self._several)
        if self._several:
            adding = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
            ranging = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            self.set_picks(self.picks.with_click(hit.target, adding, ranging))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Move from part to part with the arrow keys, pick with the space bar, load what is picked with Enter."""
        if event is None or not self._drawn:
            return
        key = Qt.Key(event.key())
        targets = [each.target for each in self._drawn]
        if key in _ARROWS:
            self._move(*_ARROWS[key])
        elif self._several and key is Qt.Key.Key_Space and self._at in targets:
            self.set_picks(self.picks.with_click(self._at, adding=True))
        elif self._several and key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            if not self.picks.targets and self._at in targets:
                self.set_picks(self.picks.with_click(self._at))
            self.load_wanted.emit()
        else:
            super().keyPressEvent(event)

    def _move(self, step: int, by_part: bool) -> None:
        """Go to the next part, or to the next core or part."""
        targets = [each.target for each in self._drawn]
        now = targets.index(self._at) if self._at in targets else -1 if step > 0 else 0
        order = [self._drawn[(now + step * count) % len(targets)] for count in range(1, len(targets) + 1)]
        self._go_to(next(each for each in order if each.core is None or not by_part))

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        """Show where the keyboard is."""
        super().focusInEvent(event)
        by_key = event is not None and event.reason() not in (
            Qt.FocusReason.MouseFocusReason,
            Qt.FocusReason.ActiveWindowFocusReason,
        )
        if self._at is None and self._drawn and by_key:
            self._go_to(self._drawn[0])
        self.update()

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        """Show that the keyboard has gone."""
        super().focusOutEvent(event)
        self.update()

    def set_picks(self, picks: Picks) -> None:
        """Pick parts."""
        if picks != self.picks:
            self.picks = picks
            self.picks_changed.emit()
            self.update()

    def _is_at(self, part: Part) -> bool:
        return self.hasFocus() and self._at == Target(part.tag, part.kind)

    def _go_to(self, drawn: Drawn, asked: bool = True) -> None:
        """Bring the keyboard to a part; `asked` says whether its story is wanted."""
        self._at = drawn.target
        about = self.about(drawn.part) if drawn.core is None else f"Core {drawn.core} of {drawn.part.name}"
        self.setAccessibleDescription(about)
        if asked:
            self.picked.emit(about)
        self.part_picked.emit(drawn.part.tag)
        self.update()
