"""Scratch files that are in use, written down before they are made, so that none is left behind by a crash."""

from dataclasses import dataclass, replace
from pathlib import Path

from thresher.machine.scratch_file import remove_left_over
from thresher.model.errors import ThresherError
from thresher.model.regular_file import is_there
from thresher.shop.store import change_file, read_file

FORMAT = "thresher-scratch-files/1"
_NAME = "scratch-files.json"


@dataclass(frozen=True, slots=True, kw_only=True)
class ScratchFiles:
    """Their paths."""

    format: str = FORMAT
    paths: tuple[str, ...] = ()


def note_scratch_file(shop: Path, path: str) -> None:
    """Write down that a scratch file is about to be made. Raises InputError, EnvironmentFault."""
    change_file(
        shop / _NAME,
        FORMAT,
        ScratchFiles(),
        lambda file: replace(file, paths=tuple(dict.fromkeys((*file.paths, path)))),
    )


def forget_scratch_file(shop: Path, path: str) -> None:
    """Strike one out that is gone. Raises InputError, EnvironmentFault."""
    change_file(
        shop / _NAME,
        FORMAT,
        ScratchFiles(),
        lambda file: replace(file, paths=tuple(each for each in file.paths if each != path)),
    )


def remove_scratch_files(shop: Path) -> tuple[str, ...]:
    """Remove what a crash has left behind; return a sentence for each. It may take long on a sick drive."""
    try:
        found = read_file(shop / _NAME, ScratchFiles, FORMAT)
    except ThresherError as error:
        return (str(error),)
    said = []
    for path in found.paths if found is not None else ():
        try:
            size = remove_left_over(path)
            if size is not None:
                said.append(f"{path}, {size / (1 << 20):.0f} MiB, left by a run that was cut off: removed")
            if not is_there(Path(path).parent):
                continue  # its file system is not mounted now: another time
            if not is_there(Path(path)):
                forget_scratch_file(shop, path)
        except (OSError, ThresherError) as error:
            said.append(f"{path} could not be removed: {error}")
    return tuple(said)
