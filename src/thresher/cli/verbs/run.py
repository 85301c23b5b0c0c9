"""`thresher run`."""

from typing import Annotated

import typer

from thresher.cli.exit_codes import COULD_NOT, FAULTS, FINE
from thresher.cli.options import Every, JobPath, Json, Shop, Simulate, Speed
from thresher.cli.output import say, say_json
from thresher.model.run_states import Outcome


def run(
    sheet: Annotated[str, typer.Argument(help="A run sheet file, or the name of one that ships.")],
    simulate: Simulate = None,
    speed: Speed = None,
    job: JobPath = None,
    every: Every = 1.0,
    shop: Shop = None,
    unwatched_limit: Annotated[
        bool, typer.Option("--unwatched-limit", help="Start although no sensor reports what the sheet limits.")
    ] = False,
    json: Json = False,
) -> None:
    """Carry out a run sheet, here or on a simulated machine."""
    from thresher.app import wiring
    from thresher.app.machines import open_system
    from thresher.cli.printing import print_verdict
    from thresher.cli.running import carry_out, end_engine

    parsed = wiring.sheet_named(sheet)  # a broken sheet is reported before anything is made
    system = open_system(None, simulate, speed)
    engine = wiring.make_engine(system, job, every, shop, simulate or "")
    try:
        status = carry_out(engine, parsed, json, unwatched_limit)
        verdict, findings, path = engine.verdict, engine.findings, str(engine.job_file)
    finally:
        complete = end_engine(engine)
    if json:
        say_json(
            {
                "sheet": parsed,
                "machine": engine.inventory,
                "run": status,
                "findings": findings,
                "verdict": verdict,
                "job_file": path,
            }
        )
    else:
        say(f"\nRun {status.ending}: {status.outcome}. {status.ending_detail}")
        say(f"{status.beats} beats checked, {status.mismatches} mismatches, {status.corrected} corrected.")
        if verdict is not None:
            print_verdict(verdict)
        say(f"Job file: {path}")
    if not complete:
        raise typer.Exit(COULD_NOT)
    if findings:
        raise typer.Exit(FAULTS)
    raise typer.Exit(FINE if status.outcome is Outcome.CLEAN else COULD_NOT)
