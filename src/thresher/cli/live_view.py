"""What `run` and `watch` show: on a terminal a view that stays in place, into a pipe plain lines."""

import logging
import sys
import time
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field

from rich.console import Console, Group
from rich.live import Live
from rich.progress_bar import ProgressBar
from rich.table import Table
from rich.text import Text

from thresher.cli.output import printable, say
from thresher.cli.running import entry_line, say_entry
from thresher.engine.engine import Engine
from thresher.model.channels import Channel, LimitSide, Quantity, Tick
from thresher.model.findings import Severity, TapeEntry
from thresher.model.run_states import StepState
from thresher.model.sheet import clock_text
from thresher.protocol.events import EngineEvent, TapeEvent, TickEvent
from thresher.protocol.status import RunStatus
from thresher.sensors.extremes import Extremes, closest
from thresher.sensors.vital_readings import package_power, slowest_clock, worst_rail

_LOG = logging.getLogger(__name__)
_TAPE_LINES = 8
_REFRESH_S = 0.2
_BAR_WIDTH = 40
_STYLES = {Severity.NOTE: "", Severity.WARNING: "yellow", Severity.FAULT: "red"}


@dataclass(frozen=True, slots=True)
class Vital:
    """One figure: its name, the figure with its unit, and what it is measured against."""

    name: str
    figure: str
    against: str


def vitals(channels: tuple[Channel, ...], tick: Tick, run: RunStatus) -> list[Vital]:
    """Return the figures that matter, those that this machine reports."""
    found: list[Vital] = []
    room = closest(channels, tick, Quantity.TEMPERATURE, LimitSide.BELOW)
    if room is not None:
        against = f"{channels[room.index].name} at {room.reading:.0f} of {room.limit.value:.0f} °C"
        found.append(Vital("headroom", f"{room.value:.0f} K", against))
    if (slowest := slowest_clock(channels, tick, run.busy_cores)) is not None:
        limit = channels[slowest[1]].limit(LimitSide.ABOVE)
        found.append(Vital("slowest core", f"{slowest[0]:.2f} GHz", f"base {limit.value:.2f}" if limit else ""))
    if (package := package_power(channels, tick)) is not None:
        limit = channels[package[1]].limit(LimitSide.BELOW)
        found.append(Vital("package", f"{package[0]:.0f} W", f"limit {limit.value:.0f} W" if limit else ""))
    if (rail := worst_rail(channels, tick)) is not None:
        off = (rail.reading / rail.nominal - 1) * 100
        against = f"{off:+.1f} % of ±{rail.tolerance * 100:.0f} %"
        found.append(Vital(f"rail {channels[rail.index].name}", f"{rail.reading:.2f} V", against))
    return found


@dataclass(slots=True)
class PlainLines:
    """One short line a tick into a pipe, and the tape as it comes; what needs two readings begins with the second."""

    engine: Engine
    quiet_ticks: bool = False
    _first: bool = True

    def __call__(self, event: EngineEvent) -> None:
        """Print what an event brings."""
        if isinstance(event, TapeEvent):
            say_entry(event.entry)
        elif isinstance(event, TickEvent) and not self.quiet_ticks:
            if self._first:
                self._first = False
                return
            cells = [f"{each.name} {each.figure}" for each in vitals(self.engine.channels, event.tick, event.run)]
            say(f"{clock_text(event.tick.at)}  " + ", ".join(cells or ["no figure that matters is reported"]))


