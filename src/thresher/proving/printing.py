"""Scores and cases of the proving ground as lines of text."""

from thresher.proving.scores import Result, Score


def line_of_result(result: Result) -> str:
    """Return how one case went, in a line."""
    faults = " and ".join(result.faults) or "nothing"
    did = ", then ".join(result.steps) or "nothing"
    text = "right" if result.right_first else "WRONG"
    wrong = f", {result.wrong_parts} unnecessary parts bought" if result.wrong_parts else ""
    return f"{result.number:6}  {result.sort:12} {text}: {faults}; did {did}{wrong}; {result.minutes:.0f} min"


def lines_of_score(score: Score, seed: int, faults: dict[str, tuple[int, float]]) -> list[str]:
    """Return the totals: what was right, what it cost, and how honest the probabilities were."""
    lines = [f"Repair strategy {score.policy}, {score.cases} cases, seed {seed}"]
    for words, share in (
        ("right part first, one fault", score.single_right),
        ("right part first, two faults", score.double_right),
        ("healthy machines that had parts replaced or treated", score.sound_condemned),
        ("every fault repaired at hand-back, one fault", score.single_fixed),
        ("every fault repaired at hand-back, two faults", score.double_fixed),
        ("handed back as sound, and sound", score.no_fault_right),
    ):
        lines.append(f"  {words:52} {_percent(share):>7}")
    lines.append(f"  {'unnecessary parts bought in 100 jobs':52} {score.wrong_parts_per_100:7.1f}")
    lines.append(f"  {'bench minutes per job':52} {score.minutes:7.0f}")
    lines.append(f"  {'trials per job':52} {score.trials:7.1f}")
    lines.append(f"  {'visits per job, median':52} {score.visits:7.1f}")
    if score.brier is not None:
        lines.append(f"  {'Brier score of all probabilities':52} {score.brier:7.3f}")
        lines.append("  Predicted, and actual:")
        for tenth in score.tenths:
            if tenth.count:
                band = f"{tenth.low * 100:3.0f} to {tenth.high * 100:3.0f} %"
                shares = f"predicted {tenth.predicted * 100:5.1f} %, actual {tenth.true * 100:5.1f} %"
                lines.append(f"    {band}  {shares}  ({tenth.count})")
    lines.append("  Right part first, by fault:")
    for kind, (count, share) in faults.items():
        lines.append(f"    {kind:24} {_percent(share):>7} of {count}")
    return lines


def _percent(share: float | None) -> str:
    return "-" if share is None else f"{share * 100:.1f} %"
