"""What a run of a job file says about the power supply."""

from dataclasses import dataclass

import numpy as np

from thresher.journal.jobfile import JobFile
from thresher.model.channels import Quantity
from thresher.model.errors import InputError, InputFault
from thresher.supply.rails import RailReport, conclusions, rail_reports


@dataclass(frozen=True, slots=True)
class StoredSupply:
    """The rails of one run, and what may be concluded from them."""

    run: int
    title: str
    rails: tuple[RailReport, ...]
    conclusions: tuple[str, ...]


def supply_of(stored: JobFile, number: int | None) -> StoredSupply:
    """Return the rails of a run, of the last one without a number. Raises InputError where there is no such run."""
    runs = stored.runs()
    run = next((each for each in reversed(runs) if number in (None, each.number)), None)
    if run is None:
        there = ", ".join(str(each.number) for each in runs) or "none"
        raise InputError("supply", [InputFault("--run", f"this job has no run {number or ''}; it has {there}")])
    readings = stored.readings(run)
    blocks = stored.blocks(run)
    first = min((block.began_at for block in blocks), default=run.began_at)
    values = np.asarray(readings.values, dtype=np.float64)
    rails = tuple(rail_reports(run.channels, readings.at, values, (run.began_at - 1.0, first)))
    currents = any(channel.quantity is Quantity.CURRENT for channel in run.channels)
    return StoredSupply(run.number, run.title, rails, tuple(conclusions(rails, currents)))
