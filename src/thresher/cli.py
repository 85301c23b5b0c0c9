"""The command line. Every verb works without a screen and ends with 0 (fine), 1 (faults found) or 2 (could not).

What a verb needs beyond the machine itself is imported inside it: a look at the parts should not wait for the engine.
"""

import os
import signal
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NoReturn

import msgspec
import typer

from thresher import systems
from thresher.events.machine_checks.registers import Vendor
from thresher.inventory.identity import masked
from thresher.inventory.machine import read_inventory
from thresher.launch import why_no_display
from thresher.model.channels import Tick
from thresher.model.errors import EnvironmentFault, InputError, InputFault, ThresherError
from thresher.model.sheet import clock_text
from thresher.printing import (
    print_bad_pages,
    print_inventory,
    print_tick,
    print_verdict,
    say,
    say_json,
)
from thresher.proving.policy_names import Policy
from thresher.sensors.discovery import discover
from thresher.system.hardware_names import HardwareNames

if TYPE_CHECKING:
    from thresher.engine.engine import Engine
    from thresher.engine.protocol import EngineEvent, RunStatus
    from thresher.journal.jobfile import JobFile
    from thresher.model.verdict import Verdict

FINE, FAULTS, COULD_NOT = 0, 1, 2

app = typer.Typer(
    help="Verified loads, readings, machine checks and a reasoned verdict for the PC repair bench.",
    no_args_is_help=False,
    add_completion=False,
    pretty_exceptions_enable=False,
)
bench_model_app = typer.Typer(help="Bench models: simulated machines with known faults.")
app.add_typer(bench_model_app, name="bench-model")

Json = Annotated[bool, typer.Option("--json", help="Print JSON instead of text for people.")]
Root = Annotated[Path | None, typer.Option("--root", help="Read a directory that looks like / instead.")]
BenchModelFile = Annotated[
    str | None, typer.Option("--bench-model", help="A scenario file, or the name of one that ships.")
]
Speed = Annotated[float | None, typer.Option("--speed", min=0.0, help="Seconds a second; 0 as fast as can be.")]
Shop = Annotated[
    Path | None, typer.Option("--shop", help="The folder of what the shop keeps: shelf, machines, own sheets.")
]
JobPath = Annotated[Path | None, typer.Option("--job", help="The job file; a new one when not given.")]
Every = Annotated[float, typer.Option("--every", min=0.1, max=60.0, help="Seconds between readings.")]


@app.callback(invoke_without_command=True)
def window(context: typer.Context, every: Every = 1.0) -> None:
    """Open the window on this computer."""
    if context.invoked_subcommand is None:
        _open_window(["--live", "--every", str(every)])


def _open_window(arguments: list[str]) -> NoReturn:
    reason = why_no_display()
    if reason is not None:
        raise EnvironmentFault(
            "opening the window",
            reason,
            "Start it from a desktop, or use thresher run, watch and report, which need none.",
        )
    sys.stdout.flush()
    os.execv(sys.executable, [sys.executable, "-m", "thresher.ui", *arguments])  # noqa: S606 (our own program)


