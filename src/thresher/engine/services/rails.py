"""What a finished run says about the rails, on the tape."""

from collections.abc import Sequence

import numpy as np

from thresher.engine.run.record import Record
from thresher.engine.run.run import Run
from thresher.model.findings import Severity
from thresher.model.parts import PartKind
from thresher.supply.rails import RailReport, rail_reports

_BEFORE_S = 60.0
_MOST_ROWS = 20_000
"""Of a longer run its first hours are enough; `thresher supply` takes all of them."""


def rails_of_run(record: Record, run: Run, ticks: Sequence[tuple[float, bytes]]) -> list[RailReport]:
    """Return the rails of a run from the readings that are kept, those of the last minute before it as its baseline."""
    began = run.began_at
    first = min((step.start_s for step in run.steps if step.block is not None), default=0.0)
    rows = [(at, packed) for at, packed in ticks if at >= began - _BEFORE_S][:_MOST_ROWS]
    if not rows:
        return []
    at = np.array([row[0] for row in rows])
    values = np.array([np.frombuffer(row[1], dtype="<f4") for row in rows], dtype=np.float64)
    return rail_reports(record.channels, at, values, (began - _BEFORE_S, began + first))


def report_rails(record: Record, run: Run, ticks: Sequence[tuple[float, bytes]]) -> None:
    """Write what the run says about each rail on the tape."""
    for rail in rails_of_run(record, run, ticks):
        severity = Severity.NOTE if rail.within else Severity.WARNING
        record.note(f"Rail {rail.name} in run {run.number}", rail.sentence, severity, part=PartKind.POWER)