@dataclass(slots=True)
class LiveView:
    """A view that is drawn again in place, at most five times a second."""

    engine: Engine
    live: Live
    total_s: float | None = None
    tape: deque[TapeEntry] = field(default_factory=lambda: deque(maxlen=_TAPE_LINES))
    tick: Tick | None = None
    began_at: float | None = None
    drawn: float = 0.0
    gone: bool = False

    def __call__(self, event: EngineEvent) -> None:
        """Take an event and draw, unless it was drawn just now."""
        if isinstance(event, TapeEvent):
            self.tape.append(event.entry)
        elif isinstance(event, TickEvent):
            self.tick = event.tick
            self.began_at = event.tick.at if self.began_at is None else self.began_at
        if time.monotonic() - self.drawn >= _REFRESH_S:
            self.draw()

    def draw(self) -> None:
        """Draw now."""
        self.drawn = time.monotonic()
        if self.gone:
            return
        try:
            self.live.update(self.view(), refresh=True)
        except OSError as error:
            # the run goes on in the job file; it must not end because a terminal has gone
            self.gone = True
            _LOG.warning("the terminal has gone: %s", error.strerror or error)

    def view(self) -> Group:
        """Return everything that is shown."""
        run = self.engine.status()
        return Group(self._head(run), self._figures(run), Text(), *self._tape_lines())

    def _head(self, run: RunStatus) -> Table:
        line = Table.grid(padding=(0, 2))
        if self.total_s is None:
            now = next((item.title for item in run.plan if item.state is StepState.RUNNING), str(run.state))
            total, done = max(run.length_s, 1.0), run.run_at
            words = f"{clock_text(max(0.0, total - done))} left of {clock_text(total)}"
        else:
            now, total = "watching", self.total_s
            done = self.tick.at - self.began_at if self.tick is not None and self.began_at is not None else 0.0
            words = f"{clock_text(max(0.0, total - done))} left"
        bar = ProgressBar(total=total, completed=min(done, total), width=_BAR_WIDTH)
        line.add_row(Text(printable(now), style="bold"), bar, Text(words))
        return line

    def _figures(self, run: RunStatus) -> Table:
        table = Table.grid(padding=(0, 2))
        tick = self.tick
        for each in vitals(self.engine.channels, tick, run) if tick is not None else []:
            table.add_row(Text(printable(each.name)), Text(each.figure, style="bold"), Text(printable(each.against)))
        count = len(self.engine.findings)
        wrong = f"{run.mismatches} wrong, {run.corrected} corrected" if run.run is not None else ""
        table.add_row(Text("findings"), Text(str(count), style="bold red" if count else "bold"), Text(wrong))
        return table

    def _tape_lines(self) -> Iterator[Text]:
        for entry in self.tape:
            yield Text(printable(entry_line(entry)), style=_STYLES[entry.severity], no_wrap=True, overflow="ellipsis")


def on_terminal() -> bool:
    """Whether a view that stays in place can be drawn."""
    return sys.stdout.isatty() and Console().is_terminal and not Console().is_dumb_terminal


@contextmanager
def shown(engine: Engine, watching_s: float | None = None, lines_only: bool = False) -> Iterator[None]:
    """Show what an engine does meanwhile; `watching_s` is how long it is watched, None for a run.

    `lines_only` prints lines in a terminal too.
    """
    if lines_only or not on_terminal():
        engine.subscribe(PlainLines(engine, quiet_ticks=watching_s is None))
        yield
        return
    live = Live(console=Console(), auto_refresh=False, transient=False)
    view = LiveView(engine, live, watching_s)
    view.tape.extend(engine.snapshot().tape)
    live.start()
    engine.subscribe(view)
    try:
        yield
    finally:
        view.draw()
        with suppress(OSError):
            live.stop()


def say_extremes(channels: tuple[Channel, ...], extremes: Extremes) -> None:
    """Print smallest, mean and largest reading of every channel."""
    say("\nSmallest, mean and largest reading")
    for index, channel in enumerate(channels):
        low, mean, high = (each[index] for each in (extremes.minimum, extremes.mean, extremes.maximum))
        if mean != mean:
            say(f"    {channel.name:28} no reading ({channel.source})")
            continue
        digits = 0 if channel.quantity in (Quantity.TEMPERATURE, Quantity.FAN) else 2
        say(f"    {channel.name:28} {low:9.{digits}f} {mean:9.{digits}f} {high:9.{digits}f} {channel.unit}")
