"""`thresher` without a verb: the window."""

import os
import sys
from pathlib import Path
from typing import Annotated, NoReturn

import typer

from thresher.cli.options import Every, JobPath
from thresher.model.access import ASK
from thresher.model.errors import EnvironmentFault
from thresher.model.own_program import own_command


def window(
    context: typer.Context,
    every: Every = 1.0,
    job: JobPath = None,
    look: Annotated[Path | None, typer.Option("--look", help="Show a job without opening it, read only.")] = None,
    ask: Annotated[bool, typer.Option("--ask", help="Have an administrator asked for full access first.")] = False,
) -> None:
    """Open the window on this computer."""
    if ask:
        os.environ[ASK] = "1"  # also for the programs that this one starts
    if context.invoked_subcommand is not None:
        return
    if look is not None:
        open_window(["--stored", str(look)])
    open_window(["--live", "--every", str(every), *(["--job", str(job)] if job is not None else [])])


def open_window(arguments: list[str]) -> NoReturn:
    """Become the window's process. Raises EnvironmentFault where there is no display."""
    from thresher.app.launch import why_no_display

    reason = why_no_display()
    if reason is not None:
        raise EnvironmentFault(
            "opening the window",
            reason,
            "Start it from a desktop, or use thresher run, watch and report, which need none.",
        )
    sys.stdout.flush()
    os.execv(sys.executable, own_command("thresher.ui", *arguments))  # noqa: S606 (our own program)
