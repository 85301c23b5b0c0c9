"""Whether a card under load lowers its clock under heat, by its own readings."""

from collections.abc import Iterable
from dataclasses import dataclass

from thresher.graphics.findings import throttle_finding
from thresher.model.channels import Channel, LimitSide, Quantity
from thresher.model.findings import Finding

_NEAR_K = 7.0
"""Cards begin to hold themselves down some kelvin before the limit that they report."""
_SHARE = 0.93
_LASTS_S = 8.0


@dataclass(slots=True)
class CardHeat:
    """Follows the readings of one card while it is worked; one finding a load at most."""

    card: str
    best_mhz: float = 0.0
    _since: float | None = None
    _found: bool = False

    def look(self, readings: Iterable[tuple[Channel, float]], at: float) -> Finding | None:
        """Take in the readings of the card at a time in seconds."""
        rooms, clocks = [], []
        for channel, value in readings:
            limit = channel.limit(LimitSide.BELOW)
            if channel.quantity is Quantity.TEMPERATURE and limit is not None:
                rooms.append(limit.headroom(value))
            elif channel.quantity is Quantity.FREQUENCY and not channel.name.endswith("memory clock"):
                clocks.append(value)
        if not rooms or not clocks or self._found:
            return None
        room, clock = min(rooms), max(clocks)
        self.best_mhz = max(self.best_mhz, clock)
        if room > _NEAR_K or clock > _SHARE * self.best_mhz:
            self._since = None
            return None
        self._since = at if self._since is None else self._since
        if at - self._since < _LASTS_S:
            return None
        self._found = True
        return throttle_finding(self.card, clock, self.best_mhz, room)