@app.command()
def demo(
    out: Annotated[Path, typer.Option(help="Where report and picture go without a display.")] = Path("demo-output"),
    speed: Speed = None,
    fresh: Annotated[bool, typer.Option(help="Begin the demo bench anew; what was typed on it goes.")] = False,
) -> None:
    """The window with the demo bench; without a display the same demo line by line."""
    from thresher import bootstrap
    from thresher.demo_bench import prepare_demo_bench
    from thresher.journal.jobfile import JobFile

    reason = why_no_display()
    if reason is None:
        job, shop = prepare_demo_bench(bootstrap.bench_folder(simulated=True), fresh)
        arguments = ["--demo", "--job", str(job), "--shop", str(shop)]
        _open_window(arguments + ([] if speed is None else ["--speed", str(speed)]))
    say(f"The demo runs without a window: {reason}.")
    out.mkdir(parents=True, exist_ok=True)
    job = out / "lighthouse-playout.thresher"
    for old in out.glob(f"{job.name}*"):
        old.unlink()
    say(f"Bench model {bootstrap.DEMO_SCENARIO}, run sheet {bootstrap.DEMO_SHEET}; the machine is simulated.")
    system = systems.open_system(bench_model=bootstrap.DEMO_SCENARIO, speed=0.0 if speed is None else speed)
    engine = bootstrap.make_engine(system, job, shop=out / "shop", model=bootstrap.DEMO_SCENARIO)
    status = _carry_out(engine, bootstrap.DEMO_SHEET, quiet=False)
    verdict = engine.verdict
    engine.close()
    say(f"\nRun {status.ending}: {status.outcome}, {status.faults} faults, {status.corrected} corrected.")
    if verdict is not None:
        print_verdict(verdict)
    report_path, picture = out / "report.html", out / "bench.png"
    from thresher.report.html import render

    with JobFile(job) as stored:
        report_path.write_text(render(stored, bootstrap.job_verdict(stored, out / "shop")), encoding="utf-8")
    bootstrap.take_picture(job, picture)
    say(f"\nReport:  {report_path}\nPicture: {picture}\nJob:     {job}")
    raise typer.Exit(FINE)


@app.command()
def inventory(root: Root = None, bench_model: BenchModelFile = None, json: Json = False) -> None:
    """What this machine is: its parts, places and limits, and what could not be known."""
    system = systems.open_system(root, bench_model)
    found = read_inventory(system, HardwareNames())
    discovery = discover(system, found)
    if json:
        say_json({"inventory": found, "channels": discovery.channels, "not_read": discovery.unknown})
        return
    print_inventory(found, discovery)


@contextmanager
def _interrupt_stops(engine: "Engine") -> Iterator[None]:
    """Let Ctrl+C and a polite end from outside stop the run in order instead of tearing the process down."""

    def on_signal(_number: int, _frame: object) -> None:
        engine.quit()

    before = {number: signal.signal(number, on_signal) for number in (signal.SIGINT, signal.SIGTERM)}
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


@app.command()
def watch(
    root: Root = None,
    bench_model: BenchModelFile = None,
    seconds: Annotated[float, typer.Option(min=0.1, help="How long.")] = 10.0,
    every: Every = 1.0,
    speed: Speed = None,
    csv: Annotated[Path | None, typer.Option(help="Write the readings to this file as CSV.")] = None,
    json: Json = False,
) -> None:
    """Readings, live."""
    from thresher import bootstrap
    from thresher.engine.protocol import TapeEvent, TickEvent

    system = systems.open_system(root, bench_model, speed)
    with tempfile.TemporaryDirectory(prefix="thresher-watch-") as folder:
        engine = bootstrap.make_engine(system, Path(folder) / "watch.thresher", every, Path(folder) / "shop")
        rows: list[Tick] = []

        def on_event(event: "EngineEvent") -> None:
            if isinstance(event, TickEvent):
                rows.append(event.tick)
                if json:
                    say_json(event.tick)
                else:
                    print_tick(engine.channels, event.tick)
            elif isinstance(event, TapeEvent) and not json:
                say(f"  {event.entry.code or '-'} {event.entry.title}: {event.entry.detail}")

        engine.subscribe(on_event)
        if not json:
            for fact in engine.unknown:
                say(f"Not read: {fact.name}: {fact.value} ({fact.source})")
        with _interrupt_stops(engine):
            engine.watch(seconds)
        engine.close()
        if csv is not None:
            from thresher.report.table import ticks_csv

            _write_text(csv, ticks_csv(engine.channels, rows))


def _write_text(path: Path, text: str) -> None:
    try:
        path.write_text(text, encoding="utf-8")
    except OSError as error:
        raise EnvironmentFault(
            f"writing {path}", error.strerror or str(error), "Choose a folder that can be written."
        ) from error


