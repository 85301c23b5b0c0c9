"""`thresher report`."""

from pathlib import Path
from typing import Annotated

import typer

from thresher.cli.options import Shop
from thresher.cli.output import say


def report(
    job: Path,
    out: Annotated[Path, typer.Option("--out", help="The file to write: .html .csv .jsonl .parquet .json or .png.")],
    with_names: Annotated[bool, typer.Option(help="Keep serial numbers and addresses in JSON.")] = False,
    shop: Shop = None,
) -> None:
    """Write a report of a job file: HTML, CSV, JSON, picture."""
    from thresher.app import bench_picture, stored_verdict
    from thresher.journal.jobfile import JobFile
    from thresher.report.files import ReportOptions, check_format, write_report

    check_format(out)
    if out.suffix == ".png":
        bench_picture.draw_bench(job, out)
    else:
        with JobFile(job, read_only=True) as stored:
            result = stored_verdict.job_verdict(stored, shop or stored_verdict.shop_of(stored))
            write_report(stored, out, ReportOptions(result, with_names))
    say(f"Written: {out}")
