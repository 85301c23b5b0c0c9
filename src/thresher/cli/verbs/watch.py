"""`thresher watch`."""

import tempfile
from contextlib import nullcontext
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from thresher.cli.options import Every, Json, Root, Simulate, Speed
from thresher.cli.output import say_json, write_text

if TYPE_CHECKING:
    from thresher.protocol.events import EngineEvent


def watch(
    root: Root = None,
    simulate: Simulate = None,
    seconds: Annotated[float, typer.Option(min=0.1, help="How long to watch.")] = 10.0,
    every: Every = 1.0,
    speed: Speed = None,
    csv: Annotated[Path | None, typer.Option(help="Write the readings to this CSV file.")] = None,
    json: Json = False,
) -> None:
    """Show readings, live."""
    from thresher.app import wiring
    from thresher.app.machines import open_system
    from thresher.cli.live_view import say_extremes, shown
    from thresher.cli.running import interrupt_stops, say_opening
    from thresher.model.channels import Tick
    from thresher.protocol.events import TickEvent
    from thresher.report.table import ticks_csv
    from thresher.sensors.extremes import Extremes

    if csv is not None:
        write_text(csv, "")  # a file that cannot be written is reported before anything is watched
    system = open_system(root, simulate, speed)
    with tempfile.TemporaryDirectory(prefix="thresher-watch-") as folder:
        engine = wiring.make_engine(system, Path(folder) / "watch.thresher", every, Path(folder) / "shop")
        rows: list[Tick] = []
        extremes = Extremes(len(engine.channels))

        def on_event(event: "EngineEvent") -> None:
            if isinstance(event, TickEvent):
                rows.append(event.tick)
                extremes.add(event.tick)
                if json:
                    say_json(event.tick)

        engine.subscribe(on_event)
        if not json:
            say_opening(engine)
        with interrupt_stops(engine), nullcontext() if json else shown(engine, seconds):
            engine.watch(seconds)
        engine.close()
        if not json:
            say_extremes(engine.channels, extremes)
        if csv is not None:
            write_text(csv, ticks_csv(engine.channels, rows))