def _carry_out(engine: "Engine", sheet: str, quiet: bool) -> "RunStatus":
    from thresher import bootstrap
    from thresher.engine.protocol import TapeEvent

    def on_event(event: "EngineEvent") -> None:
        if isinstance(event, TapeEvent) and not quiet:
            entry = event.entry
            at = clock_text(entry.run_at) if entry.run_at is not None else "       "
            say(f"{at}  {entry.code or '     '}  {entry.title}: {entry.detail}")

    engine.subscribe(on_event)
    if not quiet:
        for fact in engine.unknown:
            say(f"Not read: {fact.name}: {fact.value} ({fact.source})")
    parsed = bootstrap.sheet_named(sheet)
    with _interrupt_stops(engine):
        status = engine.run_to_end(parsed)
    if engine.conductor.active:
        sentence = engine.stop()
        if not quiet:
            say(f"Stopped: {sentence}")
        status = engine.status()
    return status


@app.command()
def run(
    sheet: Annotated[str, typer.Argument(help="A run sheet file, or the name of one that ships.")],
    bench_model: BenchModelFile = None,
    speed: Speed = None,
    job: JobPath = None,
    every: Every = 1.0,
    shop: Shop = None,
    json: Json = False,
) -> None:
    """Carry a run sheet out, on this computer or on a bench model."""
    from thresher import bootstrap

    parsed_first = bootstrap.sheet_named(sheet)  # a broken sheet is told before anything is made
    system = systems.open_system(None, bench_model, speed)
    engine = bootstrap.make_engine(system, job, every, shop, bench_model or "")
    try:
        status = _carry_out(engine, sheet, quiet=json)
        verdict, findings, path = engine.verdict, engine.findings, engine.snapshot().job_file
    finally:
        engine.close()
    if json:
        say_json({
            "sheet": parsed_first, "machine": engine.inventory, "run": status, "findings": findings,
            "verdict": verdict, "job_file": path,
        })  # fmt: skip
    else:
        say(f"\nRun {status.ending}: {status.outcome}. {status.ending_detail}")
        say(f"{status.beats} beats checked, {status.mismatches} mismatches, {status.corrected} corrected.")
        if verdict is not None:
            print_verdict(verdict)
        say(f"Job file: {path}")
    if status.ending != "finished" and not findings:
        raise typer.Exit(COULD_NOT)
    raise typer.Exit(FAULTS if findings else FINE)


@app.command()
def decode(
    what: Annotated[str, typer.Argument(help="A fault code, register, stop code, lines of a log, a file, or -.")] = "",
    vendor: Annotated[Vendor, typer.Option(help="Whose register layout, where the text does not tell.")] = Vendor.INTEL,
    boot: Annotated[int | None, typer.Option(max=0, help="The journal of this boot (0) or of an earlier one.")] = None,
    json: Json = False,
) -> None:
    """Codes, registers, stop codes, dumps, firmware records and kernel logs into findings and parts."""
    from thresher.decode_verb import decode_boot, decode_given, print_decoded

    if bool(what) == (boot is not None):
        raise InputError("decode", [InputFault("what", "give something to decode, or --boot")])
    decoded = decode_boot(boot, vendor) if boot is not None else decode_given(what, vendor)
    print_decoded(decoded, json)
    looked_up = all(thing.what == "fault code" for thing in decoded.things)
    raise typer.Exit(FINE if looked_up or not decoded.findings else FAULTS)


@app.command()
def verdict(job: Path, shop: Shop = None, json: Json = False) -> None:
    """Suspects, decision and next step for a job file."""
    from thresher import bootstrap
    from thresher.journal.jobfile import JobFile

    with JobFile(job) as stored:
        result = bootstrap.job_verdict(stored, shop or bootstrap.shop_of(stored))
        interrupted = [sentence for run in stored.runs() if (sentence := stored.interruption(run))]
    if json:
        say_json(result)
    else:
        for sentence in interrupted:
            say(f"A run was {sentence}.")
        print_verdict(result)
        say(f"Next: {result.suspects[0].next_step}")
    named = result.suspects[0].kind is not None
    raise typer.Exit(FAULTS if named else FINE)


@app.command("bad-pages")
def bad_pages(job: Path, json: Json = False) -> None:
    """The kernel's own parameters that keep a machine off its bad memory until the part comes."""
    from thresher.diagnosis.memory_shape import wrong_places
    from thresher.journal.jobfile import JobFile

    with JobFile(job) as stored:
        places = wrong_places(finding for run in stored.runs() for finding in stored.findings(run))
    print_bad_pages(places, json)
    raise typer.Exit(FAULTS if places else FINE)


