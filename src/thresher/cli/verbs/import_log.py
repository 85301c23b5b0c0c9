"""`thresher import`."""

from pathlib import Path
from typing import Annotated

import typer

from thresher.cli.exit_codes import FAULTS, FINE
from thresher.cli.options import JobPath, Json, Shop
from thresher.cli.output import say, say_json


def import_log(
    log: Annotated[Path, typer.Argument(help="A CSV log with titles, units and times, from another program.")],
    job: JobPath = None,
    column: Annotated[
        list[str] | None,
        typer.Option(help="What a column holds: TITLE=QUANTITY[,PART], or TITLE= to leave it out."),
    ] = None,
    shop: Shop = None,
    json: Json = False,
) -> None:
    """Import a CSV log from another program and judge it."""
    from thresher.app import paths
    from thresher.importers.column_matching import changed_columns, recall, remember
    from thresher.importers.csv_log import guess, match_log, read_log
    from thresher.importers.log_job import write_log_job
    from thresher.model.regular_file import shown_name
    from thresher.model.sheet import clock_text

    read = read_log(log)
    keep = shop or paths.bench_folder(simulated=False) / "shop"
    columns = changed_columns(recall(keep, read) or guess(read), column or [])
    matched = match_log(read, columns)
    remember(keep, read, columns)
    path = job or paths.new_job_path(log.stem, simulated=False)
    findings = write_log_job(matched, shown_name(log), path)
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
