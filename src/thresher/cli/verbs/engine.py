"""`thresher engine`: the engine as a process of its own, started by windows."""

from pathlib import Path
from typing import Annotated

import typer

from thresher.cli.options import Every, JobPath, Root, Shop, Simulate, Speed


def engine(
    socket: Annotated[Path, typer.Option("--socket")],
    root: Root = None,
    simulate: Simulate = None,
    speed: Speed = None,
    job: JobPath = None,
    every: Every = 1.0,
    sheet: Annotated[str | None, typer.Option("--sheet")] = None,
    linger: Annotated[float, typer.Option("--linger", min=1.0)] = 1800.0,
    shop: Shop = None,
) -> None:
    """Run the engine behind a socket, for windows."""
    from thresher.app import wiring
    from thresher.app.machines import open_system
    from thresher.cli.running import interrupt_stops
    from thresher.server.server import serve, take_socket

    listening = take_socket(socket)
    again = True
    try:
        while again:
            system = open_system(root, simulate, speed)
            made = wiring.make_engine(system, job, every, shop, simulate or "")
            if sheet is not None:
                made.sheets.put(wiring.sheet_named(sheet))
            else:
                made.sheets.put_proposed()
            with interrupt_stops(made):
                serve(made, listening.dup(), linger)
            # with more access than before there is more to be read: the same job is opened again
            again, job = made.wants_reopening, made.job_file
    finally:
        listening.close()
        socket.unlink(missing_ok=True)
