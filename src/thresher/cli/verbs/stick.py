"""`thresher stick`: jobs on the stick that Thresher was started from, also in text mode."""

from pathlib import Path
from typing import Annotated

import typer

from thresher.cli.exit_codes import FAULTS, FINE
from thresher.cli.options import Json
from thresher.cli.output import say, say_json
from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.stick.boot import HOME, RUN, StickState, on_stick, read_state


def stick_app() -> typer.Typer:
    """Return the verbs of the stick."""
    app = typer.Typer(help="The stick that this was started from: where jobs are.", rich_markup_mode=None)
    app.command("status")(status)
    app.command("keep")(keep)
    app.command("save")(save)
    return app


def _state() -> StickState:
    if not on_stick(RUN):
        raise EnvironmentFault(
            "reading the stick's state", "this system was not started from a stick", "See docs/stick.md."
        )
    return read_state(RUN)


def status(json: Json = False) -> None:
    """Show where jobs are kept, how many there are, and whether the clock is wrong. 1 while in memory only."""
    from thresher.app.keeping_jobs import jobs_in
    from thresher.stick.clock import now, what_is_wrong

    state, jobs = _state(), jobs_in(HOME)
    wrong = what_is_wrong(now(), state.built)
    if json:
        say_json({"state": state, "jobs": [str(each) for each in jobs], "clock": wrong})
    else:
        kept = f"on this stick ({state.drive})" if state.lasting else f"in memory only: {state.reason}"
        say(f"{len(jobs)} job{'' if len(jobs) == 1 else 's'}, kept {kept}")
        if wrong:
            say(f"The clock of this machine is wrong: {wrong}")
    raise typer.Exit(FINE if state.lasting else FAULTS)


def keep(yes: Annotated[bool, typer.Option("--yes", help="Do not ask.")] = False) -> None:
    """Make the partition for jobs on the stick, copy those in memory to it, and keep them there from now on."""
    from thresher.app.keeping_jobs import keep_on_stick

    state = _state()
    if state.lasting:
        say("Jobs are kept on this stick already.")
        return
    if not yes and not typer.confirm(f"Make a partition for jobs on {state.drive or 'the stick'}?"):
        raise typer.Exit(FAULTS)
    keep_on_stick()
    say("Jobs are kept on this stick.")


def save(
    place: Annotated[str, typer.Argument(help="A partition of a removable drive, or //server/share.")] = "",
    user: Annotated[str, typer.Option(help="The share's user; a guest without one.")] = "",
) -> None:
    """Save all jobs to another drive or a network share; without a place, list the removable drives."""
    from thresher.app.keeping_jobs import Share, find_targets, jobs_in, save_to, save_to_share

    state, jobs = _state(), jobs_in(HOME)
    if place.startswith("//"):
        password = typer.prompt("Password", hide_input=True) if user else ""
        say(save_to_share(Share(place, user, password), jobs))
        return
    found = find_targets(state.drive)
    if not place:
        for each in found:
            say(each.words)
        if not found:
            say("No removable drive found. Thresher never writes to drives inside the machine.")
        return
    device = place if place.startswith("/dev/") else f"/dev/{Path(place).name}"
    target = next((each for each in found if each.device == device), None)
    if target is None:
        raise InputError(
            "stick save", [InputFault(place, "not a file system on a removable drive; thresher stick save lists them")]
        )
    say(save_to(target, jobs))
