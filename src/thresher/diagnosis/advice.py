"""What to do: a sure enough act, a test worth its time, a run to verify, return to customer, or none of these."""

from thresher.diagnosis.decision import is_sound
from thresher.diagnosis.knowledge import Thresholds
from thresher.diagnosis.next_trial import cost_of
from thresher.diagnosis.proof import Proof
from thresher.model.trials import NextTrial
from thresher.model.verdict import Act, Advice, Course, percent

_LEAST_BITS = 0.02
"""A trial that promises less is not worth setting up."""
_LEAST_BITS_A_MINUTE = 0.0006
_LONG_ENOUGH = 200.0
"""After this many minutes in the same configuration, more of them decide nothing."""
_LIKELY_HEALTHY = 0.35
"""From this probability on, a run of the machine as it is may as well be the one that verifies it."""


def advise(acts: tuple[Act, ...], trials: tuple[NextTrial, ...], proof: Proof, limits: Thresholds) -> Advice:
    """Return what to do next; `acts` come by their expected cost.

    Nothing is returned before a run has verified it as it will be returned."""
    act = next((each for each in acts if each.steps and is_sound(each, limits)), None)
    if act is not None:
        words = act.words[:1].upper() + act.words[1:]
        return Advice(Course.ACT, f"{words}: {percent(act.needed)} sure it is needed", act)
    leave = next((each for each in acts if not each.steps), None)
    dead = any(not each.stints for each in trials)
    healthy = leave.needed if leave is not None and not dead else 0.0
    if healthy >= limits.sound:
        if proof.trial is None:
            text = f"No fault found ({percent(healthy)} likely healthy): return to customer"
            return Advice(Course.RETURN, text, leave)
        return Advice(Course.PROVE, proof.trial.sentence, trial=proof.trial)
    worth = [each for each in trials if each.gain >= _LEAST_BITS and each.gain / cost_of(each) >= _LEAST_BITS_A_MINUTE]
    if _is_best_verified(healthy, worth, proof) and proof.trial is not None:
        return Advice(Course.PROVE, proof.trial.sentence, trial=proof.trial)
    if worth:
        return Advice(Course.TRY, f"Too early to buy anything. First: {worth[0].sentence}", trial=worth[0])
    return Advice(Course.WATCH, "Cannot tell yet, and no test possible here is worth its time", None)


def _is_best_verified(healthy: float, worth: list[NextTrial], proof: Proof) -> bool:
    """Whether the best test is the run that verifies the machine: no other configuration is worth one."""
    if proof.trial is None or healthy < _LIKELY_HEALTHY or proof.ran >= _LONG_ENOUGH:
        return False
    return not worth or worth[0].candidate.configuration == proof.trial.candidate.configuration
