"""Readings as CSV: units in the header, ISO 8601 times, one row a tick."""

import csv
import io
from datetime import UTC, datetime

import numpy as np

from thresher.journal.jobfile import JobFile


def readings_csv(stored: JobFile) -> str:
    """Return all readings of a job as CSV; missing readings are empty cells. Runs follow each other."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    header: list[str] | None = None
    for run in stored.runs():
        columns = ["time", "run", "run time [s]", *(f"{channel.name} [{channel.unit}]" for channel in run.channels)]
        if columns != header:
            writer.writerow(columns)
            header = columns
        readings = stored.readings(run)
        for at, wall, values in zip(readings.at, readings.wall, readings.values, strict=True):
            time = datetime.fromtimestamp(wall, UTC).isoformat(timespec="milliseconds")
            cells = ["" if np.isnan(value) else f"{value:.7g}" for value in values]
            writer.writerow([time, run.number, f"{at - run.began_at:.3f}", *cells])
    return out.getvalue()
