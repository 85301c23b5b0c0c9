"""`thresher prove`."""

import os
import sys
from typing import Annotated

import typer

from thresher.cli.options import Json
from thresher.cli.output import say, say_json
from thresher.proving.policy_names import Field, Policy, RuleSet


def prove(
    cases: Annotated[int, typer.Option("--cases", min=1, max=100_000, help="How many cases to draw.")] = 100,
    seed: Annotated[int, typer.Option("--seed", min=0, help="The same seed draws the same cases.")] = 1,
    policy: Annotated[Policy, typer.Option("--policy", help="Repair strategy.")] = Policy.ADVISED,
    processes: Annotated[
        int | None,
        typer.Option("--processes", min=1, max=256, help="Processes at the same time; all cores if left out."),
    ] = None,
    field: Annotated[
        Field,
        typer.Option(
            "--field", help="Which machines: all, or those whose drives or cards fail, or what only checks find."
        ),
    ] = Field.ALL,
    rules: Annotated[
        RuleSet, typer.Option("--rules", help="The proving ground's own rules, or wide ones that nothing is tuned on.")
    ] = RuleSet.OWN,
    each: Annotated[bool, typer.Option("--each", help="Print every case, not only the totals.")] = False,
    json: Json = False,
) -> None:
    """Score the diagnosis on random simulated machines."""
    from thresher.proving.ground import prove as prove_cases
    from thresher.proving.printing import line_of_result, lines_of_score
    from thresher.proving.scores import by_fault, score

    def progress(done: int) -> None:
        if not json and sys.stderr.isatty():
            typer.echo(f"\r{done} of {cases}", nl=done == cases, err=True)

    results = prove_cases(seed, cases, policy, processes or os.cpu_count() or 1, progress, field, rules)
    summed = score(policy, results)
    if json:
        say_json(
            {
                "seed": seed,
                "rules": rules,
                "score": summed,
                "by_fault": by_fault(results),
                "cases": results if each else (),
            }
        )
        return
    for result in results if each else ():
        say(line_of_result(result))
    for line in lines_of_score(summed, seed, by_fault(results)):
        say(line)