@app.command()
def report(
    job: Path,
    out: Annotated[Path, typer.Option("--out", help="html, csv, jsonl, parquet, json or png by its ending.")],
    with_names: Annotated[bool, typer.Option(help="Keep serial numbers and addresses in JSON.")] = False,
    shop: Shop = None,
) -> None:
    """A report of a job file."""
    from thresher import bootstrap
    from thresher.journal.jobfile import JobFile

    endings = (".html", ".csv", ".jsonl", ".parquet", ".json", ".png")
    if out.suffix not in endings:
        expected = f"expected a name ending in {', '.join(endings[:-1])} or {endings[-1]}"
        raise InputError("report", [InputFault("--out", f"{expected}, found {out.name!r}")])
    from thresher.exchange.readings_out import json_lines, write_parquet
    from thresher.report.html import render
    from thresher.report.table import readings_csv

    with JobFile(job) as stored:
        result = bootstrap.job_verdict(stored, shop or bootstrap.shop_of(stored))
        if out.suffix == ".html":
            _write_text(out, render(stored, result))
        elif out.suffix == ".csv":
            _write_text(out, readings_csv(stored))
        elif out.suffix == ".jsonl":
            _write_text(out, "".join(f"{line}\n" for line in json_lines(stored)))
        elif out.suffix == ".parquet":
            write_parquet(stored, out)
        elif out.suffix == ".json":
            _write_text(out, _report_json(stored, result, with_names))
    if out.suffix == ".png":
        bootstrap.take_picture(job, out)
    say(f"Written: {out}")


@app.command("import")
def import_log(
    log: Annotated[Path, typer.Argument(help="A CSV log with titles, units and times, from another program.")],
    job: JobPath = None,
    column: Annotated[
        list[str] | None,
        typer.Option(help="Take a column for something: TITLE=QUANTITY[,PART], or TITLE= to leave it out."),
    ] = None,
    shop: Shop = None,
    json: Json = False,
) -> None:
    """Take a log from elsewhere in, to be looked at and judged here."""
    from thresher import bootstrap
    from thresher.exchange.log_in import guess, match_log, read_log
    from thresher.exchange.log_job import write_log_job
    from thresher.exchange.matching import changed_columns, recall, remember

    read = read_log(log)
    keep = shop or bootstrap.bench_folder(simulated=False) / "shop"
    columns = changed_columns(recall(keep, read) or guess(read), column or [])
    matched = match_log(read, columns)
    remember(keep, read, columns)
    path = job or bootstrap.new_job_path(log.stem, simulated=False)
    findings = write_log_job(matched, log.name, path)
    if json:
        say_json(
            {"job_file": str(path), "channels": matched.channels, "left_out": matched.left_out, "findings": findings}
        )
    else:
        for channel in matched.channels:
            say(f"  {channel.name}: {channel.quantity.value} of {channel.kind.value}, {channel.unit}")
        for title in matched.left_out:
            say(f"  left out: {title}")
        for finding in findings:
            say(f"{clock_text(finding.run_at or 0.0)}  {finding.code}  {finding.title}: {finding.detail}")
        say(f"{len(matched.wall)} rows, {len(findings)} findings. Job file: {path}")
    raise typer.Exit(FAULTS if findings else FINE)


def _report_json(stored: "JobFile", result: "Verdict", with_names: bool) -> str:
    runs = [
        {
            "run": each if with_names else replace(each, machine=masked(each.machine)),
            "findings": stored.findings(each),
            "tape": stored.tape(each),
        }
        for each in stored.runs()
    ]
    found = {"job": stored.job(), "idle_readings": stored.baseline(), "runs": runs, "verdict": result}
    return msgspec.json.encode(found).decode()


