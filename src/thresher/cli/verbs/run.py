"""`thresher run`."""

from dataclasses import replace
from typing import TYPE_CHECKING, Annotated

import typer

from thresher.cli.exit_codes import COULD_NOT, FAULTS, FINE
from thresher.cli.options import Every, JobPath, Json, Shop, Simulate, Speed
from thresher.cli.output import say, say_json
from thresher.model.run_states import Outcome

if TYPE_CHECKING:
    from thresher.engine.engine import Engine
    from thresher.model.sheet import RunSheet
    from thresher.protocol.status import RunStatus


def run(
    sheet: Annotated[str, typer.Argument(help="A run sheet file, or the name of one that ships.")] = "",
    load: Annotated[list[str] | None, typer.Option("--load", help="A load, without a sheet; may be repeated.")] = None,
    cores: Annotated[str, typer.Option("--cores", help="Cores for the loads, such as 0-3,8.")] = "",
    length: Annotated[str, typer.Option("--for", help="How long each load runs, such as 10m or 1h30m.")] = "10m",
    amount: Annotated[str, typer.Option("--amount", help="Memory for a memory load, such as 80% or 4GiB.")] = "",
    hold: Annotated[str, typer.Option("--hold", help="Hold this temperature in °C instead of full load.")] = "",
    shape: Annotated[str, typer.Option("--shape", help="steady, pulse, ramp, hop or stagger.")] = "",
    stop_at: Annotated[str, typer.Option("--stop-at", help="What stops the run: 95 °C, the first fault.")] = "",
    after_another: Annotated[
        bool, typer.Option("--after-another", help="One load after another, cooled down between.")
    ] = False,
    list_loads: Annotated[bool, typer.Option("--list", help="List the loads with what they find.")] = False,
    simulate: Simulate = None,
    speed: Speed = None,
    job: JobPath = None,
    every: Every = 1.0,
    shop: Shop = None,
    unwatched_limit: Annotated[
        bool, typer.Option("--unwatched-limit", help="Start although no sensor reports what the sheet limits.")
    ] = False,
    after_crash: Annotated[
        str, typer.Option("--after-crash", help="After a sudden end: wait, go-on or find-the-part.")
    ] = "",
    most_crashes: Annotated[int, typer.Option("--most-crashes", min=1, max=50, help="Ends after which it stops.")] = 5,
    watchdog: Annotated[
        bool, typer.Option("--watchdog", help="Let the hardware watchdog reset the machine when it freezes.")
    ] = False,
    json: Json = False,
) -> None:
    """Carry out a run sheet, or loads named here, on this computer or on a simulated machine."""
    from thresher.app import wiring
    from thresher.app.machines import open_system
    from thresher.cli.loads import LoadWish, crash_plan, print_loads, sheet_of_loads
    from thresher.cli.running import carry_out, end_engine

    if list_loads:
        print_loads(json)
        return
    if load:
        wish = LoadWish(tuple(load), cores, length, amount, hold, shape, stop_at, after_another)
        parsed = sheet_of_loads(wish, sheet)
    elif sheet:
        parsed = wiring.sheet_named(sheet)  # a broken sheet is reported before anything is made
    else:
        raise typer.BadParameter("name a run sheet, or loads with --load; --list shows them")
    if after_crash or watchdog:
        parsed = replace(parsed, crash=crash_plan(after_crash, most_crashes, watchdog, parsed.crash))
    system = open_system(None, simulate, speed)
    engine = wiring.make_engine(system, job, every, shop, simulate or "")
    try:
        status = carry_out(engine, parsed, json, unwatched_limit)
    finally:
        complete = end_engine(engine)
    _report(engine, parsed, status, json)
    if not complete:
        raise typer.Exit(COULD_NOT)
    if engine.findings:
        raise typer.Exit(FAULTS)
    raise typer.Exit(FINE if status.outcome is Outcome.CLEAN else COULD_NOT)


def _report(engine: "Engine", sheet: "RunSheet", status: "RunStatus", json: bool) -> None:
    from thresher.cli.printing import print_verdict

    path = str(engine.job_file)
    if json:
        say_json(
            {
                "sheet": sheet,
                "machine": engine.inventory,
                "run": status,
                "findings": engine.findings,
                "verdict": engine.verdict,
                "job_file": path,
            }
        )
        return
    say(f"\nRun {status.ending}: {status.outcome}. {status.ending_detail}")
    say(f"{status.beats} beats checked, {status.mismatches} mismatches, {status.corrected} corrected.")
    if engine.verdict is not None:
        print_verdict(engine.verdict)
    say(f"Job file: {path}")
