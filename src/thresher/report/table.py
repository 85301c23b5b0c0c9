"""Readings as CSV: units in the header, ISO 8601 times, one row a tick, missing readings as empty cells."""

import csv
import io
from collections.abc import Iterable
from datetime import UTC, datetime

from thresher.journal.jobfile import JobFile
from thresher.model.channels import Channel, Tick

_FORMULAS = ("=", "+", "-", "@", "\t", "\r")


def column_titles(channels: tuple[Channel, ...]) -> list[str]:
    """Return the titles of the channels' columns: name and unit."""
    return [f"{channel.name} [{channel.unit}]" for channel in channels]


def guarded(cell: str) -> str:
    """Return a cell that no spreadsheet takes for a formula: one that begins as one gets an apostrophe before it."""
    return f"'{cell}" if cell[:1] in _FORMULAS else cell


def iso_time(wall: float) -> str:
    """Return Unix time as ISO 8601 in UTC, to the millisecond."""
    return datetime.fromtimestamp(wall, UTC).isoformat(timespec="milliseconds")


def _cells(values: Iterable[float | None]) -> list[str]:
    # a missing reading is None in a tick and NaN, which differs from itself, in a job file
    return ["" if value is None or value != value else f"{value:.7g}" for value in values]


def readings_csv(stored: JobFile) -> str:
    """Return all readings of a job as CSV. Runs follow each other."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    header: list[str] | None = None
    for run in stored.runs():
        columns = ["time", "run", "run time [s]", *map(guarded, column_titles(run.channels))]
        if columns != header:
            writer.writerow(columns)
            header = columns
        readings = stored.readings(run)
        for at, wall, values in zip(readings.at, readings.wall, readings.values, strict=True):
            writer.writerow([iso_time(wall), run.number, f"{at - run.began_at:.3f}", *_cells(values)])
    return out.getvalue()


def ticks_csv(channels: tuple[Channel, ...], ticks: list[Tick]) -> str:
    """Return ticks that belong to no run as CSV."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["time", *map(guarded, column_titles(channels))])
    writer.writerows([iso_time(tick.wall), *_cells(tick.values)] for tick in ticks)
    return out.getvalue()
