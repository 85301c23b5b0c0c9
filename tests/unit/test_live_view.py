"""The view of a run in a terminal: drawn for real into a terminal that is kept in memory."""

import io
from collections.abc import Callable

from rich.console import Console
from rich.live import Live

from tests.conftest import Heard
from thresher.cli.live_view import LiveView, vitals
from thresher.engine.engine import Engine
from thresher.model.sheet import RunSheet
from thresher.protocol.events import TickEvent
from thresher.simulator.scenario import Scenario

MakeEngine = Callable[..., tuple[Engine, Heard]]
MakeSheet = Callable[[float], RunSheet]


class Gone(io.StringIO):
    """A terminal that is not there any more."""

    def write(self, _text: str) -> int:
        raise OSError(5, "Input/output error")


def view_on(engine: Engine, stream: io.StringIO, total_s: float | None = None) -> LiveView:
    console = Console(file=stream, force_terminal=True, width=110, height=30, color_system=None)
    view = LiveView(engine, Live(console=console, auto_refresh=False), total_s)
    engine.subscribe(view)
    return view


def drawn(view: LiveView) -> str:
    console = Console(file=io.StringIO(), width=110, color_system=None)
    console.print(view.view())
    assert isinstance(console.file, io.StringIO)
    return console.file.getvalue()


def test_a_run_shows_time_left_figures_findings_and_the_last_lines_of_the_tape(
    make_engine: MakeEngine, lighthouse: Scenario, sheet: MakeSheet
) -> None:
    engine, heard = make_engine(lighthouse)
    view = view_on(engine, io.StringIO())
    engine.sheets.put(sheet(400))
    engine.start()
    engine.watch(300)
    shown = drawn(view)
    assert "matrix, shared cache" in shown
    assert "0:01:4" in shown.splitlines()[0]
    assert "left of 0:06:40" in shown
    for name in ("headroom", "slowest core", "package", "rail", "findings"):
        assert name in shown
    assert "P-310" in shown
    assert len(view.tape) == 8
    assert heard.tape()[-1].split(":")[0] in shown


def test_watching_shows_the_time_left(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, _ = make_engine(ferry)
    view = view_on(engine, io.StringIO(), total_s=60.0)
    engine.watch(21)
    assert "watching" in drawn(view)
    assert "0:00:40 left" in drawn(view)


def test_a_terminal_that_goes_away_ends_nothing(
    make_engine: MakeEngine, lighthouse: Scenario, sheet: MakeSheet
) -> None:
    engine, _ = make_engine(lighthouse)
    view = view_on(engine, Gone())
    status = engine.run_to_end(sheet(60))
    assert view.gone
    assert status.ending == "finished"


def test_figures_that_a_machine_does_not_report_are_left_out(make_engine: MakeEngine, ferry: Scenario) -> None:
    engine, heard = make_engine(ferry)
    engine.watch(3)
    tick = next(event for event in reversed(heard.events) if isinstance(event, TickEvent))
    assert [each.name for each in vitals(engine.channels, tick.tick, tick.run)] == [
        "headroom",
        "slowest core",
        "package",
        "rail +5V",
    ]
    assert vitals((), tick.tick, tick.run) == []
