"""The lanes under the mouse and the keyboard: panning, marking, choosing, folding, pinning, the menu of a lane.

What they look like is left to `lanes_canvas`.
"""

from dataclasses import replace

from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import (
    QAction,
    QContextMenuEvent,
    QKeyEvent,
    QMouseEvent,
    QWheelEvent,
)
from PyQt6.QtWidgets import QMenu

from thresher.sensors.lanes import Lane
from thresher.sensors.layout import (
    LaneLayout,
    arranged,
    folded,
    heightened,
    moved,
    toggled,
)
from thresher.ui.stations.bench.lanes_canvas import LanesCanvas
from thresher.ui.time_axis import LEFT_MARGIN

_FOLDED_HIGH = 22.0
_LOWEST_LANE = 44.0
_LOOK_BACK_S = 240.0
_SHORTEST_RANGE = 4.0
"""Pixels that the mouse has to move before a range is meant."""


class LanesView(LanesCanvas):
    """The lanes, moved and arranged by mouse and keys."""

    def _lane_at(self, position: QPointF) -> Lane | None:
        frame = next((frame for frame in self._frames if frame.area.contains(position)), None)
        return frame.lane if frame is not None else None

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        """Zoom about the mouse; with Shift or sideways, pan."""
        if event is None:
            return
        turn, side = event.angleDelta().y(), event.angleDelta().x()
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier or (side and not turn):
            self.pan(-0.1 if (turn or side) > 0 else 0.1)
        else:
            around = self._axis.time(event.position().x(), self.width())
            self._axis.zoom(1.25 if turn > 0 else 0.8, around)

    def pan(self, share: float) -> None:
        """Move along time by a share of what is in view."""
        by = share * (self._axis.end - self._axis.begin)
        self._axis.look_at(self._axis.begin + by, self._axis.end + by)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Open a folded lane, choose one by its margin, begin a range with the left and panning with the middle."""
        if event is None:
            return
        position = event.position()
        if event.button() is Qt.MouseButton.MiddleButton:
            self._panning = position.x()
            return
        if event.button() is not Qt.MouseButton.LeftButton:
            return
        chip = next((lane for lane, area in self._chips if area.contains(position)), None)
        if chip is not None:
            self.arrange(folded(self.layout_of_lanes, chip.key, fold=False))
        elif position.x() < LEFT_MARGIN:
            lane = self._lane_at(position)
            self.chosen = lane.key if lane else ""
            self.update()
        else:
            self._marking = position.x()
            self.unmark()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Move the cursor, the range or the view."""
        if event is None:
            return
        x = event.position().x()
        if self._panning is not None:
            moved_by = self._axis.time(self._panning, self.width()) - self._axis.time(x, self.width())
            self._panning = x
            self._axis.look_at(self._axis.begin + moved_by, self._axis.end + moved_by)
        elif self._marking is not None and abs(x - self._marking) > _SHORTEST_RANGE:
            self.mark(self._axis.time(self._marking, self.width()), self._axis.time(x, self.width()))
        self._cursor_x = x
        self.update()

    def mouseReleaseEvent(self, _event: QMouseEvent | None) -> None:
        """End a range or panning."""
        self._marking = self._panning = None

    def leaveEvent(self, event: QEvent | None) -> None:
        """Take the cursor away."""
        self._cursor_x = None
        self.update()
        super().leaveEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        """Show what can be done with the lane under the mouse, or with the chosen one."""
        if event is None:
            return
        by_mouse = event.reason() is QContextMenuEvent.Reason.Mouse
        lane = self._lane_at(QPointF(event.pos())) if by_mouse else None
        if lane is not None:
            self.chosen = lane.key
        menu = self.lane_menu()
        if menu is not None:
            menu.popup(event.globalPos())

    def lane_menu(self) -> QMenu | None:
        """Return the menu of the chosen lane."""
        lane = next((lane for lane in self.shown() if lane.key == self.chosen), None)
        if lane is None:
            return None
        menu, layout, key = QMenu(self), self.layout_of_lanes, lane.key
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        for text, then in (
            ("Unpin" if key in layout.pinned else "Pin to the top\tP", self._pinned(key)),
            ("Fold\tSpace", folded(layout, key, fold=True)),
            ("Up\tShift+Up", moved(layout, self.state.lanes, key, -1)),
            ("Down\tShift+Down", moved(layout, self.state.lanes, key, 1)),
            ("More height\t]", heightened(layout, key, 1.5)),
            ("Less height\t[", heightened(layout, key, 1 / 1.5)),
            ("As at first, all lanes", LaneLayout()),
        ):
            self._menu_action(menu, text, then)
        menu.addSeparator()
        for index in lane.channels[:40]:
            channel = self.state.channels[index]
            then = replace(layout, hidden=toggled(layout.hidden, channel.key))
            action = self._menu_action(menu, channel.name, then)
            action.setCheckable(True)
            action.setChecked(channel.key not in layout.hidden)
        return menu

    def _menu_action(self, menu: QMenu, text: str, then: LaneLayout) -> QAction:
        action = QAction(text, menu)
        action.triggered.connect(lambda: self.arrange(then))
        menu.addAction(action)
        return action

    def _pinned(self, key: str) -> LaneLayout:
        layout = self.layout_of_lanes
        return replace(layout, pinned=toggled(layout.pinned, key))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrange and look by keyboard; see the menu of a lane for the keys."""
        if event is None or not self._on_key(event):
            super().keyPressEvent(event)

    def _on_key(self, event: QKeyEvent) -> bool:
        key, shift = Qt.Key(event.key()), bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        vertical = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(key)
        if vertical is not None:
            if shift:
                self.arrange(moved(self.layout_of_lanes, self.state.lanes, self.chosen, vertical))
            else:
                self._choose(vertical)
            return True
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self.pan(-0.1 if key is Qt.Key.Key_Left else 0.1)
            return True
        if key is Qt.Key.Key_N:
            self.go_to_finding(-1 if shift else 1)
            return True
        return self._arrange_by_key(key)

    def _arrange_by_key(self, key: Qt.Key) -> bool:
        layout = self.layout_of_lanes
        if not self.chosen:
            return False
        is_open = self.chosen in {lane.key for lane in self.shown()}
        then = {
            Qt.Key.Key_Space: lambda: folded(layout, self.chosen, fold=is_open),
            Qt.Key.Key_P: lambda: self._pinned(self.chosen),
            Qt.Key.Key_BracketRight: lambda: heightened(layout, self.chosen, 1.5),
            Qt.Key.Key_BracketLeft: lambda: heightened(layout, self.chosen, 1 / 1.5),
        }.get(key)
        if then is not None:
            self.arrange(then())
        return then is not None

    def _choose(self, step: int) -> None:
        shown, rest = arranged(self.state.lanes, self.layout_of_lanes)
        keys = [lane.key for lane in (*shown, *rest)]
        if keys:
            now = keys.index(self.chosen) if self.chosen in keys else -1 if step > 0 else 0
            self.chosen = keys[(now + step) % len(keys)]
            self.update()
