"""Scores and cases of the proving ground for people."""

from thresher.printing import say
from thresher.proving.scores import Result, Score


def print_result(result: Result) -> None:
    """Print how one case went, in a line."""
    ails = " and ".join(result.ails) or "nothing"
    did = ", then ".join(result.steps) or "nothing"
    said = "right" if result.right_first else "WRONG"
    wrong = f", {result.wrong_parts} bought in vain" if result.wrong_parts else ""
    say(f"{result.number:6}  {result.sort:12} {said}: {ails}; did {did}{wrong}; {result.minutes:.0f} min")


def print_score(score: Score, seed: int, ailments: dict[str, tuple[int, float]]) -> None:
    """Print the sums: what was right, what it cost, and how honest the probabilities were."""
    say(f"Policy {score.policy}, {score.cases} cases of seed {seed}")
    for words, share in (
        ("right part first, one fault", score.single_right),
        ("right part first, two faults", score.double_right),
        ("sound machines that something was done to", score.sound_condemned),
        ("machines with all that ailed them mended", score.mended),
    ):
        say(f"  {words:44} {_percent(share):>7}")
    say(f"  {'parts bought in vain in 100 jobs':44} {score.wrong_parts_a_hundred:7.1f}")
    say(f"  {'bench minutes a job':44} {score.minutes:7.0f}")
    say(f"  {'trials a job':44} {score.trials:7.1f}")
    if score.brier is not None:
        say(f"  {'Brier score of all probabilities':44} {score.brier:7.3f}")
        say("  What was said, and how often it was so:")
        for tenth in score.tenths:
            if tenth.count:
                says = f"{tenth.low * 100:3.0f} to {tenth.high * 100:3.0f} %"
                say(f"    {says}  said {tenth.said * 100:5.1f} %, was so {tenth.true * 100:5.1f} %  ({tenth.count})")
    say("  Right first by what ailed it:")
    for kind, (count, share) in ailments.items():
        say(f"    {kind:24} {_percent(share):>7} of {count}")


def _percent(share: float | None) -> str:
    return "-" if share is None else f"{share * 100:.1f} %"
