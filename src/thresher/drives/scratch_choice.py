"""Where the scratch file of a drive goes and how large it is."""

from dataclasses import dataclass

from thresher.drives.scratch import BLOCK
from thresher.machine.mounts import ScratchPlace, place_of, scratch_places
from thresher.model.errors import SourceUnavailable

USUAL_BYTES = 4 << 30
_LEAST_BLOCKS = 64


@dataclass(frozen=True, slots=True)
class ScratchWish:
    """What is asked for: a folder (empty: the program picks one on the drive), and bytes (None: the usual)."""

    folder: str = ""
    amount: int | None = None


def choose_place(drive: str, wish: ScratchWish) -> ScratchPlace:
    """Return where the file goes. Raises SourceUnavailable with why it cannot. It may take long on a sick drive."""
    if wish.folder:
        place = place_of(wish.folder)
        if drive not in place.mount.drives:
            raise SourceUnavailable(wish.folder, f"it lies on {', '.join(place.mount.drives)}, not on {drive}")
        if place.why_not:
            raise SourceUnavailable(place.folder, place.why_not)
        return place
    places = scratch_places(drive)
    if not places:
        raise SourceUnavailable(drive, "no file system of it is mounted here")
    if places[0].why_not:
        raise SourceUnavailable(drive, "; ".join(f"{each.folder}: {each.why_not}" for each in places))
    return places[0]


def blocks_of(wish: ScratchWish, room: int) -> int:
    """Return how many blocks the file has: as many as are asked for, within the room there is."""
    return max(_LEAST_BLOCKS, min(wish.amount or USUAL_BYTES, room) // BLOCK)
