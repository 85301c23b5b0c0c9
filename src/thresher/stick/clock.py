"""The machine's clock against the time that the image was made: a clock before that is wrong, on any machine.

The stick never sets a clock. What its earlier starts have seen is not used: one machine whose clock is ahead would make
all later ones look wrong.
"""

import time
from datetime import UTC, datetime
from pathlib import Path

IMAGE = Path("/etc/thresher/built")
"""When the image was made, in Unix seconds; only the stick has this file."""
_DAY_S = 86400.0


def image_time(path: Path = IMAGE) -> float:
    """Return when the image was made, in Unix seconds; 0 where it is not known."""
    try:
        return float(path.read_text(encoding="utf-8").strip())
    except (OSError, ValueError):
        return 0.0


def what_is_wrong(now: float, built: float) -> str:
    """Return in words what is wrong with a clock that shows `now`, empty where nothing is."""
    if not built or now >= built - _DAY_S:
        return ""
    shown, made = (f"{datetime.fromtimestamp(each, tz=UTC):%d %b %Y}" for each in (now, built))
    return f"it shows {shown}, {(built - now) / _DAY_S:.0f} days before this stick was made ({made})"


def now() -> float:
    """Return the machine's clock in Unix seconds."""
    return time.time()
