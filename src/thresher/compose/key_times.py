"""What presses and releases of keys with their times say: which came, which chatter, which stick."""

from dataclasses import dataclass, field

CHATTER_S = 0.045
"""Two presses of one key within this time are one press whose contact bounced; nobody presses twice so fast."""
STUCK_S = 4.0
"""A key that is down for so long without a release was not held by somebody who presses one key after the other."""


@dataclass(slots=True)
class KeyTimes:
    """Keys by name, with when they went down and up last, in seconds."""

    down: dict[str, float] = field(default_factory=dict)
    came: dict[str, int] = field(default_factory=dict)
    chattered: set[str] = field(default_factory=set)
    _up: dict[str, float] = field(default_factory=dict)

    def press(self, name: str, at: float) -> None:
        """A key has gone down; repeats of the system while it is held are not told here."""
        up = self._up.get(name)
        if up is not None and at - up < CHATTER_S:
            self.chattered.add(name)
        self.came[name] = self.came.get(name, 0) + 1
        self.down[name] = at

    def release(self, name: str, at: float) -> None:
        """A key has gone up."""
        self.down.pop(name, None)
        self._up[name] = at

    def stuck(self, now: float) -> tuple[str, ...]:
        """Return the keys that have been down for too long, in their order."""
        return tuple(name for name, at in self.down.items() if now - at >= STUCK_S)
