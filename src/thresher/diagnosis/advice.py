"""What to do: an act that is sound by now, a trial that is worth its time, or neither."""

from thresher.diagnosis.decision import is_sound
from thresher.diagnosis.knowledge import Thresholds
from thresher.model.trials import NextTrial
from thresher.model.verdict import Act, Advice, Course, percent

_LEAST_BITS = 0.02
"""A trial that promises less is not worth setting up."""
_LEAST_BITS_A_MINUTE = 0.0008


def advise(acts: tuple[Act, ...], trials: tuple[NextTrial, ...], limits: Thresholds) -> Advice:
    """Return what to do next; `acts` come by their expected cost."""
    act = next((each for each in acts if is_sound(each, limits)), None)
    if act is not None:
        if not act.steps:
            text = f"No fault found ({percent(act.needed)} likely healthy): return to customer"
            return Advice(Course.WATCH, text, act)
        words = act.words[:1].upper() + act.words[1:]
        return Advice(Course.ACT, f"{words}: {percent(act.needed)} sure it is needed", act)
    worth = [each for each in trials if each.gain >= _LEAST_BITS and each.gain_per_minute >= _LEAST_BITS_A_MINUTE]
    if worth:
        return Advice(Course.TRY, f"Too early to buy anything. First: {worth[0].sentence}", trial=worth[0])
    return Advice(Course.WATCH, "Cannot tell yet, and no test possible here is worth its time", None)
