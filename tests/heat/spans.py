"""Spans of load with a known way of the heat, made here from the formula of a chain of thermal masses."""

import numpy as np
import numpy.typing as npt

from thresher.heat.load_span import LoadSpan, Room, RoomFrom
from thresher.model.parts import PartKind

Floats = npt.NDArray[np.float64]


def warm_up(
    times: Floats, start_c: float, parts: tuple[tuple[float, float], ...], seed: int = 0, noise: float = 0.3
) -> Floats:
    """Readings that rise from `start_c` by parts of (time constant in s, amount in K), with white noise."""
    clean = np.full(len(times), start_c)
    for tau, amount in parts:
        clean = clean + amount * (1.0 - np.exp(-times / tau))
    return clean + noise * np.random.default_rng(seed).standard_normal(len(times))


def span(
    hot: Floats,
    times: Floats | None = None,
    *,
    power: float | None = 100.0,
    room_c: float = 22.0,
    room_from: RoomFrom = RoomFrom.TYPED,
    start_c: float | None = 22.0,
    clock: Floats | float | None = 4.5,
    fan: Floats | float | None = 1500.0,
    limit_c: float | None = 100.0,
    power_limit_w: float | None = 125.0,
    load: str = "matrix",
    ignored: tuple[str, ...] = (),
    throttled_s: Floats | None = None,
    stages: tuple[tuple[str, Floats], ...] = (),
    held_by: tuple[tuple[str, Floats], ...] = (),
) -> LoadSpan:
    """Return a span of a processor under load, a reading a second unless `times` says otherwise."""
    count = len(hot)

    def whole(value: Floats | float | None) -> Floats | None:
        return None if value is None else np.broadcast_to(np.asarray(value, dtype=np.float64), (count,)).copy()

    rpm = whole(fan)
    return LoadSpan(
        load=load,
        part="processor",
        kind=PartKind.PROCESSOR,
        times=np.arange(count, dtype=np.float64) if times is None else times,
        hot=hot,
        start_c=start_c,
        room=Room(np.array([room_c]), room_from),
        stages=stages,
        power=whole(power),
        clock=whole(clock),
        fans=(("CPU fan", rpm),) if rpm is not None else (),
        limit_c=limit_c,
        power_limit_w=power_limit_w,
        throttled_s=throttled_s,
        held_by=held_by,
        ignored=ignored,
    )


SECONDS: Floats = np.arange(1320, dtype=np.float64)
"""A run of 22 minutes, a reading a second."""
