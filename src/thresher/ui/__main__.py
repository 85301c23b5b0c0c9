"""Starting the window: the engine first, as a process of its own, then Qt while it gets ready."""

import argparse
import sys
from pathlib import Path

from thresher.app.launch import runtime_folder, start_engine_process
from thresher.model.regular_file import is_there

DEMO_ARGUMENTS = ["--simulate", "lighthouse-playout", "--sheet", "reset-hunt-short"]
LIVE_ARGUMENTS = ["--sheet", "short-round"]


def parse(arguments: list[str]) -> argparse.Namespace:
    """Parse the window's own arguments; people use the command line of `thresher`."""
    parser = argparse.ArgumentParser(prog="thresher.ui")
    parser.add_argument("--demo", action="store_true", help="the demo bench")
    parser.add_argument("--live", action="store_true", help="this computer")
    parser.add_argument("--socket", type=Path, help="the engine's socket")
    parser.add_argument("--job", type=Path, help="the job file for an engine that is started")
    parser.add_argument("--shop", type=Path, help="the folder of what the shop keeps, for an engine that is started")
    parser.add_argument("--sheet", help="the run sheet that a started engine puts on the bench")
    parser.add_argument("--speed", type=float, help="how fast the demo's clock runs")
    parser.add_argument("--every", type=float, help="seconds between readings, 0.1 to 60")
    parser.add_argument("--stored", type=Path, help="look at a stored job")
    parser.add_argument("--picture", type=Path, help="draw the Bench into this PNG and end")
    parser.add_argument("--dark", action="store_true", help="the night bench scheme")
    parser.add_argument("--size", default="1280x800", help="width x height of the window")
    parser.add_argument("--measure", type=float, help="print start-up and longest wait after this many seconds")
    return parser.parse_args(arguments)


def engine_arguments(options: argparse.Namespace) -> list[str]:
    """Return what an engine for this window is started with."""
    arguments = list(DEMO_ARGUMENTS if options.demo else LIVE_ARGUMENTS)
    if options.sheet is not None:
        arguments[-1] = options.sheet
    if options.speed is not None and options.demo:
        arguments += ["--speed", str(options.speed)]
    for name, value in (("--job", options.job), ("--shop", options.shop), ("--every", options.every)):
        if value is not None:
            arguments += [name, str(value)]
    return arguments


def main() -> int:
    """Start everything and return the exit code."""
    options = parse(sys.argv[1:])
    folder = runtime_folder()
    socket = options.socket or folder / ("demo.sock" if options.demo else "live.sock")
    process = None
    if options.stored is None and not is_there(socket):
        process = start_engine_process(socket, engine_arguments(options), folder / "engine.log")
    # Qt is loaded while the engine starts
    from thresher.ui.app import run_window

    return run_window(options, socket, process, folder / "engine.log")


if __name__ == "__main__":
    sys.exit(main())
