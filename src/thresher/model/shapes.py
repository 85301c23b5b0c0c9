"""How a load is applied over time: pure functions of the time since the block began.

All workers follow one clock, so that what is to come on at once does. Within a slice of `SLICE_S` a share below one is
given as work first and rest after, since supplies fail on the edge and not on the plateau.
"""

from thresher.model.sheet import Shape, ShapeKind

SLICE_S = 0.02
"""Length of a slice in which a share is given; also the shortest period of a pulse."""


def share_at(shape: Shape, at: float, worker: int, workers: int) -> float:
    """Return the share of its time, 0 to 1, that a worker works at `at` seconds after the beginning."""
    period = shape.period_s
    match shape.kind:
        case ShapeKind.PULSE:
            return 1.0 if at % period < shape.duty * period else 0.0
        case ShapeKind.RAMP:
            return min(1.0, at % period / period + 0.02)
        case ShapeKind.HOP:
            turn, within = divmod(at, period)
            return 1.0 if int(turn) % workers == worker and within < shape.duty * period else 0.0
        case ShapeKind.STAGGER:
            return 1.0 if int(at / period) % (workers + 1) > worker else 0.0
    return 1.0


def rest_until(shape: Shape, at: float, worker: int, workers: int, allowed: float = 1.0) -> float:
    """Return until when a worker rests, in seconds after the beginning; `at` itself when it is to work.

    `allowed` is the share that holding a temperature leaves.
    """
    share = share_at(shape, at, worker, workers) * allowed
    within = at % SLICE_S
    if share <= 0.0:
        return _next_change(shape, at, worker, workers)
    if share >= 1.0 or within < share * SLICE_S:
        return at
    return at - within + SLICE_S


def _next_change(shape: Shape, at: float, worker: int, workers: int) -> float:
    period = shape.period_s
    match shape.kind:
        case ShapeKind.PULSE:
            return (at // period + 1) * period
        case ShapeKind.HOP:
            turn = int(at // period)
            ahead = (worker - turn) % workers
            return float((turn + (ahead or workers)) * period)
        case ShapeKind.STAGGER:
            return float((int(at / period) + 1) * period)
    return at + SLICE_S


def mean_share(shape: Shape, begin: float, end: float, worker: int, workers: int) -> float:
    """Return the mean share of a worker between two times, sampled finely enough for the shape."""
    if shape.kind is ShapeKind.STEADY:
        return 1.0
    points = 64
    width = (end - begin) / points
    return sum(share_at(shape, begin + (n + 0.5) * width, worker, workers) for n in range(points)) / points


def in_step(shape: Shape, now: float) -> float:
    """Return from when a shape that begins at time `now` counts, on the same clock.

    Pulses count from a whole number of periods, so that all loads of one period pulse together, whenever they began.
    """
    return now // shape.period_s * shape.period_s if shape.kind is ShapeKind.PULSE else now


def edges_per_second(shape: Shape) -> float:
    """Return how often in a second the load comes on from nothing."""
    if shape.kind in (ShapeKind.PULSE, ShapeKind.HOP) and shape.duty < 1.0:
        return 1.0 / shape.period_s
    return 1.0 / shape.period_s if shape.kind is ShapeKind.STAGGER else 0.0


class TemperatureHold:
    """Holds the hottest temperature at a set value by how much is allowed: an integrating controller with a lead.

    Heat follows power late, so the error and how fast it grows both count.
    """

    def __init__(self, hold_c: float) -> None:
        """Begin with everything allowed."""
        self._hold = hold_c
        self._before: float | None = None
        self.allowed = 1.0

    def step(self, hottest_c: float, seconds: float) -> float:
        """Take a temperature `seconds` after the one before and return the share allowed from now on."""
        rise = (hottest_c - self._before) / seconds if self._before is not None and seconds > 0 else 0.0
        self._before = hottest_c
        error = self._hold - (hottest_c + 4.0 * rise)
        self.allowed = min(1.0, max(0.02, self.allowed + 0.012 * error * min(seconds, 2.0)))
        return self.allowed
