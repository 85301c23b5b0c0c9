"""What to do: an act that is sound by now, a trial that is worth its time, proof, handing back, or none of these."""

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
"""Minutes as it is after which more of the same do not decide."""
_EVEN = 0.35


def advise(acts: tuple[Act, ...], trials: tuple[NextTrial, ...], proof: Proof, limits: Thresholds) -> Advice:
    """Return what to do next; `acts` come by their expected cost.

    Nothing is handed back before it is proved as it is then."""
    act = next((each for each in acts if each.steps and is_sound(each, limits)), None)
    if act is not None:
        words = act.words[:1].upper() + act.words[1:]
        return Advice(Course.ACT, f"{words}: {percent(act.needed)} sure it is needed", act)
    leave = next((each for each in acts if not each.steps), None)
    dead = any(not each.stints for each in trials)
    healthy = leave.needed if leave is not None and not dead else 0.0
    if healthy >= limits.sound:
        if proof.trial is None:
            text = f"No fault left that a run here would show ({percent(healthy)} likely healthy): return to customer"
            return Advice(Course.RETURN, text, leave)
        return Advice(Course.PROVE, proof.trial.sentence, trial=proof.trial)
    # where nothing else is to be tried than the same again, the run that would prove it is the best that can be run
    worth = [each for each in trials if each.gain >= _LEAST_BITS and each.gain / cost_of(each) >= _LEAST_BITS_A_MINUTE]
    as_it_is = not worth or worth[0].candidate.minutes == 0.0
    if healthy >= _EVEN and as_it_is and proof.trial is not None and proof.ran < _LONG_ENOUGH:
        return Advice(Course.PROVE, proof.trial.sentence, trial=proof.trial)
    if worth:
        return Advice(Course.TRY, f"Too early to buy anything. First: {worth[0].sentence}", trial=worth[0])
    return Advice(Course.WATCH, "Cannot tell yet, and no test possible here is worth its time", None)
