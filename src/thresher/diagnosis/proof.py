"""The run that verifies a machine before it is returned: long enough to show what was and what may still be there.

After a repair the machine runs the loads that showed the fault, in the configuration it will be returned in. How long
depends on how strong the fault was: a fault that is still there would almost certainly show again. One machine in four
has a second fault, so the run also looks for every fault that a load here can show and that earlier minutes with that
part installed have not ruled out.
"""

from dataclasses import dataclass

import numpy as np

from thresher.diagnosis.candidates import swap_minutes
from thresher.diagnosis.evidence import Evidence, Floats, cell_of, logged_share, rate_factor, reported_minutes
from thresher.diagnosis.faults import acts_in
from thresher.diagnosis.inference import Posterior, chance_by_fault
from thresher.diagnosis.likelihood import Whole
from thresher.diagnosis.next_trial import hours_before, hours_of, loads_for, quiet_chances, strengths_left
from thresher.model.trials import Book, Candidate, Configuration, NextTrial, Stint
from thresher.model.verdict import EVERYDAY_USE, Exposure

_LEFT_OVER = 0.015
"""The run is long enough when a fault that it would miss is less likely than this."""
_WORTH_RUNNING = 0.025
"""A run less likely than this to find something is not worth making."""
_MOST_IN_ALL = 300.0
"""After this many minutes in the configuration it will be returned in, more runs add nothing."""
_WORTH_ANOTHER = 0.05
_ONE_RUN_MINUTES = 40.0
"""After this many minutes one more visit must be more likely to find something: `_WORTH_ANOTHER`."""
_SECOND = 0.25
"""Share of faulty machines that have a second fault; the makers' judgement."""
_STEP_MINUTES = 10.0
_MOST_MINUTES = 120.0
_TITLE = "As it will be returned"


@dataclass(frozen=True, slots=True)
class Proof:
    """The run still to be made before the machine is returned (None: no run here would show more).

    `ran` is how many minutes it has already run in the configuration it will be returned in.
    """

    trial: NextTrial | None
    ran: float = 0.0


def prove(posterior: Posterior, evidence: Evidence) -> Proof:
    """Return the run that would verify the machine as it will be returned."""
    base = evidence.book.base
    weights, missed = _what_may_be_missed(posterior, evidence, base)
    still = weights * missed
    loads = tuple(load for load in loads_for(evidence) if load != EVERYDAY_USE)
    paces = hours_of(posterior, evidence, loads)
    left = strengths_left(posterior)
    before = hours_before(posterior, evidence, base, loads)
    step_hours = _STEP_MINUTES / 60.0
    # what each load would leave undetected in so many steps: (F, L) for each number of them
    after = [np.ones(paces.shape)]
    steps = np.zeros(len(loads), dtype=np.intp)
    while float((still * _together(after, steps)).sum()) > _LEFT_OVER and steps.sum() * _STEP_MINUTES < _MOST_MINUTES:
        if steps.max() + 2 > len(after):
            after.append(quiet_chances(posterior, left, paces * step_hours * len(after), before))
        now = _together(after, steps)
        gains = [(still * (now - _together(after, _with_one_more(steps, n)))).sum() for n in range(len(loads))]
        best = int(np.argmax(gains))
        if gains[best] < _LEAST_GAIN:
            break
        steps[best] += 1
    quiet = _together(after, steps)
    stints: tuple[Stint, ...] = tuple(
        (load, float(steps[n] * _STEP_MINUTES)) for n, load in enumerate(loads) if steps[n]
    )
    ran = sum(each.minutes for each in _runs_as_handed_back(evidence))
    finds = float((still * (1.0 - quiet)).sum())
    least = _WORTH_RUNNING if ran < _ONE_RUN_MINUTES else _WORTH_ANOTHER
    if not stints or base is None or ran >= _MOST_IN_ALL or finds < least:
        return Proof(None, ran)
    minutes = swap_minutes(evidence.book, evidence.book.trials[-1].configuration, base)
    trial = NextTrial(Candidate(_TITLE, base, minutes), stints, 0.0, finds, "", "", proof=True)
    return Proof(trial, ran)


_LEAST_GAIN = 0.0005
"""Ten more minutes must be at least this likely to find something."""


def _together(after: list[Floats], steps: Whole) -> Floats:
    """Return the chance that each fault shows nothing in all loads, each run for its number of steps (F)."""
    return np.asarray(np.prod([after[number][:, n] for n, number in enumerate(steps)], axis=0))


def _with_one_more(steps: Whole, load: int) -> Whole:
    more = steps.copy()
    more[load] += 1
    return more


def _what_may_be_missed(posterior: Posterior, evidence: Evidence, base: Configuration | None) -> tuple[Floats, Floats]:
    """Return for each fault how likely it is or was there, and how likely the runs so far have missed it (F)."""
    faults = posterior.faults
    there = acts_in(faults, base)
    harmful = np.array([not fault.mode.harmless for fault in faults])
    chance = chance_by_fault(posterior)
    priors = _how_common(posterior) * harmful
    second = _SECOND * priors / max(priors.sum(), 1e-300)
    unseen = posterior.explained.silent
    # what is in the machine: by the evidence, which has the clean minutes in it, or as the second fault of a machine
    inside = np.where(there >= 0.5, np.maximum(chance, second * unseen), 0.0)
    repaired = np.where((there < 0.5) & (acts_in(faults, _as_it_came(evidence.book)) >= 0.5), chance, 0.0) * harmful
    after = _since_repair(posterior, evidence)
    return inside * harmful + repaired, np.where(repaired > 0.0, after, 1.0)


def _how_common(posterior: Posterior) -> Floats:
    """Return how common each fault of the machine's own parts is, whatever the customer reports (F).

    Customers report the fault they bring the machine in for, not a second one."""
    priors = np.array([0.0 if fault.ours else np.exp(fault.log_prior) for fault in posterior.faults])
    totals: dict[str, float] = {}
    for fault, prior in zip(posterior.faults, priors, strict=True):
        totals[fault.mode.name] = totals.get(fault.mode.name, 0.0) + float(prior)
    modes = [fault.mode for fault in posterior.faults]
    shares = np.array([mode.prior / max(totals[mode.name], 1e-300) for mode in modes])
    return np.asarray(shares * priors)


def _as_it_came(book: Book) -> Configuration | None:
    return book.trials[0].configuration if book.trials else None


def _runs_as_handed_back(evidence: Evidence) -> list[Exposure]:
    """Return the clean minutes of runs in the configuration that the machine will be returned in."""
    book, base = evidence.book, evidence.book.base
    runs = {run for trial in book.trials if trial.configuration == base for run in trial.runs}
    return [each for each in evidence.exposures if each.run in runs and each.block >= 0 and not each.broken_off]


def _since_repair(posterior: Posterior, evidence: Evidence) -> Floats:
    """Return for each fault, were it in the machine as it will be returned, how likely its runs showed nothing (F)."""
    mine = _runs_as_handed_back(evidence)
    if not mine:
        return np.ones(len(posterior.faults))
    modes = {fault.mode.name: fault.mode for fault in posterior.faults}
    paced = {
        name: sum(
            rate_factor(mode, cell_of(each.load, each.temperature_c))
            * logged_share(mode, each.load)
            * reported_minutes(each)
            / 60.0
            for each in mine
        )
        for name, mode in modes.items()
    }
    hours = np.array([[paced[fault.mode.name]] for fault in posterior.faults])
    return quiet_chances(posterior, strengths_left(posterior), hours)[:, 0]
