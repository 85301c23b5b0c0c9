"""`thresher report`."""

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from thresher.cli.options import Shop
from thresher.cli.output import say
from thresher.model.errors import InputError, InputFault

if TYPE_CHECKING:
    from thresher.report.sections import Choice


def report(
    job: Path,
    out: Annotated[
        Path,
        typer.Option("--out", help="The file to write: .pdf .html .csv .jsonl .parquet .json .png or .invoice.csv."),
    ],
    reader: Annotated[str, typer.Option("--for", help="Whom it is for: customer, shop or supplier.")] = "shop",
    paper: Annotated[str, typer.Option(help="A4 or Letter; the shop's own if left out.")] = "",
    mask: Annotated[bool, typer.Option(help="Mask serial numbers and addresses.")] = False,
    seal: Annotated[bool, typer.Option(help="Seal PDF and HTML with the shop's key.")] = True,
    with_names: Annotated[bool, typer.Option(help="Keep serial numbers and addresses in JSON.")] = False,
    shop: Shop = None,
) -> None:
    """Write a report of a job file: PDF, HTML, CSV, JSON, picture."""
    from thresher.app import bench_picture, handing_over, stored_verdict
    from thresher.journal.jobfile import JobFile
    from thresher.report.files import ReportOptions, check_format, write_report
    from thresher.shop.details import read_details

    check_format(out)
    if out.suffix == ".png":
        bench_picture.draw_bench(job, out)
        say(f"Written: {out}")
        return
    with JobFile(job, read_only=True) as stored:
        mine = shop or stored_verdict.shop_of(stored)
        if out.suffix not in handing_over.SEALED_ENDINGS:
            result = stored_verdict.job_verdict(stored, mine)
            write_report(stored, out, ReportOptions(result, with_names, mine))
            say(f"Written: {out}")
            return
        choice = _choice(reader, paper or read_details(mine).paper.value, mask)
        seal_made = handing_over.write_handover(stored, out, choice, mine, sealed=seal)
    say(f"Written: {out}")
    if seal_made is not None:
        say(f"Seal {seal_made.seal.code}")
        trouble = handing_over.keep_seal(job, seal_made)
        if trouble:
            say(f"The job itself does not hold this seal: {trouble}")


def _choice(reader: str, paper: str, mask: bool) -> "Choice":
    from thresher.report.sections import Reader, usual_choice
    from thresher.shop.details import Paper

    readers, papers = {each.value: each for each in Reader}, {each.value.lower(): each for each in Paper}
    faults = []
    if reader not in readers:
        faults.append(InputFault("--for", f"expected {', '.join(readers)}, found {reader!r}"))
    if paper.lower() not in papers:
        faults.append(InputFault("--paper", f"expected A4 or Letter, found {paper!r}"))
    if faults:
        raise InputError("report", faults)
    chosen = usual_choice(readers[reader], papers[paper.lower()])
    return replace(chosen, serials=False) if mask else chosen