@app.command()
def capture(
    out: Annotated[Path, typer.Option("--out", help="The capture to write, a .tar.gz.")],
    root: Root = None,
    bench_model: BenchModelFile = None,
    with_names: Annotated[bool, typer.Option(help="Keep serial numbers, addresses and names.")] = False,
) -> None:
    """A capture of this machine, to be looked at later or elsewhere with --root."""
    count, unknown = systems.capture_machine(systems.open_system(root, bench_model), out, with_names)
    say(f"Written: {out}, {count} files, {'names kept' if with_names else 'serial numbers and names masked'}")
    for fact in unknown:
        say(f"Not read: {fact.name}: {fact.value} ({fact.source})")


@bench_model_app.command("check")
def check_bench_model(scenario: Path, json: Json = False) -> None:
    """Is the scenario sound; what it contains."""
    from thresher.benchmodels.scenario import explain, load_scenario

    loaded = load_scenario(systems.scenario_path(str(scenario)))
    if json:
        say_json(loaded)
        return
    say(f"{loaded.title}: sound")
    say(f"  {loaded.processor.name}, {loaded.processor.cores} cores, {len(loaded.modules)} memory modules")
    for fault in loaded.faults:
        say(f"  fault: {explain(fault)}")
    if not loaded.faults:
        say("  no fault")


@app.command()
def prove(
    cases: Annotated[int, typer.Option("--cases", min=1, max=100_000, help="How many cases are drawn.")] = 100,
    seed: Annotated[int, typer.Option("--seed", min=0, help="Chance; the same seed draws the same cases.")] = 1,
    policy: Annotated[Policy, typer.Option("--policy", help="How each job is gone about.")] = Policy.OURS,
    processes: Annotated[
        int | None, typer.Option("--processes", min=1, max=256, help="At the same time; all cores when not given.")
    ] = None,
    each: Annotated[bool, typer.Option("--each", help="Every case, not only the sums.")] = False,
    json: Json = False,
) -> None:
    """The proving ground: drawn machines with drawn faults, the program's own advice followed, and scores."""
    from thresher.proving.ground import prove as prove_cases
    from thresher.proving.printing import print_result, print_score
    from thresher.proving.scores import by_ailment, score

    def progress(done: int) -> None:
        if not json and sys.stderr.isatty():
            typer.echo(f"\r{done} of {cases}", nl=done == cases, err=True)

    results = prove_cases(seed, cases, policy, processes or os.cpu_count() or 1, progress)
    summed = score(policy, results)
    if json:
        say_json({"seed": seed, "score": summed, "by_ailment": by_ailment(results), "cases": results if each else ()})
        return
    for result in results if each else ():
        print_result(result)
    print_score(summed, seed, by_ailment(results))


@app.command("bench-speed")
def bench_speed(json: Json = False) -> None:
    """Thresher's own speed against this machine's limits, measured in one run."""
    os.execv(sys.executable, [sys.executable, "-m", "thresher.speed", *(["--json"] if json else [])])  # noqa: S606


@app.command(hidden=True)
def engine(
    socket: Annotated[Path, typer.Option("--socket")],
    root: Root = None,
    bench_model: BenchModelFile = None,
    speed: Speed = None,
    job: JobPath = None,
    every: Every = 1.0,
    sheet: Annotated[str | None, typer.Option("--sheet")] = None,
    linger: Annotated[float, typer.Option("--linger", min=1.0)] = 1800.0,
    shop: Shop = None,
) -> None:
    """The engine as a process of its own, for windows."""
    from thresher import bootstrap
    from thresher.engine.server import serve, take_socket  # asyncio is slow to load and needed only here

    listening = take_socket(socket)
    try:
        system = systems.open_system(root, bench_model, speed)
        made = bootstrap.make_engine(system, job, every, shop, bench_model or "")
        if sheet is not None:
            made.put_sheet(bootstrap.sheet_named(sheet))
        else:
            made.put_proposed()
        with _interrupt_stops(made):
            serve(made, listening, linger)
    finally:
        listening.close()
        socket.unlink(missing_ok=True)


def main() -> None:
    """Run the command line; Thresher's own errors are told in their own words and end with 2."""
    try:
        app()
    except ThresherError as error:
        typer.echo(str(error), err=True)
        sys.exit(COULD_NOT)


if __name__ == "__main__":
    main()
