"""`thresher demo`."""

from pathlib import Path
from typing import Annotated

import typer

from thresher.cli.exit_codes import COULD_NOT, FINE
from thresher.cli.options import Speed
from thresher.cli.output import say, write_text
from thresher.cli.verbs.window import open_window


def demo(
    out: Annotated[Path, typer.Option(help="Where report and picture go without a display.")] = Path("demo-output"),
    speed: Speed = None,
    fresh: Annotated[bool, typer.Option(help="Reset the demo bench; everything typed on it is deleted.")] = False,
) -> None:
    """Open the demo jobs; without a display, run in the terminal."""
    from thresher.app import paths
    from thresher.app.demo import prepare_demo_bench
    from thresher.app.launch import why_no_display

    reason = why_no_display()
    if reason is None:
        job, shop = prepare_demo_bench(paths.bench_folder(simulated=True), fresh)
        arguments = ["--demo", "--job", str(job), "--shop", str(shop)]
        open_window(arguments + ([] if speed is None else ["--speed", str(speed)]))
    say(f"The demo runs without a window: {reason}.")
    run_demo(out, 0.0 if speed is None else speed)
    raise typer.Exit(FINE)


def run_demo(out: Path, speed: float) -> None:
    """Carry out the demo run in the terminal and leave report, picture and job file in a folder."""
    from thresher.app import bench_picture, stored_verdict, wiring
    from thresher.app.machines import open_system
    from thresher.cli.printing import print_verdict
    from thresher.cli.running import carry_out, end_engine
    from thresher.journal.jobfile import JobFile
    from thresher.report.html import render

    out.mkdir(parents=True, exist_ok=True)
    job = out / "lighthouse-playout.thresher"
    for old in out.glob(f"{job.name}*"):
        old.unlink()
    say(f"Simulated machine {wiring.DEMO_SCENARIO}, run sheet {wiring.DEMO_SHEET}.")
    system = open_system(simulate=wiring.DEMO_SCENARIO, speed=speed)
    engine = wiring.make_engine(system, job, shop=out / "shop", scenario=wiring.DEMO_SCENARIO)
    try:
        status = carry_out(engine, wiring.sheet_named(wiring.DEMO_SHEET), quiet=False)
        verdict = engine.verdict
    finally:
        complete = end_engine(engine)
    if not complete:
        raise typer.Exit(COULD_NOT)
    say(f"\nRun {status.ending}: {status.outcome}, {status.faults} faults, {status.corrected} corrected.")
    if verdict is not None:
        print_verdict(verdict)
    report, picture = out / "report.html", out / "bench.png"
    with JobFile(job, read_only=True) as stored:
        write_text(report, render(stored, stored_verdict.job_verdict(stored, out / "shop")))
    bench_picture.draw_bench(job, picture)
    say(f"\nReport:  {report}\nPicture: {picture}\nJob:     {job}")
