"""The shop's own run sheets: saving, renaming, deleting, and when each was used last.

A file that was changed by another program since it was read is never written over, and a deleted one is moved into a
folder beside the others, so that nothing is lost.
"""

import hashlib
import re
from dataclasses import dataclass, replace
from pathlib import Path

from thresher.journal.lock import locked
from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.model.private_folder import made_folder
from thresher.model.regular_file import is_there, read_regular
from thresher.model.whole_file import write_whole
from thresher.shop.store import change_file, read_file, sheets_folder

USES_FORMAT = "thresher-sheet-uses/1"
_DELETED = "deleted"


@dataclass(frozen=True, slots=True, kw_only=True)
class SheetUses:
    """When each of the sheets was started last, as Unix times by name."""

    format: str = USES_FORMAT
    used: dict[str, float]


def uses_path(shop: Path) -> Path:
    """Return where the last uses are kept."""
    return shop / "sheet-uses.json"


def read_uses(shop: Path) -> dict[str, float]:
    """Return when each sheet was started last. Raises InputError."""
    found = read_file(uses_path(shop), SheetUses, USES_FORMAT)
    return found.used if found is not None else {}


def note_use(shop: Path, name: str, wall: float) -> dict[str, float]:
    """Keep that a sheet is started now and return all last uses. Raises InputError, EnvironmentFault."""
    empty = SheetUses(used={})
    changed = change_file(
        uses_path(shop), USES_FORMAT, empty, lambda file: replace(file, used={**file.used, name: wall})
    )
    return changed.used


def digest(data: bytes) -> str:
    """Return what distinguishes the content of a file (SHA-256)."""
    return hashlib.sha256(data).hexdigest()


def read_sheet_file(path: Path) -> tuple[str, str]:
    """Return text and digest of a run sheet's file. Raises InputError."""
    try:
        data = read_regular(path)
    except OSError as error:
        raise InputError(str(path), [InputFault("file", error.strerror or str(error))]) from error
    try:
        return data.decode("utf-8"), digest(data)
    except UnicodeDecodeError as error:
        raise InputError(str(path), [InputFault("file", "it is no UTF-8 text")]) from error


def save_sheet(shop: Path, title: str, text: str, name: str = "", known: str = "") -> Path:
    """Save a run sheet and return its path: a new file, or with `name` over that one.

    `known` is the digest that the file had when it was read. Raises InputError when it has another one now, and
    EnvironmentFault.
    """
    folder = sheets_folder(shop)
    made_folder(folder)
    with locked(folder, "the folder of run sheets"):
        if not name:
            path = _free_path(folder, title)
        else:
            path = _path_of(folder, name)
            if is_there(path) and read_sheet_file(path)[1] != known:
                how = "it was changed by another program since it was opened; save it as a new sheet"
                raise InputError(str(path), [InputFault("file", how)])
        write_whole(path, text.encode("utf-8"))
    return path


def delete_sheet(shop: Path, name: str) -> Path:
    """Move a sheet of the shop among the deleted ones and return where it is. Raises InputError, EnvironmentFault."""
    folder = sheets_folder(shop)
    path = _path_of(folder, name)
    gone = folder / _DELETED
    made_folder(gone)
    with locked(folder, "the folder of run sheets"):
        if not is_there(path):
            raise InputError("run sheet", [InputFault("name", f"there is no sheet {name!r}")])
        place = _free_path(gone, name)
        try:
            path.replace(place)
        except OSError as error:
            raise EnvironmentFault(
                f"deleting {path}", error.strerror or str(error), "Choose a folder that can be written."
            ) from error
    return place


def _path_of(folder: Path, name: str) -> Path:
    """Return the path of a sheet by name. Raises InputError for one that leads out of the folder."""
    if not name or name != Path(name).name or name.startswith("."):
        raise InputError("run sheet", [InputFault("name", f"{name!r} is no name of a sheet")])
    return folder / f"{name}.toml"


def _free_path(folder: Path, title: str) -> Path:
    stem = re.sub(r"[^a-z0-9]+", "-", title.lower()).strip("-")[:80] or "sheet"
    number, path = 1, folder / f"{stem}.toml"
    while is_there(path):
        number += 1
        path = folder / f"{stem}-{number}.toml"
    return path
