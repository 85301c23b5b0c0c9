"""`thresher watch`."""

import tempfile
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
    from thresher.cli.printing import print_tick
    from thresher.cli.running import interrupt_stops, say_entry, say_opening
    from thresher.model.channels import Tick
    from thresher.protocol.events import TapeEvent, TickEvent
    from thresher.report.table import ticks_csv

    if csv is not None:
        write_text(csv, "")  # a file that cannot be written is reported before anything is watched
    system = open_system(root, simulate, speed)
    with tempfile.TemporaryDirectory(prefix="thresher-watch-") as folder:
        engine = wiring.make_engine(system, Path(folder) / "watch.thresher", every, Path(folder) / "shop")
        rows: list[Tick] = []

        def on_event(event: "EngineEvent") -> None:
            if isinstance(event, TickEvent):
                rows.append(event.tick)
                if json:
                    say_json(event.tick)
                else:
                    print_tick(engine.channels, event.tick)
            elif isinstance(event, TapeEvent) and not json:
                say_entry(event.entry)

        engine.subscribe(on_event)
        if not json:
            say_opening(engine)
        with interrupt_stops(engine):
            engine.watch(seconds)
        engine.close()
        if csv is not None:
            write_text(csv, ticks_csv(engine.channels, rows))
