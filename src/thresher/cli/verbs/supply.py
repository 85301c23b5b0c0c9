"""`thresher supply`."""

from pathlib import Path
from typing import Annotated

import typer

from thresher.cli.exit_codes import FAULTS, FINE
from thresher.cli.options import Json
from thresher.cli.output import say, say_json


def supply(
    job: Path,
    run: Annotated[int | None, typer.Option("--run", help="Number of the run; the last one without.")] = None,
    json: Json = False,
) -> None:
    """Show what a run of a job says about the power supply: rails, droop and load line."""
    from thresher.app.stored_supply import supply_of
    from thresher.journal.jobfile import JobFile

    with JobFile(job, read_only=True) as stored:
        found = supply_of(stored, run)
    if json:
        say_json(found)
    else:
        say(f"Run {found.run}, {found.title}")
        if not found.rails:
            say("No rail can be judged: no sensor reports one, or the load hardly changed the power.")
        for rail in found.rails:
            say(f"  {rail.sentence}")
        for sentence in found.conclusions if found.rails else ():
            say(sentence)
    raise typer.Exit(FINE if all(rail.within for rail in found.rails) else FAULTS)
