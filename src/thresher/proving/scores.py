"""How well a policy did over many cases, and how honest its probabilities were."""

from collections.abc import Sequence
from statistics import median

import msgspec

from thresher.diagnosis.knowledge import Action
from thresher.proving.cases import Case, troubles_left
from thresher.proving.job import Job, is_needed, needed_steps
from thresher.proving.policies import Finished

TENTHS = 10


class Result(msgspec.Struct, frozen=True):
    """How one case went.

    `visits` is how often somebody came to it.
    `right_first`: the first act fixes something that is wrong with the machine, and buys nothing unnecessarily; for a
    healthy machine, nothing was done. `wrong_parts` were bought unnecessarily. `fixed`: in the end nothing is left
    that is wrong with it. `of`, `predictions` and `true` are the parts, probabilities and what was so, for all that
    was predicted on the way."""

    number: int
    sort: str
    faults: tuple[str, ...]
    right_first: bool
    acted: bool
    wrong_parts: int
    fixed: bool
    trials: int
    minutes: float
    visits: int
    steps: tuple[str, ...]
    of: tuple[str, ...]
    predictions: tuple[float, ...]
    true: tuple[bool, ...]


def result_of(case: Case, job: Job, finished: Finished) -> Result:
    """Hold what was done against what was wrong with the machine."""
    needed = needed_steps(case)
    bought = [step for step in finished.steps if step.action == Action.REPLACE]
    done = {(step.action, step.tag) for step in finished.steps}
    if needed:
        repaired = any(is_needed(step, needed) for step in finished.first)
        in_vain = any(step.action == Action.REPLACE and not is_needed(step, needed) for step in finished.first)
        right = repaired and not in_vain
    else:
        right = not finished.steps
    predictions = finished.predictions
    return Result(
        number=case.number,
        sort=case.sort.value,
        faults=tuple(each.fault.kind.value for each in case.own_troubles),
        right_first=right,
        acted=bool(finished.steps),
        wrong_parts=sum(not is_needed(step, needed) for step in bought),
        fixed=needed <= done or not troubles_left(case, job.book.base or case.first_configuration),
        trials=len(job.book.trials) - 1,
        minutes=job.minutes,
        visits=job.visits,
        steps=tuple(f"{step.action} {step.tag}".strip() for step in finished.steps),
        of=tuple(each.name for each in predictions),
        predictions=tuple(each.probability for each in predictions),
        true=tuple(each.true for each in predictions),
    )


class Tenth(msgspec.Struct, frozen=True):
    """All probabilities within a tenth: how many, what they predicted on the mean, and how often it was so."""

    low: float
    high: float
    count: int
    predicted: float
    true: float


class Score(msgspec.Struct, frozen=True):
    """The score of a policy over cases; shares from 0 to 1, None where there was no such case.

    `single_fixed` and `double_fixed` are machines whose every fault was repaired at hand-back, `no_fault_right` those
    that were handed back as they came and are sound. `visits` is the median.
    """

    policy: str
    cases: int
    single_right: float | None
    double_right: float | None
    sound_condemned: float | None
    wrong_parts_per_100: float
    fixed: float | None
    single_fixed: float | None
    double_fixed: float | None
    no_fault_right: float | None
    trials: float
    visits: float
    minutes: float
    tenths: tuple[Tenth, ...]
    brier: float | None


def score(policy: str, results: Sequence[Result]) -> Score:
    """Sum up."""
    by_faults = {many: [each for each in results if len(each.faults) == many] for many in (0, 1, 2)}
    predictions = [(p, true) for each in results for p, true in zip(each.predictions, each.true, strict=True)]
    return Score(
        policy,
        len(results),
        _share(by_faults[1], "right_first"),
        _share(by_faults[2], "right_first"),
        _share(by_faults[0], "acted"),
        100.0 * sum(each.wrong_parts for each in results) / max(1, len(results)),
        _share(by_faults[1] + by_faults[2], "fixed"),
        _share(by_faults[1], "fixed"),
        _share(by_faults[2], "fixed"),
        _share([each for each in results if not each.acted], "fixed"),
        _mean([each.trials for each in results]),
        float(median([each.visits for each in results])) if results else 0.0,
        _mean([each.minutes for each in results]),
        tuple(_tenth(number, predictions) for number in range(TENTHS)),
        _mean([(p - true) ** 2 for p, true in predictions]) if predictions else None,
    )


def _share(results: Sequence[Result], what: str) -> float | None:
    return _mean([float(getattr(each, what)) for each in results]) if results else None


def _mean(values: Sequence[float]) -> float:
    return sum(values) / len(values) if values else 0.0


def _tenth(number: int, predictions: Sequence[tuple[float, bool]]) -> Tenth:
    low, high = number / TENTHS, (number + 1) / TENTHS
    mine = [(p, true) for p, true in predictions if low <= p < high or (p == 1.0 and high == 1.0)]
    return Tenth(low, high, len(mine), _mean([p for p, _ in mine]), _mean([float(true) for _, true in mine]))


def by_fault(results: Sequence[Result]) -> dict[str, tuple[int, float]]:
    """Return for each kind of single fault how many cases there were and in which share the first act was right."""
    kinds: dict[str, list[Result]] = {}
    for each in results:
        if len(each.faults) == 1:
            kinds.setdefault(each.faults[0], []).append(each)
    return {kind: (len(mine), _share(mine, "right_first") or 0.0) for kind, mine in sorted(kinds.items())}
