"""How common faults are, adjusted by the shop's own closed jobs.

The knowledge base counts like so many jobs of its own (`KNOWLEDGE_JOBS`), spread as its priors are; every closed job
adds one to what it was. A job that names a part and not how it was faulty is spread over the part's modes as they are.
"""

from collections.abc import Iterable
from dataclasses import replace

from thresher.diagnosis.knowledge import Knowledge, Mode
from thresher.model.decisions import ClosedJob, Culprit, PriorChange

KNOWLEDGE_JOBS = 40.0
"""So many jobs the priors of the knowledge base are worth; the makers' judgement."""
_NOTHING = ""


def with_closed_jobs(knowledge: Knowledge, closed: Iterable[ClosedJob]) -> Knowledge:
    """Return the knowledge with priors adjusted by the jobs that count."""
    counting = [each for each in closed if each.counted]
    if not counting:
        return knowledge
    counts = _counts(knowledge, counting)
    before = _shares(knowledge)
    total = sum(counts.values())
    after = {name: (KNOWLEDGE_JOBS * share + counts[name]) / (KNOWLEDGE_JOBS + total) for name, share in before.items()}
    scale = sum(mode.prior for mode in _harmful(knowledge)) + knowledge.weights.nothing
    modes = tuple(mode if mode.harmless else replace(mode, prior=after[mode.name] * scale) for mode in knowledge.modes)
    weights = replace(knowledge.weights, nothing=after[_NOTHING] * scale)
    return replace(knowledge, modes=modes, weights=weights, jobs=len(counting))


def prior_changes(knowledge: Knowledge, closed: Iterable[ClosedJob]) -> tuple[PriorChange, ...]:
    """Return what the jobs that count have changed, the largest change first; empty without such jobs."""
    counting = [each for each in closed if each.counted]
    if not counting:
        return ()
    before, after = _shares(knowledge), _shares(with_closed_jobs(knowledge, counting))
    counts = _counts(knowledge, counting)
    changes = [
        PriorChange(mode.name, mode.title, mode.part, before[mode.name], after[mode.name], counts[mode.name])
        for mode in _harmful(knowledge)
    ]
    changes.append(
        PriorChange(
            "nothing", "nothing faulty in the hardware", None, before[_NOTHING], after[_NOTHING], counts[_NOTHING]
        )
    )
    return tuple(sorted(changes, key=lambda each: -abs(each.after - each.before)))


def _harmful(knowledge: Knowledge) -> list[Mode]:
    return [mode for mode in knowledge.modes if not mode.harmless]


def _shares(knowledge: Knowledge) -> dict[str, float]:
    """Return each mode's share of all jobs, and that of nothing faulty."""
    priors = {mode.name: mode.prior for mode in _harmful(knowledge)} | {_NOTHING: knowledge.weights.nothing}
    total = sum(priors.values())
    return {name: prior / total for name, prior in priors.items()}


def _counts(knowledge: Knowledge, closed: list[ClosedJob]) -> dict[str, float]:
    counts = dict.fromkeys(_shares(knowledge), 0.0)
    for job in closed:
        if not job.culprits:
            counts[_NOTHING] += 1.0
        for culprit in job.culprits:
            for name, share in _spread(knowledge, culprit).items():
                counts[name] += share
    return counts


def _spread(knowledge: Knowledge, culprit: Culprit) -> dict[str, float]:
    """Return over which modes a culprit counts; one that the knowledge base no longer has counts by its part."""
    if any(mode.name == culprit.mode for mode in _harmful(knowledge)):
        return {culprit.mode: 1.0}
    mine = {mode.name: mode.prior for mode in _harmful(knowledge) if mode.part is culprit.kind}
    total = sum(mine.values())
    return {name: prior / total for name, prior in mine.items()} if total else {}
