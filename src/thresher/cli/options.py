"""Options that several verbs share."""

from pathlib import Path
from typing import Annotated

import typer

Json = Annotated[bool, typer.Option("--json", help="Print JSON instead of text for people.")]
Root = Annotated[Path | None, typer.Option("--root", help="Read a capture, or a directory that looks like /.")]
Simulate = Annotated[
    str | None,
    typer.Option("--simulate", metavar="SCENARIO", help="A simulated machine: a scenario file, or one that ships."),
]
Speed = Annotated[float | None, typer.Option("--speed", min=0.0, help="Simulation speed; 0 is as fast as possible.")]
Shop = Annotated[
    Path | None, typer.Option("--shop", help="The shop's folder: shelf, prices, machines, own run sheets.")
]
JobPath = Annotated[Path | None, typer.Option("--job", help="The job file; a new one if left out.")]
Every = Annotated[float, typer.Option("--every", min=0.1, max=60.0, help="Seconds between readings.")]
