"""The machine's clock against what the stick knows: it can be behind, and then its battery is empty or it was set so.

The stick never sets a clock by itself. What it knows is the time the image was made, and the latest time seen by a
start of this stick: a clock before that is wrong, whatever the machine. One that is ahead cannot be told from here.
"""

import time
from datetime import UTC, datetime
from pathlib import Path

from thresher.model.errors import EnvironmentFault
from thresher.model.whole_file import write_whole

IMAGE = Path("/etc/thresher/built")
_SEEN = "last-start"
_AHEAD_S = 20 * 365 * 86400.0
"""A clock so far ahead of the image is no help either: it is not kept as the latest time."""


def image_time(path: Path = IMAGE) -> float:
    """Return when the image was made, in Unix seconds; 0 where it does not say."""
    try:
        return float(path.read_text(encoding="utf-8").strip())
    except (OSError, ValueError):
        return 0.0


def known_time(home: Path) -> float:
    """Return the latest time that a start of this stick has seen, 0 for none."""
    return image_time(home / _SEEN)


def note_time(home: Path, now: float, built: float | None = None) -> None:
    """Keep the time of this start where it is later than what is kept, and not absurdly far ahead of the image."""
    base = image_time() if built is None else built
    if now <= known_time(home) or (base and now > base + _AHEAD_S):
        return
    try:
        write_whole(home / _SEEN, f"{now:.0f}\n".encode())
    except EnvironmentFault:
        return  # the place for jobs says itself when it cannot be written


def what_is_wrong(now: float, seen: float) -> str:
    """Return in words what is wrong with a clock that shows `now`, empty where nothing is."""
    if not seen or now >= seen - 86400.0:
        return ""
    behind = (seen - now) / 86400.0
    shown, latest = (f"{datetime.fromtimestamp(each, tz=UTC):%Y-%m-%d %H:%M}" for each in (now, seen))
    return f"it shows {shown}, {behind:.0f} days before {latest}, which this stick has seen already"


def now() -> float:
    """Return the machine's clock in Unix seconds."""
    return time.time()
