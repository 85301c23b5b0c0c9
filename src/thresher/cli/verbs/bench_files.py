"""`thresher find`, `history`, `backup`, `restore` and `forget`: what the bench keeps over jobs and years."""

import re
from datetime import datetime
from pathlib import Path
from typing import Annotated

import typer

from thresher.cli.exit_codes import COULD_NOT, FAULTS, FINE
from thresher.cli.options import Json, Shop
from thresher.cli.output import say, say_json
from thresher.model.errors import InputError, InputFault
from thresher.model.job import JOB_FILE_ENDING
from thresher.model.regular_file import is_file, is_folder

Bench = Annotated[Path | None, typer.Option("--bench", help="The folder of the bench; this user's own if left out.")]
Demo = Annotated[bool, typer.Option("--demo", help="The bench of the demo and of simulated machines.")]


def _bench(bench: Path | None, demo: bool) -> Path:
    from thresher.app.paths import bench_folder

    return bench or bench_folder(demo)


def _day(wall: float) -> str:
    return f"{datetime.fromtimestamp(wall).astimezone():%-d %b %Y}"


def find(
    words: Annotated[
        list[str], typer.Argument(help="Number, customer, machine, their words, a part, a serial, a code.")
    ],
    bench: Bench = None,
    demo: Demo = False,
    json: Json = False,
) -> None:
    """Find jobs of the bench by anything that is known of them."""
    from thresher.shop.job_index import MOST_SHOWN, find_jobs, refreshed_index

    folder = _bench(bench, demo)
    found = find_jobs(refreshed_index(folder / "jobs", folder / "shop").jobs, " ".join(words))
    if json:
        say_json(found)
    else:
        for each in found[:MOST_SHOWN]:
            said = each.trouble or each.about
            say(f"{each.number or '–':>6}  {_day(each.wall):12}  {each.machine or each.stem}  {said}")
        if len(found) > MOST_SHOWN:
            say(f"and {len(found) - MOST_SHOWN} more; add a word")
        if not found:
            say("No job on this bench has these words.")
    raise typer.Exit(FINE if found else FAULTS)


def history(job: Path, shop: Shop = None, json: Json = False) -> None:
    """What is known of a job's machine from before: visits, trends, parts that moved."""
    from thresher.app.stored_verdict import shop_of
    from thresher.journal.jobfile import read_job
    from thresher.report.history import history_of

    found = history_of(job, shop or read_job(job, shop_of))
    if json:
        say_json(found)
        return
    for visit in found.visits:
        say(f"{_day(visit.wall)}, job {visit.number or visit.job}{': ' + visit.came_with if visit.came_with else ''}")
        rows = (("found", visit.found), ("done", visit.done), ("cause", visit.cause), ("proof", visit.proved))
        for name, text in (*rows, ("", visit.trouble)):
            if text:
                say(f"  {name + ': ' if name else ''}{text}")
    for trend in found.trends:
        points = ", ".join(f"{_day(wall)} {value:.4g}" for wall, value in trend.points)
        say(f"{trend.title}{f' [{trend.unit}]' if trend.unit else ''}: {points}")
    for line in (*found.moved, *found.troubles):
        say(line)
    if not (found.visits or found.troubles):
        say("This machine was not here before.")


def backup(
    out: Annotated[Path, typer.Option("--out", help="The file to write, such as bench.tar.gz.")],
    bench: Bench = None,
    demo: Demo = False,
) -> None:
    """Back up the whole bench, jobs and shop folder with the seal key, as one file."""
    from thresher.shop.backup import back_up

    made = back_up(_bench(bench, demo), out)
    say(f"Written: {out}, {made.jobs} job{'' if made.jobs == 1 else 's'}, {made.files} files, {made.size / 1e6:.1f} MB")
    say("It holds customers' names and the seal key: keep it where nobody else can read it.")
    for line in made.left_out:
        say(f"Left out: {line}")
    raise typer.Exit(FAULTS if made.left_out else FINE)


def restore(
    file: Path,
    bench: Bench = None,
    demo: Demo = False,
    replace: Annotated[bool, typer.Option("--replace", help="Move files that are in the way aside first.")] = False,
) -> None:
    """Put a backup back, after every file in it was checked."""
    from thresher.shop.backup import restore as put_back

    folder = _bench(bench, demo)
    made = put_back(file, folder, replace)
    say(f"Restored into {folder}: {made.new} files, {made.same} were there already")
    for name in made.aside:
        say(f"Moved aside: {name}")


def forget(
    jobs: Annotated[list[Path] | None, typer.Argument(metavar="[JOB...]", help="Job files.")] = None,
    before: Annotated[
        str, typer.Option("--before", metavar="DATE", help="All jobs last changed before 2025-01-31.")
    ] = "",
    bench: Bench = None,
    demo: Demo = False,
) -> None:
    """Remove the customer's name and contact from jobs; findings, runs and seals stay."""
    from thresher.shop.job_index import refreshed_index
    from thresher.shop.personal_data import forget_customer

    folder = _bench(bench, demo)
    chosen = list(jobs or ())
    if before:
        chosen += _older(folder / "jobs", before)
    elif not chosen:
        raise InputError("forget", [InputFault("jobs", "name job files, or --before DATE")])
    failed = False
    for path in chosen:
        done = forget_customer(path)
        failed |= bool(done.trouble)
        removed = f"removed: {', '.join(done.removed)}" if done.removed else "no name in it"
        say(f"{done.job}: {done.trouble or removed}")
        if done.still_named:
            entries = "1 entry" if done.still_named == 1 else f"{done.still_named} entries"
            say(f"  {entries} of its record still have the name; the record is not changed")
    if is_folder(folder / "shop"):
        refreshed_index(folder / "jobs", folder / "shop")
    raise typer.Exit(COULD_NOT if failed else FINE)


def _older(jobs: Path, before: str) -> list[Path]:
    if not re.fullmatch(r"\d{4}-\d\d-\d\d", before):
        raise InputError("--before", [InputFault("date", f"expected a date such as 2025-01-31, found {before!r}")])
    try:
        limit = datetime.strptime(before, "%Y-%m-%d").astimezone().timestamp()
    except ValueError as error:
        raise InputError("--before", [InputFault("date", f"there is no {before}")]) from error
    return [path for path in sorted(jobs.glob(f"*{JOB_FILE_ENDING}")) if is_file(path) and path.stat().st_mtime < limit]
