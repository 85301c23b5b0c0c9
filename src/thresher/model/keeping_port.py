"""What keeps a run going without a person: the watchdog, no sleep, a restart after the next start of the machine.

Each of these may need more rights than the program has; whoever serves them can do nothing else.
"""

from dataclasses import dataclass
from pathlib import Path
from typing import Protocol


class Watchdog(Protocol):
    """A hardware watchdog that is armed: it resets the machine when it is not fed for `timeout_s` seconds."""

    timeout_s: float
    name: str

    def feed(self) -> str:
        """Feed it; return why it cannot be fed any more, empty while it can."""
        ...

    def close(self) -> str:
        """Disarm it; return why that failed, empty when it is off."""
        ...


@dataclass(frozen=True, slots=True)
class HeldOff:
    """One thing that was asked for: by whom it is held off, and why not when it is not."""

    what: str
    by: str
    why_not: str = ""


class Awake(Protocol):
    """Sleep, idle, lid and screen blanking are held off while it is open, and given back when this process ends."""

    def news(self) -> tuple[HeldOff, ...]:
        """Return what has been answered since the last call, without waiting."""
        ...

    def close(self) -> None:
        """Give everything back."""
        ...


class Restart(Protocol):
    """Lets Thresher go on with a job by itself after the machine has started again."""

    def install(self, job: Path) -> str:
        """Arrange for it; return in words how. Raises EnvironmentFault when it cannot be arranged here."""
        ...

    def remove(self) -> str:
        """Undo that; return in words what was undone, empty when there was nothing."""
        ...
