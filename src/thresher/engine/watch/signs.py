"""What has to last before it counts: a sign that counts once until it has been gone for a while, and a time of low
clocks.
"""

from dataclasses import dataclass

GONE_FOR_S = 20.0


@dataclass(slots=True)
class Sign:
    """Whether something has lasted long enough to count, once until it has been gone for a while."""

    lasts_s: float
    since: float | None = None
    gone_since: float | None = None
    counted: bool = False

    def seen(self, there: bool, at: float) -> bool:
        """Take in one observation and say whether it counts now."""
        if not there:
            self.since = None
            self.gone_since = at if self.gone_since is None else self.gone_since
            if at - self.gone_since >= GONE_FOR_S:
                self.counted = False
            return False
        self.gone_since = None
        self.since = at if self.since is None else self.since
        if self.counted or at - self.since < self.lasts_s:
            return False
        self.counted = True
        return True


@dataclass(slots=True)
class Episode:
    """A time of clocks below their base: from when, last seen when, how deep on which core, whether it was hot."""

    since: float
    last: float
    share: float
    reading: float
    core: int | None
    hot: bool
