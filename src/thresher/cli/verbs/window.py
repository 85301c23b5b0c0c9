"""`thresher` without a verb: the window."""

import os
import sys
from typing import NoReturn

import typer

from thresher.cli.options import Every
from thresher.model.errors import EnvironmentFault
from thresher.model.own_program import own_command


def window(context: typer.Context, every: Every = 1.0) -> None:
    """Open the window on this computer."""
    if context.invoked_subcommand is None:
        open_window(["--live", "--every", str(every)])


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
