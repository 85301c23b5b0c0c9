"""`thresher scenario`."""

from pathlib import Path

import typer

from thresher.cli.options import Json
from thresher.cli.output import say, say_json


def scenario_app() -> typer.Typer:
    """Return the verbs about scenario files."""
    app = typer.Typer(help="Check scenario files: simulated machines, their faults.")

    @app.callback()
    def _about() -> None:
        """Check scenario files: simulated machines, their faults."""

    app.command("check")(check)
    return app


def check(scenario: Path, json: Json = False) -> None:
    """Check a scenario file and show what it contains."""
    from thresher.app.machines import scenario_path
    from thresher.simulator.machine import SimulatedMachine
    from thresher.simulator.scenario import explain, load_scenario

    loaded = load_scenario(scenario_path(str(scenario)))
    SimulatedMachine(loaded, 0.0)  # what is called good must open
    if json:
        say_json(loaded)
        return
    say(f"{loaded.title}: good")
    say(f"  {loaded.processor.name}, {loaded.processor.cores} cores, {len(loaded.modules)} memory modules")
    for fault in loaded.faults:
        say(f"  fault: {explain(fault)}")
    if not loaded.faults:
        say("  no fault")
