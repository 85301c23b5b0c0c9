"""The run sheet: what is to come and what has been, on the axis that the lanes share; edited while nothing runs."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import TYPE_CHECKING

from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QContextMenuEvent, QKeyEvent, QMouseEvent, QPainter, QWheelEvent
from PyQt6.QtWidgets import QMenu, QWidget

from thresher.compose import draft as drafts
from thresher.compose.draft import Draft, Placed
from thresher.compose.entry import cores_text, length_text
from thresher.compose.geometry import Grip, SheetLayout, Snap, areas, hit, sheet_rows, snap
from thresher.compose.ready_made import Wish, block_of
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, GateKind, SheetItem, clock_text
from thresher.protocol.status import PlanItem
from thresher.ui.look import Look
from thresher.ui.painted import PaintedWidget, Spot
from thresher.ui.sheet_editor import SheetEditor
from thresher.ui.state import BenchState
from thresher.ui.stations.bench.sheet_painter import FLAG_HIGH, DrawnItem, SheetPainter
from thresher.ui.time_axis import LEFT_MARGIN, RIGHT_MARGIN, TimeAxis

if TYPE_CHECKING:
    from PyQt6.QtGui import QAction

_ROW_HIGH, _COMPOSE_ROW_HIGH = 24.0, 36.0
_TOP = 22.0
_SNAP_PIXELS = 9.0
_SHORTEST_DRAG = 4.0
_MOST_TOLD = 6
_KEY_STEPS = (60.0, 10.0)
"""How far an arrow key moves what is selected, in seconds; the second with Shift."""


@lru_cache(maxsize=4096)
def item_words(item: SheetItem) -> str:
    """Return what is written on an item of the draft."""
    if not isinstance(item, Block):
        return item.kind.value
    parts = [item.title]
    if item.cores:
        parts.append(f"cores {cores_text(item.cores)}")
    if item.hold_c is not None:
        parts.append(f"held at {item.hold_c:g} °C")
    return ", ".join(parts)


@dataclass(frozen=True, slots=True)
class _Drag:
    """What the mouse is doing to the draft: the draft before, where it began, and the draft for a place of the
    mouse."""

    begun: Draft
    x: float
    edit: Callable[[float], tuple[Draft, Snap]]
    chosen: tuple[int, ...] | None = None


class RunSheetView(PaintedWidget):
    """Rows by part, blocks and gates on the time axis, the now line and the flags of findings.

    `details_wanted` comes when the fields of the selected blocks are to get the keyboard.
    """

    details_wanted = pyqtSignal()

    def __init__(
        self,
        state: BenchState,
        look: Look,
        axis: TimeAxis,
        editor: SheetEditor,
        wish: Callable[[], Wish],
        parent: QWidget | None = None,
    ) -> None:
        """Share the lanes' axis; `wish` gives what a block that is drawn by hand should do."""
        super().__init__(state, look, "Run sheet", parent)
        self._lanes_axis = axis
        self._own_axis = TimeAxis(self)
        self._editor = editor
        self._wish = wish
        self._panning: float | None = None
        self._drag: _Drag | None = None
        self._preview: Draft | None = None
        self._snap: Snap | None = None
        self._planned: list[tuple[PlanItem, QRectF]] = []
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        for each in (axis, self._own_axis):
            each.changed.connect(self.update)
        editor.changed.connect(self._fit)
        state.refreshed.connect(self._fit)
        self._fit()

    # ---- what is shown

    @property
    def axis(self) -> TimeAxis:
        """The axis in use: a draft made after a run has one of its own, everything else the lanes'."""
        return self._own_axis if self._editor.composing and self.state.run.run is not None else self._lanes_axis

    @property
    def draft(self) -> Draft:
        """The draft as it is drawn, also while the mouse changes it."""
        return self._preview if self._preview is not None else self._editor.draft

    def rows(self) -> tuple[PartKind, ...]:
        """Return the rows: every kind of part that there is a load for, and those on the sheet."""
        used = {item.row for item in self.state.run.plan if item.row is not None}
        used |= {each.item.row for each in self.draft.blocks if isinstance(each.item, Block)}
        return sheet_rows(used)

    def layout_of(self) -> SheetLayout:
        """Return where rows and times stand."""
        axis, wide = self.axis, float(self.width())
        left, right = axis.x(axis.begin, wide), axis.x(axis.end, wide)
        high = _COMPOSE_ROW_HIGH if self._editor.composing else _ROW_HIGH
        return SheetLayout(self.rows(), left, right - left, _TOP, high, axis.begin, axis.end)

    def _fit(self) -> None:
        """Take the height that the rows need, and show the whole draft while nobody has zoomed."""
        high = _COMPOSE_ROW_HIGH if self._editor.composing else _ROW_HIGH
        wanted = int(_TOP + high * len(self.rows()) + FLAG_HIGH + 4)
        if wanted != self.height():
            self.setFixedHeight(wanted)
        if self._editor.composing:
            length = max(60.0, self._editor.draft.length_s or 1800.0)
            self._own_axis.fit(-0.02 * length, 1.12 * length)
        self.update()

    def draw(self, painter: QPainter) -> None:
        """Draw ticks, rows, blocks, flags and the now line."""
        layout = self.layout_of()
        paint = SheetPainter(painter, self.look.scheme, self.axis, layout, QRectF(self.rect()))
        paint.ground()
        paint.clip()
        if self._editor.composing:
            self._draw_draft(paint, layout)
        else:
            picked = self._editor.picked_step
            drawn = [(item, paint.planned(item, item is picked)) for item in self.state.run.plan]
            self._planned = [(item, area) for item, area in drawn if area is not None]
            paint.flags(self.state.run_findings())
        if self.axis is self._lanes_axis:
            paint.now(self.state.now)
        painter.setClipping(False)
        self.spots += paint.spots
        self._describe()

    def _draw_draft(self, paint: SheetPainter, layout: SheetLayout) -> None:
        editor = self._editor
        for placed, area in areas(self.draft, layout):
            if area.x > self.width() or area.x + area.width < LEFT_MARGIN:
                continue
            item = DrawnItem(placed, area, placed.number in editor.chosen, editor.fault_of(placed))
            paint.drafted(item, item_words)
        if editor.next_s is not None:
            paint.place(editor.next_s)
        if self._snap is not None and self._snap.to:
            paint.snapped(self._snap.seconds, f"snapped to {self._snap.to}")

    def spot_at(self, position: QPointF) -> Spot | None:
        """Return what can be asked at a place; of the draft it is put together only when it is asked."""
        if not self._editor.composing:
            return super().spot_at(position)
        found = hit(self.draft, self.layout_of(), position.x(), position.y())
        placed = self.draft.placed(found.number) if found is not None else None
        if placed is None:
            return None
        start, lasting = clock_text(placed.start_s), length_text(placed.item.length_s)
        text = f"{item_words(placed.item)}: from {start}, {lasting}\n{self._editor.fault_of(placed)}".strip()
        return Spot(QRectF(position.x() - 4, position.y() - 4, 8, 8), text)

    def _describe(self) -> None:
        if self._editor.composing:
            chosen = self._editor.selection
            told = [f"{item_words(each.item)} from {clock_text(each.start_s)}" for each in chosen[:_MOST_TOLD]]
            more = f"; {len(chosen) - _MOST_TOLD} more" if len(chosen) > _MOST_TOLD else ""
            words = "; ".join(told) + more or f"{len(self._editor.draft.items)} blocks and gates, none selected"
        else:
            words = "; ".join(
                f"{item.title} from {clock_text(item.start_s)}, {item.state}" for item in self.state.run.plan
            )
        if words != self.accessibleDescription():
            self.setAccessibleDescription(words)

    # ---- mouse

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        """Zoom about the time under the mouse."""
        if event is not None:
            around = self.axis.time(event.position().x(), self.width())
            self.axis.zoom(1.25 if event.angleDelta().y() > 0 else 0.8, around)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Select, begin to move, stretch or draw; with the middle button, or while a run goes on, begin to pan."""
        if event is None:
            return
        position = event.position()
        if event.button() is Qt.MouseButton.MiddleButton or not self._editor.composing:
            self._panning = position.x()
            if self.state.active and event.button() is Qt.MouseButton.LeftButton:
                self._pick_step(position)
        elif event.button() is Qt.MouseButton.LeftButton:
            self._press(position, bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier))

    def _pick_step(self, position: QPointF) -> None:
        """Pick the step of the run in progress under the mouse, for changing it."""
        hit_item = next((item for item, area in reversed(self._planned) if area.contains(position)), None)
        self._editor.pick_step(hit_item.step if hit_item is not None and not hit_item.state.over else None)

    def _press(self, position: QPointF, adding: bool) -> None:
        editor, layout = self._editor, self.layout_of()
        found = hit(editor.draft, layout, position.x(), position.y())
        if found is None:
            row = layout.row_at(position.y())
            if not adding:
                editor.select(())
            if row is not None and position.x() >= LEFT_MARGIN:
                self._begin_drawing(row, position.x())
            return
        if adding:
            editor.select(editor.chosen ^ {found.number})
            return
        if found.number not in editor.chosen:
            editor.select((found.number,))
        self._begin_moving(found.number, found.grip, position.x())

    def _begin_drawing(self, row: PartKind, x: float) -> None:
        begun = self._editor.draft
        first = self._snapped(self.axis.time(x, self.width()), ())

        def edit(to_x: float) -> tuple[Draft, Snap]:
            last = self._snapped(self.axis.time(to_x, self.width()), ())
            begin, end = sorted((max(0.0, first.seconds), max(0.0, last.seconds)))
            wish = replace(self._wish(), length_s=max(drafts.SHORTEST_S, end - begin))
            block = block_of(row, wish, begin)
            return (begun if block is None else drafts.put(begun, (block,))[0]), last

        self._drag = _Drag(begun, x, edit, (begun.next_number,))

    def _begin_moving(self, number: int, grip: Grip, x: float) -> None:
        begun, chosen = self._editor.draft, tuple(self._editor.chosen)
        placed = begun.placed(number)
        assert placed is not None
        from_s = self.axis.time(x, self.width())

        def move(to_x: float) -> tuple[Draft, Snap]:
            by = self.axis.time(to_x, self.width()) - from_s
            begin = self._snapped(placed.start_s + by, chosen)
            end = self._snapped(placed.end_s + by, chosen)
            # whichever edge found something to hold on to; the start where both did
            if end.to and not begin.to:
                begin = Snap(end.seconds - placed.item.length_s, "")
                return drafts.move(begun, chosen, begin.seconds - placed.start_s), end
            return drafts.move(begun, chosen, begin.seconds - placed.start_s), begin

        def stretch(to_x: float) -> tuple[Draft, Snap]:
            edge = placed.end_s if grip is Grip.END else placed.start_s
            to = self._snapped(edge + self.axis.time(to_x, self.width()) - from_s, (number,))
            how = drafts.stretch_end if grip is Grip.END else drafts.stretch_start
            return how(begun, number, to.seconds), to

        self._drag = _Drag(begun, x, move if grip is Grip.BODY else stretch)

    def _snapped(self, seconds: float, without: tuple[int, ...]) -> Snap:
        reach = _SNAP_PIXELS * (self.axis.end - self.axis.begin) / max(1.0, self.width() - LEFT_MARGIN - RIGHT_MARGIN)
        return snap(self._editor.draft, seconds, reach, without)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Pan, or show what the draft would be here."""
        if event is None:
            return
        x = event.position().x()
        if self._panning is not None:
            moved = self.axis.time(self._panning, self.width()) - self.axis.time(x, self.width())
            self._panning = x
            self.axis.look_at(self.axis.begin + moved, self.axis.end + moved)
        elif self._drag is not None:
            if self._preview is None and abs(x - self._drag.x) < _SHORTEST_DRAG:
                return
            self._preview, self._snap = self._drag.edit(x)
            self.update()
        elif self._editor.composing:
            self._point(event.position())

    def _point(self, position: QPointF) -> None:
        """Show by the cursor what a press would do here."""
        found = hit(self._editor.draft, self.layout_of(), position.x(), position.y())
        shape = Qt.CursorShape.CrossCursor
        if found is not None:
            shape = Qt.CursorShape.OpenHandCursor if found.grip is Grip.BODY else Qt.CursorShape.SizeHorCursor
        elif position.x() < LEFT_MARGIN or self.layout_of().row_at(position.y()) is None:
            shape = Qt.CursorShape.ArrowCursor
        self.setCursor(shape)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Carry out what was dragged; a click on an empty stretch says where the next block goes."""
        self._panning = None
        drag, preview = self._drag, self._preview
        self._drag = self._preview = self._snap = None
        if drag is None:
            return
        if preview is not None and preview != drag.begun:
            self._editor.do(preview, drag.chosen)
        elif preview is None and drag.chosen is not None and event is not None:
            at = self._snapped(self.axis.time(event.position().x(), self.width()), ())
            self._editor.next_s = max(0.0, at.seconds)
        self.update()

    def mouseDoubleClickEvent(self, _event: QMouseEvent | None) -> None:
        """Go to the fields of the block."""
        if self._editor.composing and self._editor.chosen:
            self.details_wanted.emit()

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        """Show what can be done here."""
        if event is None or not self._editor.composing:
            return
        by_mouse = event.reason() is QContextMenuEvent.Reason.Mouse
        at = max(0.0, self.axis.time(event.pos().x(), self.width())) if by_mouse else None
        found = hit(self._editor.draft, self.layout_of(), event.pos().x(), event.pos().y()) if by_mouse else None
        if found is not None and found.number not in self._editor.chosen:
            self._editor.select((found.number,))
        self.edit_menu(at).popup(event.globalPos())

    def edit_menu(self, at_s: float | None = None) -> QMenu:
        """Return the menu of the selected blocks; `at_s` is the time under the mouse."""
        editor, menu = self._editor, QMenu(self)
        at = self._snapped(at_s, ()).seconds if at_s is not None else None
        any_chosen = bool(editor.chosen)

        def add(text: str, do: Callable[[], object], enabled: bool = True) -> "QAction | None":
            action = menu.addAction(text)
            if action is not None:
                action.triggered.connect(lambda _checked=False: do())
                action.setEnabled(enabled)
            return action

        add("Copy\tCtrl+C", editor.copy, any_chosen)
        add("Cut\tCtrl+X", editor.cut, any_chosen)
        add("Paste here" if at is not None else "Paste\tCtrl+V", lambda: editor.paste(at), bool(editor.clipboard))
        add("Duplicate\tCtrl+D", editor.duplicate, any_chosen)
        add("Split here" if at is not None else "Split in the middle\tS", lambda: editor.split(at), any_chosen)
        add("Delete\tDel", editor.remove, any_chosen)
        menu.addSeparator()
        for kind in GateKind:
            add(f"Put a gate here: {kind.value}", lambda kind=kind: editor.put_gate(kind, at))  # type: ignore[misc]
        return menu

    # ---- keyboard

    def event(self, event: QEvent | None) -> bool:
        """Take the keys of editing before the window's own shortcuts get them."""
        asked = event if isinstance(event, QKeyEvent) and event.type() is QEvent.Type.ShortcutOverride else None
        if asked is not None and self._editor.composing and self._command(asked) is not None:
            asked.accept()
            return True
        return super().event(event)

    def _command(self, event: QKeyEvent) -> Callable[[], object] | None:
        """Return what a key does to the draft, None where it does nothing."""
        editor, key = self._editor, Qt.Key(event.key())
        control = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        alt = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        step = _KEY_STEPS[shift]
        with_control: dict[Qt.Key, Callable[[], object]] = {
            Qt.Key.Key_C: editor.copy,
            Qt.Key.Key_X: editor.cut,
            Qt.Key.Key_V: editor.paste,
            Qt.Key.Key_D: editor.duplicate,
            Qt.Key.Key_A: lambda: editor.select(each.number for each in editor.draft.items),
            Qt.Key.Key_Z: editor.redo if shift else editor.undo,
            Qt.Key.Key_Y: editor.redo,
        }
        plain: dict[Qt.Key, Callable[[], object]] = {
            Qt.Key.Key_Delete: editor.remove,
            Qt.Key.Key_Backspace: editor.remove,
            Qt.Key.Key_Left: lambda: self._shift(-step, alt),
            Qt.Key.Key_Right: lambda: self._shift(step, alt),
            Qt.Key.Key_Up: lambda: editor.select_next(-1),
            Qt.Key.Key_Down: lambda: editor.select_next(1),
            Qt.Key.Key_S: editor.split,
            Qt.Key.Key_Return: self.details_wanted.emit,
            Qt.Key.Key_Enter: self.details_wanted.emit,
        }
        return (with_control if control else plain).get(key)

    def _shift(self, seconds: float, stretch: bool) -> None:
        """Move what is selected, or stretch its end."""
        editor = self._editor
        if not stretch:
            editor.do(drafts.move(editor.draft, editor.chosen, seconds))
            return
        new = editor.draft
        for placed in editor.selection:
            new = drafts.stretch_end(new, placed.number, placed.end_s + seconds)
        editor.do(new)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Edit the draft by keyboard."""
        command = self._command(event) if event is not None and self._editor.composing else None
        if event is not None and self.state.active and event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            command = lambda: self._next_step(1 if event.key() == Qt.Key.Key_Down else -1)  # noqa: E731
        if command is None:
            super().keyPressEvent(event)
        else:
            command()

    def _next_step(self, by: int) -> None:
        """Pick the step after or before the picked one of the run in progress."""
        steps = [item.step for item in self.state.run.plan if not item.state.over]
        if steps:
            now = steps.index(self._editor.step) if self._editor.step in steps else -1 if by > 0 else 0
            self._editor.pick_step(steps[(now + by) % len(steps)])

    def words_of_selection(self) -> str:
        """Return what is selected, in words."""
        chosen: tuple[Placed, ...] = self._editor.selection
        if len(chosen) == 1:
            return f"{item_words(chosen[0].item)}, {length_text(chosen[0].item.length_s)}"
        return f"{len(chosen)} blocks and gates"
