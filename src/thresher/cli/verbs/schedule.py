"""`thresher schedule`: rounds at chosen times on this machine, quiet when all is well."""

from pathlib import Path
from typing import Annotated

import typer

from thresher.cli.exit_codes import COULD_NOT
from thresher.cli.options import JobPath, Json, Shop, Simulate, Speed
from thresher.cli.output import say, say_error, say_json
from thresher.model.checks import Round

Name = Annotated[str, typer.Argument(help="A name of your own: small letters, digits, dashes.")]


def schedule_app() -> typer.Typer:
    """Return the verbs about the schedule."""
    app = typer.Typer(help="Rounds at chosen times on this machine.", rich_markup_mode=None)
    app.command("add")(add_round)
    app.command("list")(list_rounds)
    app.command("remove")(remove_round)
    app.command("carry-out", hidden=True)(carry_out_round)
    return app


def add_round(
    name: Name,
    at: Annotated[str, typer.Option("--at", help='When, such as "07:30", "Mon..Fri 07:30" or "Tue,Sat 18:00".')],
    kind: Annotated[Round, typer.Option("--round", help="Which round.")] = Round.SHORT,
) -> None:
    """Put a round on the schedule: it runs then without a person, and a missed time is caught up."""
    from thresher.app.schedule import Scheduled, add
    from thresher.app.user_bus import BusManager, unit_folder
    from thresher.model.own_program import own_command

    command = own_command("thresher.cli", "schedule", "carry-out", kind.value)
    add(Path(unit_folder()), BusManager(), Scheduled(name, at, kind), command)
    say(f"The {kind.value} round runs {at}; a notification comes when something fails, and nothing when all is well.")


def list_rounds(json: Json = False) -> None:
    """List what is on the schedule."""
    from thresher.app.schedule import listed
    from thresher.app.user_bus import unit_folder

    found = listed(Path(unit_folder()))
    if json:
        say_json(found)
        return
    for each in found:
        say(f"{each.name:20} {each.when:20} {each.kind.value} round")
    if not found:
        say('Nothing is on the schedule; thresher schedule add NAME --at "Mon..Fri 07:30" puts a round on it.')


def remove_round(name: Name) -> None:
    """Take a round off the schedule."""
    from thresher.app.schedule import remove
    from thresher.app.user_bus import BusManager, unit_folder

    remove(Path(unit_folder()), BusManager(), name)
    say(f"{name} is off the schedule.")


def carry_out_round(
    kind: Round,
    simulate: Simulate = None,
    speed: Speed = None,
    job: JobPath = None,
    shop: Shop = None,
) -> None:
    """Carry out a round now, say nothing when all is well, and show a notification when not."""
    from thresher.app import wiring
    from thresher.app.machines import open_system
    from thresher.app.user_bus import notify
    from thresher.cli.running import carry_out, end_engine
    from thresher.cli.verbs.check import exit_code
    from thresher.compose.rounds import results_sentence
    from thresher.model.checks import CheckOutcome
    from thresher.model.errors import EnvironmentFault

    system = open_system(None, simulate, speed)
    engine = wiring.make_engine(system, job, 1.0, shop, simulate or "")
    try:
        engine.sheets.put_round(kind, (), (), 1)
        sheet = engine.conductor.sheet
        assert sheet is not None
        carry_out(engine, sheet, quiet=True)
        results = engine.snapshot().checks
    finally:
        complete = end_engine(engine)
    code = exit_code(results) if complete else COULD_NOT
    failed = [each for each in results if each.outcome is CheckOutcome.FAIL]
    if failed:
        words = f"{results_sentence(results)}. {failed[0].why}. Job file: {engine.job_file}"
        say_error(words)
        try:
            notify(f"A check of {engine.inventory.name} failed", words)
        except EnvironmentFault as error:
            say_error(str(error))
    raise typer.Exit(code)
