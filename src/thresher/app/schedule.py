"""Rounds on a schedule: units of the user's service manager, one timer and one service a round.

Units by systemd.unit(5), systemd.timer(5) and systemd.service(5); times that were missed while the machine was off are
caught up (`Persistent=`).
"""

import re
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from thresher.model.checks import Round
from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.model.regular_file import is_there, read_text_file
from thresher.model.whole_file import write_whole

_PREFIX = "thresher-round-"
_NAME = re.compile(r"[a-z0-9][a-z0-9-]{0,30}")
_DAY = "Mon|Tue|Wed|Thu|Fri|Sat|Sun"
_TIME = re.compile(rf"(?:((?:{_DAY})(?:(?:,|\.\.)(?:{_DAY}))*) )?([01]?\d|2[0-3]):([0-5]\d)", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Scheduled:
    """A round on the schedule: its name, when (a time, with days of the week before it), and which round."""

    name: str
    when: str
    kind: Round


class UserManager(Protocol):
    """The service manager of this user."""

    def reload(self) -> None:
        """Read the units again. Raises EnvironmentFault."""
        ...

    def enable(self, unit: str) -> None:
        """Let a timer start with the manager, and now. Raises EnvironmentFault."""
        ...

    def disable(self, unit: str) -> None:
        """Stop a timer, now and for good. Raises EnvironmentFault."""
        ...


def calendar(when: str) -> str:
    """Return a time in the manager's own form (systemd.time(7)). Raises InputError.

    "07:30" is every day, "Mon 07:30", "Mon..Fri 07:30" and "Tue,Sat 18:00" are on those days."""
    match = _TIME.fullmatch(when.strip())
    if match is None:
        expected = 'expected a time such as "07:30", "Mon 07:30", "Mon..Fri 07:30" or "Tue,Sat 18:00"'
        raise InputError("schedule", [InputFault("when", f"{expected}; found {when!r}")])
    days = re.sub("[A-Za-z]+", lambda found: found[0].capitalize(), match[1] or "")
    return f"{days + ' ' if days else ''}*-*-* {int(match[2]):02d}:{match[3]}:00"


def units(scheduled: Scheduled, command: Iterable[str]) -> dict[str, str]:
    """Return the files of a scheduled round by name: the service and its timer. Raises InputError."""
    if not _NAME.fullmatch(scheduled.name):
        expected = "expected small letters, digits and dashes, 31 at most"
        raise InputError("schedule", [InputFault("name", f"{expected}; found {scheduled.name!r}")])
    stem, run = f"{_PREFIX}{scheduled.name}", " ".join(_quoted(word) for word in command)
    about = f"Thresher: {scheduled.kind.value} round, {scheduled.when}"
    service = (
        f"[Unit]\nDescription={about}\n\n[Service]\nType=oneshot\nExecStart={run}\n"
        # 1 is "a check failed", and a notification said so: the service itself did what it should
        "SuccessExitStatus=1\nNice=10\n"
    )
    timer = (
        f"[Unit]\nDescription={about}\n\n[Timer]\nOnCalendar={calendar(scheduled.when)}\nPersistent=true\n"
        "RandomizedDelaySec=60\n\n[Install]\nWantedBy=timers.target\n"
    )
    return {f"{stem}.service": service, f"{stem}.timer": timer}


def _quoted(word: str) -> str:
    """Return a word for a command line of a unit (systemd.service(5)): in quotes, with % and $ doubled."""
    escaped = word.replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%").replace("$", "$$")
    return f'"{escaped}"'


def add(folder: Path, manager: UserManager, scheduled: Scheduled, command: Iterable[str]) -> None:
    """Put a round on the schedule, in place of one of the same name. Raises InputError, EnvironmentFault."""
    files = units(scheduled, command)
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for name, text in files.items():
            write_whole(folder / name, text.encode(), 0o644)
    except OSError as error:
        raise EnvironmentFault(
            f"writing the units in {folder}", error.strerror or str(error), "Make the folder writable for this user."
        ) from error
    manager.reload()
    manager.enable(f"{_PREFIX}{scheduled.name}.timer")


def listed(folder: Path) -> tuple[Scheduled, ...]:
    """Return the rounds on the schedule, by name. Raises InputError for a unit that cannot be read."""
    found = []
    for path in sorted(folder.glob(f"{_PREFIX}*.timer")):
        text = read_text_file(path)
        about = re.search(r"^Description=Thresher: (\w+) round, (.+)$", text, re.MULTILINE)
        kind = next((each for each in Round if about is not None and each.value == about[1]), None)
        if about is not None and kind is not None:
            found.append(Scheduled(path.stem.removeprefix(_PREFIX), about[2], kind))
    return tuple(found)


def remove(folder: Path, manager: UserManager, name: str) -> None:
    """Take a round off the schedule. Raises InputError for one that is not on it, EnvironmentFault."""
    timer = folder / f"{_PREFIX}{name}.timer"
    if not _NAME.fullmatch(name) or not is_there(timer):
        known = ", ".join(each.name for each in listed(folder)) or "nothing"
        raise InputError("schedule", [InputFault("name", f"{name!r} is not on the schedule; on it: {known}")])
    manager.disable(timer.name)
    for path in (timer, timer.with_suffix(".service")):
        path.unlink(missing_ok=True)
    manager.reload()
