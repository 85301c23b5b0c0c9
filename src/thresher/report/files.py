"""Writing a report in the format that its file name ends with: a registry of formats."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import msgspec

from thresher.inventory.identity import masked
from thresher.journal.jobfile import JobFile
from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.model.verdict import Verdict
from thresher.report.html import render
from thresher.report.readings import json_lines, write_parquet
from thresher.report.table import readings_csv


@dataclass(frozen=True, slots=True)
class ReportOptions:
    """What a report needs beside the job file; `with_names` keeps serial numbers and addresses in JSON."""

    verdict: Verdict
    with_names: bool = False


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


TEXT_FORMATS: dict[str, Callable[[JobFile, ReportOptions], str]] = {
    ".html": lambda stored, options: render(stored, options.verdict),
    ".csv": lambda stored, _options: readings_csv(stored),
    ".jsonl": lambda stored, _options: "".join(f"{line}\n" for line in json_lines(stored)),
    ".json": _json,
}
FILE_FORMATS: dict[str, Callable[[JobFile, Path], None]] = {".parquet": write_parquet}
PICTURE_FORMATS = (".png",)
"""Drawn by the window's own code in a process of its own (`app/bench_picture.py`)."""


def check_format(out: Path) -> None:
    """Raise InputError for a file name whose ending is no format."""
    endings = (*TEXT_FORMATS, *FILE_FORMATS, *PICTURE_FORMATS)
    if out.suffix not in endings:
        expected = f"expected a name ending in {', '.join(endings[:-1])} or {endings[-1]}"
        raise InputError("report", [InputFault("--out", f"{expected}, found {out.name!r}")])


def write_report(stored: JobFile, out: Path, options: ReportOptions) -> None:
    """Write a report. Raises InputError for an unknown ending, EnvironmentFault when the file cannot be written."""
    check_format(out)
    try:
        if out.suffix in FILE_FORMATS:
            FILE_FORMATS[out.suffix](stored, out)
        else:
            out.write_text(TEXT_FORMATS[out.suffix](stored, options), encoding="utf-8")
    except OSError as error:
        raise EnvironmentFault(
            f"writing {out}", error.strerror or str(error), "Choose a folder that you can write to."
        ) from error
