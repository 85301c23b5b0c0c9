"""`thresher log`."""

from typing import Annotated

import typer

from thresher.cli.options import Json
from thresher.cli.output import say, say_json


def log(
    lines: Annotated[int, typer.Option("--lines", min=1, max=100_000, help="How many of the last lines.")] = 50,
    json: Json = False,
) -> None:
    """Show the program's own log."""
    from thresher.app.log_file import last_lines, log_path

    found = last_lines(lines)
    if json:
        say_json({"file": str(log_path()), "lines": found})
        return
    for line in found:
        say(line)
    if not found:
        say(f"Nothing logged yet ({log_path()}).")
