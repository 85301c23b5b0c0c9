"""Where things stand on the sheet and what is under the mouse, in pixels; where a dragged edge snaps to, in seconds."""

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

from thresher.compose.draft import Draft, Placed
from thresher.loads.registry import WORK_LOADS
from thresher.model.parts import PartKind
from thresher.model.sheet import Block

ROUND_TIMES = (1.0, 5.0, 10.0, 30.0, 60.0, 300.0, 600.0, 1800.0, 3600.0)
_HANDLE = 6.0
_NARROW = 3 * _HANDLE
_KIND_ORDER = {kind: place for place, kind in enumerate(PartKind)}


def sheet_rows(used: Iterable[PartKind] = ()) -> tuple[PartKind, ...]:
    """Return the rows of a sheet: every kind of part that there is a load for, and those that are used besides."""
    kinds = {load.row for load in WORK_LOADS.values()} | set(used)
    return tuple(sorted(kinds, key=lambda kind: _KIND_ORDER[kind]))


@dataclass(frozen=True, slots=True)
class Area:
    """A rectangle in pixels."""

    x: float
    y: float
    width: float
    height: float

    def holds(self, x: float, y: float) -> bool:
        """Whether a point is in it."""
        return self.x <= x <= self.x + self.width and self.y <= y <= self.y + self.height


@dataclass(frozen=True, slots=True)
class SheetLayout:
    """The rows of a sheet below each other, and time from left to right."""

    rows: tuple[PartKind, ...]
    left: float
    width: float
    top: float
    row_height: float
    begin_s: float
    end_s: float

    def x(self, seconds: float) -> float:
        """Return the pixel of a time."""
        return self.left + (seconds - self.begin_s) / max(1e-9, self.end_s - self.begin_s) * self.width

    def seconds(self, x: float) -> float:
        """Return the time of a pixel."""
        return self.begin_s + (x - self.left) / max(1.0, self.width) * (self.end_s - self.begin_s)

    def row_at(self, y: float) -> PartKind | None:
        """Return the row at a height, None above and below all of them."""
        place = int((y - self.top) // self.row_height)
        return self.rows[place] if 0 <= place < len(self.rows) else None

    @property
    def bottom(self) -> float:
        """Where the last row ends."""
        return self.top + self.row_height * len(self.rows)


def areas(draft: Draft, layout: SheetLayout) -> list[tuple[Placed, Area]]:
    """Return where every item stands: blocks side by side in one row share its height, gates cross all rows."""
    found: list[tuple[Placed, Area]] = []
    for gate in draft.gates:
        wide = max(_HANDLE, layout.x(gate.end_s) - layout.x(gate.start_s))
        found.append((gate, Area(layout.x(gate.start_s), layout.top, wide, layout.bottom - layout.top)))
    for place, row in enumerate(layout.rows):
        mine = [each for each in draft.blocks if isinstance(each.item, Block) and each.item.row is row]
        top = layout.top + place * layout.row_height
        for each, lane, lanes in _lanes(mine):
            high = (layout.row_height - 6.0) / lanes
            wide = max(_HANDLE, layout.x(each.end_s) - layout.x(each.start_s))
            found.append((each, Area(layout.x(each.start_s), top + 2.0 + lane * high, wide, high)))
    return found


def _lanes(blocks: list[Placed]) -> list[tuple[Placed, int, int]]:
    """Give every block of a row its lane, and how many lanes its neighbours need together."""
    found: list[tuple[Placed, int, int]] = []
    group: list[tuple[Placed, int]] = []
    ends: list[float] = []

    def close() -> None:
        found.extend((each, lane, len(ends)) for each, lane in group)
        group.clear()
        ends.clear()

    for each in blocks:
        if group and each.start_s >= max(ends):
            close()
        lane = next((place for place, end in enumerate(ends) if each.start_s >= end), len(ends))
        if lane == len(ends):
            ends.append(each.end_s)
        else:
            ends[lane] = each.end_s
        group.append((each, lane))
    close()
    return found


class Grip(StrEnum):
    """By what an item is held."""

    BODY = "body"
    START = "start"
    END = "end"


@dataclass(frozen=True, slots=True)
class Hit:
    """An item under the mouse, and by what it would be held there."""

    number: int
    grip: Grip


def hit(draft: Draft, layout: SheetLayout, x: float, y: float) -> Hit | None:
    """Return what is under a point; blocks before gates, and an edge only where there is room for three parts."""
    for placed, area in reversed(areas(draft, layout)):
        if not Area(area.x - 2, area.y, area.width + 4, area.height).holds(x, y):
            continue
        if area.width >= _NARROW and x <= area.x + _HANDLE:
            return Hit(placed.number, Grip.START)
        if area.width >= _NARROW and x >= area.x + area.width - _HANDLE:
            return Hit(placed.number, Grip.END)
        return Hit(placed.number, Grip.BODY)
    return None


@dataclass(frozen=True, slots=True)
class Snap:
    """A time after snapping; `to` says to what, empty where nothing was near."""

    seconds: float
    to: str = ""


def snap(draft: Draft, seconds: float, reach_s: float, without: Iterable[int] = ()) -> Snap:
    """Snap a time to the edge of another item within reach, else to a round time near it, else to whole seconds."""
    left_out = set(without)
    edges = [
        (abs(edge - seconds), edge, f"{what} of {_name(each)}")
        for each in draft.items
        if each.number not in left_out
        for edge, what in ((each.start_s, "start"), (each.end_s, "end"))
    ]
    edges.append((abs(seconds), 0.0, "the beginning"))
    distance, edge, name = min(edges)
    if distance <= reach_s:
        return Snap(edge, name)
    grid = max((each for each in ROUND_TIMES if each <= 4 * reach_s), default=ROUND_TIMES[0])
    near = round(seconds / grid) * grid
    return Snap(max(0.0, near if abs(near - seconds) <= max(reach_s, grid / 2) else float(round(seconds))))


def _name(placed: Placed) -> str:
    return placed.item.load if isinstance(placed.item, Block) else placed.item.kind.value
