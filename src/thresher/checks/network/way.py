"""What the network checks share: pings with their loss and times, and what may not be sent."""

import statistics
from dataclasses import dataclass

from thresher.checks.check import Steps, beside, pause, progress
from thresher.model.checks import Figure
from thresher.model.network_port import NetworkPort

_WAIT_S = 1.0
_BETWEEN_S = 0.2
MOST_LOSS = 5.0
"""Per cent of echo requests to a machine in the same room that may stay unanswered; the makers' judgement."""
MOST_MS = 100.0


@dataclass(frozen=True, slots=True)
class Echoes:
    """Echo requests to one address: how many, and the round trips in ms of those that came back."""

    sent: int
    times: tuple[float, ...]

    @property
    def loss(self) -> float:
        """Per cent that did not come back."""
        return 100.0 * (1.0 - len(self.times) / self.sent) if self.sent else 100.0

    def figures(self, name: str) -> tuple[Figure, ...]:
        """Return loss, and median and longest round trip."""
        loss = Figure(f"{name}: lost", round(self.loss, 1), "%", None, MOST_LOSS, "judgement")
        if not self.times:
            return (loss,)
        return (
            loss,
            Figure(f"{name}: round trip", round(statistics.median(self.times), 2), "ms", None, MOST_MS, "judgement"),
            Figure(f"{name}: longest", round(max(self.times), 2), "ms"),
        )


def echo(network: NetworkPort, address: str, times: int, share: tuple[float, float], size: int = 56) -> Steps[Echoes]:
    """Send so many echo requests, one after the other. Raises SourceUnavailable when they may not be sent."""
    came = list[float]()
    for number in range(times):
        done = share[0] + (share[1] - share[0]) * number / times
        yield from progress(f"echo {number + 1} of {times} to {address}", done)
        back = yield from beside(lambda: network.ping(address, _WAIT_S, size))
        if back is not None:
            came.append(back)
        yield from pause(_BETWEEN_S)
    return Echoes(times, tuple(came))
