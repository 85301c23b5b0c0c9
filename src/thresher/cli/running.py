"""Carrying out a run in the terminal: the tape line by line, and Ctrl+C that stops in order."""

import queue
import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager, nullcontext

from thresher.cli.output import say, say_error
from thresher.compose.announce import announcement
from thresher.engine.engine import Engine
from thresher.model.findings import TapeEntry
from thresher.model.sheet import RunSheet, clock_text
from thresher.protocol.status import RunStatus


@contextmanager
def interrupt_stops(engine: Engine) -> Iterator[None]:
    """Let Ctrl+C and SIGTERM stop the run in order instead of tearing the process down.

    A terminal that goes away (SIGHUP) stops nothing: the run goes on to its end in the job file.
    """

    # a handler runs in the middle of anything, also while this thread holds the lock of an event: it may only put
    # into a queue that is made for that
    came: queue.SimpleQueue[int] = queue.SimpleQueue()

    def on_signal(number: int, _frame: object) -> None:
        came.put(number)

    def pass_on() -> None:
        if number := came.get():
            engine.quit(number)

    listener = threading.Thread(target=pass_on, name="signals", daemon=True)
    listener.start()
    before: dict[int, object] = {number: signal.signal(number, on_signal) for number in (signal.SIGINT, signal.SIGTERM)}
    before[signal.SIGHUP] = signal.signal(signal.SIGHUP, signal.SIG_IGN)
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)  # type: ignore[arg-type]  # what `signal` itself returned
        came.put(0)
        listener.join()


def entry_line(entry: TapeEntry) -> str:
    """Return one entry of the tape as a line."""
    at = clock_text(entry.run_at) if entry.run_at is not None else "       "
    return f"{at}  {entry.code or '     '}  " + ": ".join(filter(None, (entry.title, entry.detail)))


def say_entry(entry: TapeEntry) -> None:
    """Print one entry of the tape."""
    say(entry_line(entry))


def say_opening(engine: Engine) -> None:
    """Print what the engine found before anybody listened.

    These are the sources that it could not read, what is on the tape (doubts about the machine, interrupted runs), and
    the hardware events from before the bench was opened, by kind.
    """
    snapshot = engine.snapshot()
    for fact in engine.unknown:
        say(f"Not read: {fact.name}: {fact.value} ({fact.source})")
    for entry in snapshot.tape:
        say_entry(entry)
    for group in snapshot.earlier:
        times = f", {group.count} times" if group.count > 1 else ""
        say(f"         {group.code}  before: {group.title}{times}")


def end_engine(engine: Engine) -> bool:
    """Close an engine; say what its job file lacks, and return whether that is nothing."""
    closed = engine.close()
    for sentence in closed.sentences:
        say_error(f"Job file {engine.job_file}: {sentence}.")
    return closed.complete


def carry_out(
    engine: Engine, sheet: RunSheet, quiet: bool, unwatched_limit: bool = False, lines_only: bool = False
) -> RunStatus:
    """Carry out a run sheet, printing the tape unless `quiet`, and return how the run ended.

    `lines_only` prints lines in a terminal too, so that questions can be asked between them.
    """

    from thresher.cli.live_view import shown  # needs rich, which takes time to load

    engine.sheets.put(sheet)  # what this machine cannot do is refused before anything is said
    if not quiet:
        say_opening(engine)
        cpus = tuple(cpu.core for cpu in engine.inventory.cpus)
        say(announcement(sheet, cpus))
    with interrupt_stops(engine), nullcontext() if quiet else shown(engine, lines_only=lines_only):
        status = engine.run_to_end(sheet, unwatched_limit)
    if engine.conductor.active:
        sentence = engine.break_off() if engine.shutting_down else engine.stop()
        if not quiet:
            say(f"Stopped: {sentence}")
        status = engine.status()
    return status
