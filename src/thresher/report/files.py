"""Writing a report in the format that its file name ends with: a registry of formats."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import msgspec

from thresher.diagnosis.decision import load_prices, read_prices
from thresher.inventory.identity import masked
from thresher.journal.jobfile import JobFile
from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.model.trials import EMPTY_BOOK
from thresher.model.verdict import Verdict
from thresher.model.whole_file import write_whole
from thresher.report.html import render
from thresher.report.invoice import bill_csv, bill_of
from thresher.report.readings import json_lines, write_parquet
from thresher.report.table import readings_csv
from thresher.shop.details import ShopDetails, read_details
from thresher.shop.store import prices_path


@dataclass(frozen=True, slots=True)
class ReportOptions:
    """What a report needs beside the job file; `with_names` keeps serial numbers and addresses in JSON.

    `shop` is the folder with prices and details, for the invoice.
    """

    verdict: Verdict
    with_names: bool = False
    shop: Path | None = None


def _json(stored: JobFile, options: ReportOptions) -> str:
    runs = [
        {
            "run": each if options.with_names else replace(each, machine=masked(each.machine)),
            "findings": stored.findings(each),
            "tape": stored.tape(each),
        }
        for each in stored.runs()
    ]
    found = {"job": stored.job(), "idle_readings": stored.baseline(), "runs": runs, "verdict": options.verdict}
    return msgspec.json.encode(found).decode()


def _invoice(stored: JobFile, options: ReportOptions) -> str:
    details = read_details(options.shop) if options.shop is not None else ShopDetails()
    prices = read_prices(prices_path(options.shop)) if options.shop is not None else load_prices()
    return bill_csv(bill_of(stored.book() or EMPTY_BOOK, options.verdict, details, prices))


TEXT_FORMATS: dict[str, Callable[[JobFile, ReportOptions], str]] = {
    ".html": lambda stored, options: render(stored, options.verdict),
    ".csv": lambda stored, _options: readings_csv(stored),
    ".jsonl": lambda stored, _options: "".join(f"{line}\n" for line in json_lines(stored)),
    ".json": _json,
}
INVOICE = ".invoice.csv"
"""How the name of a file with the lines of an invoice ends."""
LAID_OUT = (".pdf",)
"""Laid out for paper and sealed (`app/handing_over.py`), as HTML is."""
FILE_FORMATS: dict[str, Callable[[JobFile, Path], None]] = {".parquet": write_parquet}
PICTURE_FORMATS = (".png",)
"""Drawn by the window's own code in a process of its own (`app/bench_picture.py`)."""


def check_format(out: Path) -> None:
    """Raise InputError for a file name whose ending is no format."""
    endings = (*LAID_OUT, *TEXT_FORMATS, *FILE_FORMATS, *PICTURE_FORMATS)
    if out.suffix not in endings:
        expected = f"expected a name ending in {', '.join(endings[:-1])} or {endings[-1]}"
        raise InputError("report", [InputFault("--out", f"{expected}, found {out.name!r}")])


def write_report(stored: JobFile, out: Path, options: ReportOptions) -> None:
    """Write a report. Raises InputError for an unknown ending, EnvironmentFault when the file cannot be written."""
    check_format(out)
    try:
        if out.name.endswith(INVOICE):
            write_whole(out, _invoice(stored, options).encode("utf-8"), 0o644)
        elif out.suffix in FILE_FORMATS:
            FILE_FORMATS[out.suffix](stored, out)
        else:
            write_whole(out, TEXT_FORMATS[out.suffix](stored, options).encode("utf-8"), 0o644)
    except OSError as error:
        raise EnvironmentFault(
            f"writing {out}", error.strerror or str(error), "Choose a folder that you can write to."
        ) from error
