"""Prime search: the count is known, and cores of one kind should be about equally fast."""

import statistics

from thresher.checks.check import Check, CheckBench, CheckSteps, beside
from thresher.checks.loaded import in_turn, judged
from thresher.checks.processor.clock_files import fastest_mhz
from thresher.model.checks import CheckOutcome, Figure
from thresher.model.parts import PartKind
from thresher.model.sheet import Block, WorkingSet

_SECONDS = 12.0
_LEAST_SHARE = 0.6
"""Below this share of the others a core is slow by more than other programs explain; the makers' judgement."""
_LEAST_BEATS = 20


def _run(bench: CheckBench) -> CheckSteps:
    block = Block(PartKind.PROCESSOR, "sieve", 0.0, _SECONDS, working_set=WorkingSet.SHARED_CACHE, one_per_core=True)
    seen = yield from in_turn([block])
    (result,) = judged(CHECK, seen, (PartKind.PROCESSOR,), "every count of primes was right")
    if result.outcome is not CheckOutcome.PASS:
        return (result,)
    beats, checked = seen[0].beats, seen[0].checked_s
    fastest = yield from beside(lambda: {cpu: fastest_mhz(bench.system, cpu) or 0.0 for cpu in beats})
    slowest = _slowest(bench, beats, fastest)
    rate = Figure("searches", sum(beats.values()) / max(checked, 1.0), "a second")
    if slowest is None:
        return (CHECK.passed("every count of primes was right; too few searches to compare cores", rate),)
    core, share = slowest
    figure = Figure(
        f"slowest core {core}, compared with the others",
        round(share * 100.0),
        "%",
        100 * _LEAST_SHARE,
        None,
        "judgement",
    )
    if share < _LEAST_SHARE:
        missing = f"core {core} was slow, and another program may have held it up; run it again with nothing else open"
        return (CHECK.unclear(missing, rate, figure),)
    return (CHECK.passed("every count of primes was right, and no core was slow", rate, figure),)


def _slowest(bench: CheckBench, beats: dict[int, int], fastest: dict[int, float]) -> tuple[int, float] | None:
    """Return the core that did least beside those of its own top clock, and its share of their median."""
    by_clock: dict[float, list[tuple[int, int]]] = {}
    for cpu, count in beats.items():
        by_clock.setdefault(fastest[cpu], []).append((cpu, count))
    shares = [
        (bench.inventory.core_of(cpu) or 0, count / middle)
        for others in by_clock.values()
        if len(others) > 1 and (middle := statistics.median(count for _, count in others)) >= _LEAST_BEATS
        for cpu, count in others
    ]
    return min(shares, key=lambda each: each[1], default=None)


CHECK = Check(
    name="primes",
    row=PartKind.PROCESSOR,
    about=(
        "Each core counts the primes up to a bound. How many there are is known, so a wrong count is a fault; and"
        " cores of one kind should get through about as many searches, so one that lags behind stands out."
    ),
    finds="wrong counts, and a core that is held back",
    misses="a whole processor that is slow: all cores then look alike",
    usual_s=_SECONDS + 3.0,
    run=_run,
    parts=(PartKind.PROCESSOR,),
)
