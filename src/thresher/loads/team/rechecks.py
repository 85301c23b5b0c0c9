"""Mismatches that wait for what two other workers make of the same beat."""

import time
from dataclasses import dataclass, replace

from thresher.loads.team.events import MismatchSeen, Others

_RECHECK_WITHIN_S = 1.0


@dataclass(slots=True)
class _Pending:
    """A mismatch, whom was asked, and until when they may answer."""

    seen: MismatchSeen
    asked: dict[int, bool | None]
    deadline: float


class Rechecks:
    """Keeps the mismatches that wait; each is settled by its answers or by time."""

    def __init__(self) -> None:
        """Nothing waits."""
        self._pending: dict[int, _Pending] = {}
        self._ticket = 0

    def __bool__(self) -> bool:
        """Whether anything waits."""
        return bool(self._pending)

    def ask(self, seen: MismatchSeen, workers: list[int]) -> int:
        """Let a mismatch wait for the answers of workers; return its ticket."""
        self._ticket += 1
        self._pending[self._ticket] = _Pending(seen, dict.fromkeys(workers), time.monotonic() + _RECHECK_WITHIN_S)
        return self._ticket

    def answer(self, ticket: int, worker: int, right: bool, cpu_of: dict[int, int]) -> MismatchSeen | None:
        """Process an answer; return the mismatch when all have answered."""
        pending = self._pending.get(ticket)
        if pending is None:
            return None
        pending.asked[worker] = right
        return self._settle(ticket, cpu_of) if None not in pending.asked.values() else None

    def overdue(self, now: float | None, cpu_of: dict[int, int]) -> list[MismatchSeen]:
        """Return mismatches whose answers did not come in time; all that wait when `now` is None."""
        late = [each for each, pending in self._pending.items() if now is None or now >= pending.deadline]
        return [self._settle(ticket, cpu_of) for ticket in late]

    def _settle(self, ticket: int, cpu_of: dict[int, int]) -> MismatchSeen:
        pending = self._pending.pop(ticket)
        answered = [(cpu_of[worker], right) for worker, right in pending.asked.items() if right is not None]
        others = Others(tuple(cpu for cpu, ok in answered if ok), tuple(cpu for cpu, ok in answered if not ok))
        return replace(pending.seen, others=others)
