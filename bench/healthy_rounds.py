"""Short rounds on sound machines: no check may fail. Usage: python bench/healthy_rounds.py [ROUNDS] [--here].

Simulated machines differ by their seed. With `--here` the rounds run on this computer.
"""

import sys
import tempfile
from collections import Counter
from dataclasses import replace
from pathlib import Path

from thresher.app.machines import open_system
from thresher.compose.rounds import plan_round, results_sentence, round_sheet
from thresher.engine.assembly import open_engine
from thresher.model.checks import CheckOutcome, CheckResult, Round
from thresher.model.port import System
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import load_scenario, shipped_scenarios


def round_on(system: System, job: Path) -> tuple[CheckResult, ...]:
    """Carry out the short round and return its results."""
    engine = open_engine(system, job)
    try:
        engine.run_to_end(
            round_sheet("Short round", plan_round(Round.SHORT, engine.inventory).checks, engine.inventory)
        )
        return engine.snapshot().checks
    finally:
        engine.close()


def main() -> int:
    """Print what failed, if anything, and return how many rounds had a failure."""
    arguments = [each for each in sys.argv[1:] if each != "--here"]
    rounds, here = int(arguments[0]) if arguments else 20, "--here" in sys.argv
    names = ("harbour-notebook", "lighthouse-playout")
    bad, outcomes = 0, Counter[str]()
    with tempfile.TemporaryDirectory() as folder:
        for number in range(rounds):
            scenario = load_scenario(shipped_scenarios()[names[number % 2]])
            sound = replace(scenario, faults=(), seed=1000 + number)
            system = open_system(None) if here else SimulatedMachine(sound, 0.0)
            results = round_on(system, Path(folder, f"{number}.thresher"))
            outcomes.update(each.outcome.value for each in results)
            failed = [each for each in results if each.outcome is CheckOutcome.FAIL]
            bad += bool(failed)
            print(f"round {number + 1}: {results_sentence(results)}", flush=True)
            for each in failed:
                print(f"    {each.title}: {each.why}")
    counts = ", ".join(f"{count} {words}" for words, count in outcomes.most_common())
    print(f"{bad} of {rounds} rounds with a failure; {counts}")
    return bad


if __name__ == "__main__":
    sys.exit(main())
