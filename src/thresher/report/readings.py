"""Readings of a job as JSON Lines or Parquet, under the same names as in the CSV."""

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from thresher.journal.jobfile import JobFile, StoredRun
from thresher.model.errors import EnvironmentFault
from thresher.report.table import column_titles, iso_time


def json_lines(stored: JobFile) -> Iterator[str]:
    """Yield a line a run with its channels, limits and units, then a line a tick; missing readings are null."""
    for run in stored.runs():
        channels = [
            {
                "title": title,
                "key": channel.key,
                "name": channel.name,
                "unit": channel.unit,
                "quantity": channel.quantity.value,
                "part": channel.kind.value,
                "source": channel.source,
                "limits": [
                    {"side": each.side.value, "value": each.value, "source": each.source, "reason": each.reason}
                    for each in channel.limits
                ],
                "distrust": channel.distrust,
            }
            for title, channel in zip(column_titles(run.channels), run.channels, strict=True)
        ]
        head = {"run": run.number, "title": run.title, "simulated": run.simulated, "channels": channels}
        yield json.dumps(head, ensure_ascii=False)
        readings = stored.readings(run)
        for at, wall, row in zip(readings.at, readings.wall, readings.values, strict=True):
            values = [None if np.isnan(value) else float(f"{value:.7g}") for value in row]
            yield json.dumps({"time": iso_time(wall), "run_time_s": round(at - run.began_at, 3), "values": values})


def write_parquet(stored: JobFile, path: Path) -> None:
    """Write all readings into one Parquet file: time (UTC), run, run time, and a 32-bit column a channel.

    Columns of different runs are put side by side by their titles; where a run has no such channel it is null. Units,
    sources and limits stand in each column's own metadata. Raises EnvironmentFault.
    """
    try:
        import pyarrow as pa  # an extra: it is large, and nothing else needs it
        import pyarrow.parquet as pq
    except ImportError as error:
        remedy = "Install it with: pip install 'thresher[parquet]'. Or export .csv or .jsonl."
        raise EnvironmentFault(f"writing {path}", "Parquet needs the package pyarrow", remedy) from error

    runs = stored.runs()
    fields: dict[str, dict[str, str]] = {}
    for run in runs:
        for title, channel in zip(column_titles(run.channels), run.channels, strict=True):
            limits = "; ".join(f"{each.side.value} {each.value:g}, {each.source}" for each in channel.limits)
            fields.setdefault(title, {"unit": channel.unit, "source": channel.source, "limits": limits})
    schema = pa.schema(
        [
            pa.field("time", pa.timestamp("ms", tz="UTC")),
            pa.field("run", pa.int32()),
            pa.field("run time [s]", pa.float64()),
            *(pa.field(title, pa.float32(), metadata=words) for title, words in fields.items()),
        ]
    )
    try:
        with pq.ParquetWriter(path, schema) as writer:
            for run in runs:
                writer.write_table(_table(pa, stored, run, schema, list(fields)))
    except OSError as error:
        tried = f"writing {path}"
        raise EnvironmentFault(tried, error.strerror or str(error), "Choose a folder that can be written.") from error


def _table(pa: Any, stored: JobFile, run: StoredRun, schema: Any, titles: list[str]) -> Any:
    readings = stored.readings(run)
    mine = {title: place for place, title in enumerate(column_titles(run.channels))}
    count = len(readings.at)
    columns = [
        pa.array((readings.wall * 1000).astype("int64"), type=pa.timestamp("ms", tz="UTC")),
        pa.array(np.full(count, run.number, dtype=np.int32)),
        pa.array(readings.at - run.began_at),
    ]
    for title in titles:
        place = mine.get(title)
        values = np.full(count, np.nan, dtype=np.float32) if place is None else readings.values[:, place]
        columns.append(pa.array(values, type=pa.float32(), mask=np.isnan(values)))
    return pa.table(columns, schema=schema)
