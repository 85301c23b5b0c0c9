"""How long a machine was in use, by day, from the starts, ends and pauses in an event log."""

from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

from thresher.system_logs.meanings import TimelineKind

_SAME_START_S = 180.0
_MOST_DAYS = 1_500
_LONGEST_S = 400 * 86400.0
"""What lasts longer is a clock that was set, or a damaged time."""
_ENDS = (TimelineKind.CLEAN_SHUTDOWN, TimelineKind.SLEEP)


@dataclass(frozen=True, slots=True)
class DayOfUse:
    """One day (UTC, ISO 8601) and the hours that the machine was on and awake."""

    day: str
    hours: float


@dataclass(slots=True)
class UseCounter:
    """Takes events in their order; what lies between a start and the last event before the next one is use."""

    _since: float | None = None
    _last: float | None = None
    _seconds: dict[str, float] = field(default_factory=dict)

    def take(self, at: float, kind: TimelineKind | None) -> None:
        """Take one event. A clock that went back starts a new stretch."""
        if self._last is not None and at < self._last - 1.0:
            self._close(self._last)
            self._last = None
        if kind in (TimelineKind.START, TimelineKind.WAKE):
            fresh = self._since is None or self._last is None or at - self._since > _SAME_START_S
            if fresh:
                self._close(self._last)
                self._since = at
        elif kind in _ENDS:
            self._close(at)
        self._last = at

    def _close(self, at: float | None) -> None:
        since, self._since = self._since, None
        if since is None or at is None or not 0 < at - since < _LONGEST_S or len(self._seconds) > _MOST_DAYS:
            return
        while since < at:
            moment = datetime.fromtimestamp(since, UTC)
            day = moment.replace(hour=0, minute=0, second=0, microsecond=0)
            until = min(at, (day + timedelta(days=1)).timestamp())
            name = f"{day:%Y-%m-%d}"
            self._seconds[name] = self._seconds.get(name, 0.0) + until - since
            since = until

    def days(self) -> tuple[DayOfUse, ...]:
        """Return the days in their order, with what is still going on counted to the last event."""
        self._close(self._last)
        return tuple(DayOfUse(day, round(seconds / 3600.0, 2)) for day, seconds in sorted(self._seconds.items()))


def use_of(events: Iterable[tuple[float, TimelineKind]]) -> tuple[DayOfUse, ...]:
    """Return the days of use from times and what happened then."""
    counter = UseCounter()
    for at, kind in events:
        counter.take(at, kind)
    return counter.days()
