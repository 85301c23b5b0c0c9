"""From what is known of an end and what it left behind to what it was."""

from dataclasses import dataclass, replace

from thresher.endings.judge import judge, load_weights, seen_again, seen_by_person
from thresher.endings.traces import LeftBehind, Traces, what_was_seen
from thresher.model.channels import Channel, Quantity
from thresher.model.endings import QUESTION, LastMoments, MachineEnding, SeenAtEnd
from thresher.model.findings import ADOPTED, Finding
from thresher.model.parts import PartKind

_LAST_MINUTE_S = 60.0
_NEAR_LIMIT = 0.025
"""A rail is near its limit within half of the tolerance of 5 % (ATX12V design guide, DC voltage regulation)."""


@dataclass(frozen=True, slots=True)
class OpenEnd:
    """A run that nobody ended, or an idle bench: what is known of it from our own files.

    Fields as those of `MachineEnding`; `began_at` is machine time in seconds.
    """

    run: int
    left: LeftBehind
    began_at: float
    loaded_s: float
    loads: tuple[str, ...]
    load_names: tuple[str, ...]
    blocks: tuple[int, ...]
    cores: tuple[int, ...]
    up_s: float


def conclude(end: OpenEnd, traces: Traces, errors: tuple[Finding, ...] = ()) -> MachineEnding:
    """Return how it ended; `errors` are what the boot that ended has left of uncorrected errors."""
    left = end.left
    judged = judge(what_was_seen(left, traces), load_weights())
    off_s = traces.boot_wall - left.last_wall if traces.boot_wall is not None else None
    hottest = hottest_of(left.moments)
    ran_s = left.last_at - end.began_at
    adopted = tuple(
        replace(
            each,
            at=left.last_at,
            run=end.run or None,
            run_at=ran_s if end.run else None,
            load=end.load_names[0] if end.load_names else "",
            temperature_c=hottest,
            origin=ADOPTED,
        )
        for each in errors
    )
    return MachineEnding(
        end.run,
        judged.kind,
        judged.chances,
        judged.traces,
        left.boot_id,
        left.last_at,
        left.last_wall,
        end.up_s,
        ran_s,
        end.loaded_s,
        end.loads,
        end.load_names,
        end.blocks,
        end.cores,
        hottest,
        weakest_rail(left.moments),
        off_s if traces.boot_id != left.boot_id and off_s is not None and off_s >= 0.0 else None,
        QUESTION if judged.asks else "",
        adopted=adopted,
    )


def with_answer(ending: MachineEnding, seen: SeenAtEnd) -> MachineEnding:
    """Return an ending as it is judged with what somebody saw."""
    from_traces = tuple(each for each in ending.traces if each.name not in set(SeenAtEnd))
    judged = judge([*seen_again(from_traces), seen_by_person(seen)], load_weights())
    told = judged.traces[len(from_traces) :]
    return replace(
        ending, kind=judged.kind, chances=judged.chances, traces=(*from_traces, *told), question="", seen=seen
    )


def hottest_of(moments: LastMoments) -> float | None:
    """Return the hottest processor temperature of the last row that has one, in °C."""
    hot = [i for i, each in enumerate(moments.channels) if _is_hot(each)]
    for row in reversed(moments.rows):
        readings = [value for i in hot if i < len(row.values) and (value := row.values[i]) is not None]
        if readings:
            return max(readings)
    return None


def _is_hot(channel: Channel) -> bool:
    return channel.quantity is Quantity.TEMPERATURE and channel.kind is PartKind.PROCESSOR and not channel.distrust


def weakest_rail(moments: LastMoments) -> str:
    """Say which supply rail came near a limit in the last minute, empty where none did."""
    nearest: tuple[float, str] | None = None
    since = moments.rows[-1].at - _LAST_MINUTE_S if moments.rows else 0.0
    for index, channel in enumerate(moments.channels):
        if channel.quantity is not Quantity.VOLTAGE or channel.kind is not PartKind.POWER or channel.distrust:
            continue
        values = [
            value
            for row in moments.rows
            if row.at >= since and index < len(row.values) and (value := row.values[index]) is not None
        ]
        for limit in channel.limits if values else ():
            value = min(values, key=limit.headroom)
            share = limit.headroom(value) / max(abs(limit.value), 1e-9)
            if share < (_NEAR_LIMIT if nearest is None else nearest[0]):
                nearest = (share, f"{channel.name} at {value:.2f} V, limit {limit.value:.2f} V")
    return nearest[1] if nearest is not None else ""
