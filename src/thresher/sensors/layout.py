"""How a person has arranged the lanes: which stand open, in which order, how high, which channels are hidden."""

from dataclasses import dataclass, field, replace

import msgspec

from thresher.model.errors import InputError, InputFault
from thresher.sensors.lanes import Lane

OPEN_AT_FIRST = 6
LOWEST, HIGHEST = 0.5, 4.0


@dataclass(frozen=True, slots=True)
class LaneLayout:
    """An arrangement. Lanes are named by their keys, channels by theirs.

    `order` lists lanes that were moved; others keep their usual place after them. `opened` and `folded` list lanes
    whose state a person chose; others stand open if they are among the first of the machine.
    """

    order: tuple[str, ...] = ()
    opened: tuple[str, ...] = ()
    folded: tuple[str, ...] = ()
    pinned: tuple[str, ...] = ()
    hidden: tuple[str, ...] = ()
    heights: dict[str, float] = field(default_factory=dict)


def arranged(lanes: tuple[Lane, ...], layout: LaneLayout) -> tuple[list[Lane], list[Lane]]:
    """Return the lanes that stand open, pinned ones first, and those that are folded, both in their order."""
    usual = {lane.key: place for place, lane in enumerate(lanes)}
    moved = {key: place for place, key in enumerate(layout.order)}
    ordered = sorted(lanes, key=lambda lane: (moved.get(lane.key, len(moved) + usual[lane.key]), usual[lane.key]))
    # a lane is among the first by its usual place, so that moving one opens and folds no other
    at_first = {lane.key for lane in lanes[:OPEN_AT_FIRST]}
    is_open = {
        lane.key: lane.key in layout.opened or (lane.key in at_first and lane.key not in layout.folded)
        for lane in lanes
    }
    shown = [lane for lane in ordered if is_open[lane.key]]
    shown.sort(key=lambda lane: lane.key not in layout.pinned)
    return shown, [lane for lane in ordered if not is_open[lane.key]]


def toggled(keys: tuple[str, ...], key: str) -> tuple[str, ...]:
    """Return the keys with one put in, or taken out if it was there."""
    return tuple(each for each in keys if each != key) if key in keys else (*keys, key)


def folded(layout: LaneLayout, key: str, fold: bool) -> LaneLayout:
    """Fold a lane or open it."""
    opened = tuple(each for each in layout.opened if each != key)
    closed = tuple(each for each in layout.folded if each != key)
    return replace(layout, opened=opened if fold else (*opened, key), folded=(*closed, key) if fold else closed)


def moved(layout: LaneLayout, lanes: tuple[Lane, ...], key: str, step: int) -> LaneLayout:
    """Move an open lane up (-1) or down (1) among the open ones; pinned ones stay above the others."""
    shown, rest = arranged(lanes, layout)
    keys = [lane.key for lane in shown]
    if key not in keys:
        return layout
    place = keys.index(key)
    target = min(max(place + step, 0), len(keys) - 1)
    keys.insert(target, keys.pop(place))
    return replace(layout, order=(*keys, *(lane.key for lane in rest)))


def heightened(layout: LaneLayout, key: str, factor: float) -> LaneLayout:
    """Give a lane more (above 1) or less height."""
    height = min(HIGHEST, max(LOWEST, layout.heights.get(key, 1.0) * factor))
    return replace(layout, heights=layout.heights | {key: height})


def encode_layout(layout: LaneLayout) -> str:
    """Return the layout as JSON."""
    return msgspec.json.encode(layout).decode()


def decode_layout(text: str) -> LaneLayout:
    """Return the layout in a JSON text. Raises InputError."""
    try:
        layout = msgspec.json.decode(text, type=LaneLayout)
    except msgspec.DecodeError as error:
        raise InputError("lane layout", [InputFault("JSON", str(error))]) from error
    heights = {key: min(HIGHEST, max(LOWEST, value)) for key, value in layout.heights.items()}
    return replace(layout, heights=heights)


def machine_sort(lanes: tuple[Lane, ...]) -> str:
    """Return a name for machines that offer the same lanes; the arrangement is remembered under it."""
    return "|".join(sorted(lane.key for lane in lanes))
