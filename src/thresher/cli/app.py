"""All verbs together, and what happens when one fails."""

import sys
from collections.abc import Sequence
from types import FunctionType

import typer

from thresher.cli.exit_codes import COULD_NOT
from thresher.cli.output import printable
from thresher.cli.renamed import with_present_names
from thresher.cli.verbs.access import access
from thresher.cli.verbs.bad_pages import bad_pages
from thresher.cli.verbs.bench_files import backup, find, forget, history, restore
from thresher.cli.verbs.bench_speed import bench_speed
from thresher.cli.verbs.capture import capture
from thresher.cli.verbs.check import check_app
from thresher.cli.verbs.compare import compare
from thresher.cli.verbs.decode import decode
from thresher.cli.verbs.demo import demo
from thresher.cli.verbs.drive import drive_app
from thresher.cli.verbs.endings import endings
from thresher.cli.verbs.engine import engine
from thresher.cli.verbs.go_on import go_on
from thresher.cli.verbs.graphics import graphics_app
from thresher.cli.verbs.import_log import import_log
from thresher.cli.verbs.inventory import inventory
from thresher.cli.verbs.log import log
from thresher.cli.verbs.prove import prove
from thresher.cli.verbs.report import report
from thresher.cli.verbs.run import run
from thresher.cli.verbs.scenario import scenario_app
from thresher.cli.verbs.schedule import schedule_app
from thresher.cli.verbs.stick import stick_app
from thresher.cli.verbs.supply import supply
from thresher.cli.verbs.system_logs import system_logs
from thresher.cli.verbs.verdict import verdict
from thresher.cli.verbs.verify import verify
from thresher.cli.verbs.watch import watch
from thresher.cli.verbs.window import window
from thresher.model.errors import BugError, ThresherError
from thresher.model.plugins import plugins

ENTRY_POINTS = "thresher.verbs"

ABOUT = """Stress, readings, machine checks and a reasoned verdict for the PC repair bench.

Without a command it opens the window on this computer.

\b
Examples:
  thresher inventory                     what this machine is
  thresher watch --seconds 60            readings for a minute
  thresher run short-round               three minutes of verified load
  thresher decode dmesg.txt              a kernel log into findings
  thresher verdict JOB                   which part, how sure, and why
  thresher endings JOB                   how the machine died, and what goes on
  thresher compare JOB                   the heat of its runs: what changed, and is it real
  thresher report JOB --out report.pdf   what the customer takes home, sealed
  thresher verify report.pdf             whether it is still what was sealed
  thresher find 0417                     a job by number, customer, part or code
  thresher system-logs sda2              logs and crash dumps of the installed system
  thresher supply JOB                    rails under load: tolerance, droop, load line
  thresher run reset-hunt-short --simulate lighthouse-playout --speed 0

Every command ends with 0 (fine), 1 (faults found) or 2 (could not do it)."""

VERBS = (
    ("demo", demo),
    ("inventory", inventory),
    ("watch", watch),
    ("run", run),
    ("decode", decode),
    ("verdict", verdict),
    ("endings", endings),
    ("compare", compare),
    ("go-on", go_on),
    ("supply", supply),
    ("system-logs", system_logs),
    ("bad-pages", bad_pages),
    ("report", report),
    ("verify", verify),
    ("history", history),
    ("find", find),
    ("backup", backup),
    ("restore", restore),
    ("forget", forget),
    ("import", import_log),
    ("capture", capture),
    ("access", access),
    ("log", log),
    ("prove", prove),
    ("bench-speed", bench_speed),
)
"""In the order in which `--help` lists them; a new verb is a file in `verbs` and a row here."""


def make_app() -> typer.Typer:
    """Return the command line with all its verbs."""
    # plain help: the framed one takes a quarter of a second to load
    app = typer.Typer(
        help=ABOUT, no_args_is_help=False, add_completion=False, pretty_exceptions_enable=False, rich_markup_mode=None
    )
    app.callback(invoke_without_command=True)(window)
    for name, verb in VERBS:
        app.command(name)(verb)
    for name, plugin in plugins(ENTRY_POINTS, FunctionType).items():
        app.command(name)(plugin)
    app.add_typer(check_app(), name="check")
    app.add_typer(drive_app(), name="drive")
    app.add_typer(schedule_app(), name="schedule")
    app.add_typer(graphics_app(), name="graphics")
    app.add_typer(scenario_app(), name="scenario")
    app.add_typer(stick_app(), name="stick")
    app.command("engine", hidden=True)(engine)
    return app


def main(arguments: Sequence[str] | None = None) -> int:
    """Run the command line and return the exit code. Errors are printed in words; no traceback reaches a user."""
    given, notes = with_present_names(list(sys.argv[1:] if arguments is None else arguments))
    for note in notes:
        typer.echo(note, err=True)
    try:
        made = make_app()(args=given, prog_name="thresher", standalone_mode=False)
    except typer.Exit as ended:
        return int(ended.exit_code)
    except typer.Abort:
        return _failed("Cancelled.")
    except ThresherError as error:
        return _failed(str(error))
    except KeyboardInterrupt:
        return _failed("Interrupted.")
    except Exception as error:  # noqa: BLE001 (the last boundary of the process: a bug ends in words, not in a traceback)
        if hasattr(error, "format_message"):  # the option parser's own errors bring their words
            return _failed(f"{error.format_message()}\nTry 'thresher --help'.")
        return _failed(str(_logged_bug(error)))
    return made if isinstance(made, int) else 0


def _logged_bug(error: Exception) -> BugError:
    import logging  # slow to load, and only needed when something went wrong
    import traceback

    from thresher.app.log_file import set_up_logging

    set_up_logging()
    logging.getLogger(__name__).error("bug in the command line", exc_info=error)
    return BugError.of(error, traceback.format_exception(error))


def _failed(words: str) -> int:
    typer.echo(printable(words), err=True)
    return COULD_NOT
