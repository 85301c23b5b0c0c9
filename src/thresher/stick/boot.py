"""What the boot menu asked for, and what the start of the stick has found: read by the session and by the window."""

from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path
from typing import TypeVar

import msgspec

from thresher.model.errors import InputError, InputFault
from thresher.model.regular_file import is_file, is_there
from thresher.model.whole_file import write_whole
from thresher.stick.clock import now, what_is_wrong

T = TypeVar("T")

RUN = Path("/run/thresher-stick")
HOME = Path("/var/lib/thresher")
"""Where jobs, shop, sheets and settings are kept: the stick's own partition, or memory."""
SETTINGS = "stick.json"
GOING_ON = "going-on"
"""The file in `HOME` that names the job that goes on after a crash."""


class Mode(StrEnum):
    """What the boot menu starts into."""

    WINDOW = "window"
    TEXT = "text"
    MEMORY = "memory"


class StickState(msgspec.Struct, frozen=True):
    """What the start has found: whether jobs outlive it, why not, and the stick's drive.

    `room` is what is free for jobs in bytes, 0 where no partition can be made. `built` is when the image was made, in
    Unix seconds; `clock_wrong` whether somebody has reported the machine's clock as wrong since this start.
    """

    lasting: bool = False
    reason: str = ""
    drive: str = ""
    room: int = 0
    built: float = 0.0
    clock_wrong: bool = False


class Settings(msgspec.Struct, frozen=True):
    """What is asked once and kept: the keyboard layout."""

    keyboard: str = ""


@dataclass(frozen=True, slots=True)
class BootOptions:
    """What the kernel's command line says."""

    mode: Mode = Mode.WINDOW
    in_memory: bool = False


def boot_options(line: str) -> BootOptions:
    """Return what the boot menu asked for; a mode that is not known is the window's."""
    words = line.split()
    asked = next((word.partition("=")[2] for word in words if word.startswith("thresher.mode=")), "")
    mode = Mode(asked) if asked in tuple(Mode) else Mode.WINDOW
    return BootOptions(mode, "toram" in words)


def environment_text(home: Path) -> str:
    """Return the places of the program as lines for a unit's environment (systemd.exec(5), EnvironmentFile=)."""
    places = {"XDG_DATA_HOME": "data", "XDG_CONFIG_HOME": "config", "XDG_STATE_HOME": "state"}
    return "".join(f"{name}={home / folder}\n" for name, folder in places.items())


def on_stick(run: Path = RUN) -> bool:
    """Whether this system was started from the stick."""
    return is_there(run / "state.json")


def read_state(run: Path = RUN) -> StickState:
    """Return what the start has found. Raises InputError where its file cannot be read."""
    return _read(run / "state.json", StickState)


def stick_without_jobs(run: Path = RUN) -> StickState | None:
    """Return what the start has found where this is the stick and jobs do not last, else None."""
    if not on_stick(run):
        return None
    try:
        state = read_state(run)
    except InputError as error:
        return StickState(reason=str(error))
    return None if state.lasting else state


def clock_trouble(run: Path = RUN, clock: float | None = None) -> str:
    """Return what is wrong with the machine's clock, by the image's time or as reported; empty elsewhere."""
    if not on_stick(run):
        return ""
    try:
        state = read_state(run)
    except InputError:
        return ""  # the window says that the start's file cannot be read
    by_image = what_is_wrong(now() if clock is None else clock, state.built)
    return by_image or ("reported at the start of the stick; it was left as it is" if state.clock_wrong else "")


def write_state(state: StickState, run: Path = RUN) -> None:
    """Keep what the start has found."""
    write_whole(run / "state.json", msgspec.json.encode(state), 0o644)


def read_settings(home: Path = HOME) -> Settings:
    """Return what was asked once, nothing where it was not, or where the file is damaged: then it is asked again."""
    try:
        return _read(home / SETTINGS, Settings)
    except InputError:
        return Settings()


def write_settings(settings: Settings, home: Path = HOME) -> None:
    """Keep what was asked. Raises EnvironmentFault."""
    write_whole(home / SETTINGS, msgspec.json.encode(settings), 0o600)


def read_going_on(home: Path = HOME) -> Path | None:
    """Return the job that goes on after a crash, None when none does or it is not there."""
    try:
        name = (home / GOING_ON).read_text(encoding="utf-8").strip()
    except (OSError, UnicodeDecodeError):
        return None
    job = home / name
    return job if name and is_file(job) and job.resolve().is_relative_to(home.resolve()) else None


def _read(path: Path, kind: type[T]) -> T:
    try:
        return msgspec.json.decode(path.read_bytes(), type=kind)
    except (OSError, msgspec.DecodeError) as error:
        raise InputError(str(path), [InputFault("file", str(error))]) from error
