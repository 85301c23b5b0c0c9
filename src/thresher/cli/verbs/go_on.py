"""`thresher go-on`: what starts after the machine has started again; also for whoever wants to go on by hand."""

from pathlib import Path
from typing import Annotated

import typer

from thresher.cli.exit_codes import COULD_NOT, FAULTS, FINE
from thresher.cli.options import Every, Shop, Simulate
from thresher.cli.output import say


def go_on(
    job: Annotated[Path, typer.Argument(help="The job file of the run that came to a sudden end.")],
    simulate: Simulate = None,
    every: Every = 1.0,
    shop: Shop = None,
) -> None:
    """Say how a run ended, and go on with it after a countdown in which any key stops it."""
    from thresher.app import wiring
    from thresher.app.machines import open_system
    from thresher.cli.keys import any_key
    from thresher.cli.printing import print_verdict
    from thresher.cli.running import end_engine, interrupt_stops, say_entry, say_opening
    from thresher.protocol.events import EngineEvent, GoingOnEvent, TapeEvent

    engine = wiring.make_engine(open_system(None, simulate, None), job, every, shop, simulate or "")

    def listen(event: EngineEvent) -> None:
        if isinstance(event, TapeEvent):
            say_entry(event.entry)
        if isinstance(event, GoingOnEvent) and event.due is not None:
            say(f"\n{event.happened}.\nNext: {event.next_words}.\nAny key stops it.\n")

    say_opening(engine)
    engine.subscribe(listen)
    try:
        with interrupt_stops(engine), any_key(lambda: engine.submit(lambda: engine.going_on.stop("a key was pressed"))):
            engine.run_what_goes_on()
    finally:
        complete = end_engine(engine)
    if engine.verdict is not None:
        print_verdict(engine.verdict)
    raise typer.Exit(COULD_NOT if not complete else FAULTS if engine.findings else FINE)
