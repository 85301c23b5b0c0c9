"""Proof before a machine is handed back: runs long enough to show what was there, and what may still be there.

After a repair the machine runs, as it is handed back, the loads that showed the fault. How long, follows from how
strong the fault was: what was repaired would have shown again with near certainty if it were still there. And what
nothing has found yet is looked for too, since of machines with one fault some have another: every way of being faulty
that a load here can show, as far as minutes with that very part installed have not ruled it out."""

from dataclasses import dataclass

import numpy as np

from thresher.diagnosis.evidence import Evidence, Floats, cell_of, logged_share, rate_factor, reported_minutes
from thresher.diagnosis.inference import Posterior, acts_in, chance_by_fault
from thresher.diagnosis.likelihood import Whole, silence
from thresher.diagnosis.next_trial import hours_before, hours_of, loads_for, quiet_chances, strengths_left
from thresher.model.trials import Book, Candidate, Configuration, NextTrial, Stint
from thresher.model.verdict import EVERYDAY_USE, Exposure

_LEFT_OVER = 0.015
"""A machine is proved when what the runs would have missed is less likely than this."""
_WORTH_RUNNING = 0.025
"""A run that is less likely to find something proves nothing more."""
_MOST_IN_ALL = 300.0
"""After so many minutes as it is handed back, more of the same prove nothing more."""
_WORTH_ANOTHER = 0.05
_ONE_RUN_MINUTES = 40.0
"""After so many minutes as it is handed back, somebody comes back to it only for more than that."""
_SECOND = 0.25
"""Of machines with a fault, so many have another; the makers' judgement."""
_STEP_MINUTES = 10.0
_MOST_MINUTES = 120.0
_TITLE = "As it will be returned"


@dataclass(frozen=True, slots=True)
class Proof:
    """How far a machine is proved as it is to be handed back.

    `missed` is how likely a fault would have been missed by the runs made so far, `trial` the run that is still to be
    made (None: it is proved, or no load here could tell more). `ran` are the minutes that it has already run as it is
    to be handed back.
    """

    missed: float
    trial: NextTrial | None
    ran: float = 0.0

    @property
    def proved(self) -> bool:
        """Whether nothing is left to be run."""
        return self.trial is None


def prove(posterior: Posterior, evidence: Evidence) -> Proof:
    """Return how far the machine is proved, and the run that would prove it."""
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
    if not stints or base is None:
        return Proof(float(still.sum()), None, ran)
    finds = float((still * (1.0 - quiet)).sum())
    if ran >= _MOST_IN_ALL or finds < (_WORTH_RUNNING if ran < _ONE_RUN_MINUTES else _WORTH_ANOTHER):
        return Proof(float(still.sum()), None, ran)
    trial = NextTrial(Candidate(_TITLE, base, 0.0), stints, 0.0, finds, "", "", proof=True)
    return Proof(float(still.sum()), trial, ran)


_LEAST_GAIN = 0.0005
"""Ten more minutes that find less than this are not worth running."""


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
    unseen = silence(posterior.table)
    # what is in the machine: by the evidence, which has the clean minutes in it, or as the second fault of a machine
    inside = np.where(there >= 0.5, np.maximum(chance, second * unseen), 0.0)
    mended = np.where((there < 0.5) & (acts_in(faults, _as_it_came(evidence.book)) >= 0.5), chance, 0.0) * harmful
    after = _since_repair(posterior, evidence)
    return inside * harmful + mended, np.where(mended > 0.0, after, 1.0)


def _how_common(posterior: Posterior) -> Floats:
    """Return how common each fault of the machine's own parts is, whatever the customer says of this machine (F).

    What he says is of the fault that he brought it in for, and not of another."""
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
    """Return the clean minutes of runs in the configuration that the machine is to be handed back in."""
    book, base = evidence.book, evidence.book.base
    runs = {run for trial in book.trials if trial.configuration == base for run in trial.runs}
    return [each for each in evidence.exposures if each.run in runs and each.block >= 0 and not each.broken_off]


def _since_repair(posterior: Posterior, evidence: Evidence) -> Floats:
    """Return how likely each fault would have shown nothing as the machine is handed back, were it in it (F)."""
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
