"""A matched log as a job file: looked at like a run of our own, and judged by the same watchers."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import numpy.typing as npt

from thresher.engine.watch.readings import Watchers
from thresher.importers.csv_log import MatchedLog
from thresher.journal.writer import JournalWriter
from thresher.model.channels import Tick
from thresher.model.errors import EnvironmentFault
from thresher.model.findings import Finding, Severity, TapeEntry
from thresher.model.parts import Fact, Inventory, Part, PartKind
from thresher.model.regular_file import is_there
from thresher.model.run_states import Ending
from thresher.model.sheet import RunSheet
from thresher.sensors.limits import load_limits, rail_limits, with_known_limits

_SETTLE_S = 60.0
Floats = npt.NDArray[np.float64]


def write_log_job(log: MatchedLog, name: str, path: Path) -> list[Finding]:
    """Write a log into a new job file and return what the watchers found in it. Raises EnvironmentFault.

    Which loads ran is not known, so that nothing is reported about clocks and no verdict rests on clean time.
    """
    if is_there(path):
        raise EnvironmentFault(f"making the job file {path}", "it is there already", "Choose another name.")
    known = load_limits()
    channels = tuple(with_known_limits(replace(each, limits=rail_limits(each.name)), known) for each in log.channels)
    kinds = sorted({channel.kind for channel in channels} | {PartKind.PROCESSOR})
    origin = Fact("known from", f"the log {name} alone", name)
    parts = tuple(Part(kind.value, kind, kind.value.capitalize(), "", (origin,)) for kind in kinds)
    machine = Inventory(f"log from elsewhere, {name}", False, parts, ())
    began = float(log.wall[0])
    times = _rising(log.wall - began)
    watchers = Watchers(channels)
    writer = JournalWriter(path)
    writer.set_job({"machine": f"log from elsewhere, {name}"})
    sheet = RunSheet(f"Log from elsewhere, {name}", ())
    writer.begin_run(1, sheet, machine, channels, "log", 0.0, began)
    findings: list[Finding] = []
    for at, row in zip(times, log.values, strict=True):
        values = tuple(None if np.isnan(value) else float(value) for value in row)
        tick = Tick(float(at), began + float(at), values, {})
        writer.add_tick(1, tick)
        for finding in watchers.look(tick, frozenset())[0]:
            placed = replace(finding, run_at=float(at), run=1)
            findings.append(placed)
            writer.add_mark(1, placed.at, "finding", placed)
            entry = TapeEntry(
                placed.at, placed.run_at, placed.title, placed.detail, placed.severity, placed.code, placed.part
            )
            writer.add_mark(1, placed.at, "tape", entry)
    left = f"; left out: {', '.join(log.left_out)}" if log.left_out else ""
    reported = f"{len(times)} rows of {len(channels)} channels{left}"
    writer.add_mark(1, 0.0, "tape", TapeEntry(0.0, 0.0, f"Log imported: {name}", reported, Severity.NOTE))
    writer.end_run(1, float(times[-1]), Ending.FINISHED.value, "imported log")
    if not writer.settle(_SETTLE_S):
        trouble = writer.health().trouble or "the drive does not answer"
        writer.close()
        path.unlink(missing_ok=True)  # half a job would pass for a whole one
        raise EnvironmentFault(f"writing {path}", trouble, "Choose another folder.")
    writer.close()
    return findings


_APART_S = 0.001


def _rising(times: Floats) -> Floats:
    """Return times of which none is as early as the one before: rows of one second are kept, a thousandth apart."""
    steps = np.arange(len(times)) * _APART_S
    return np.asarray(np.maximum.accumulate(times - steps) + steps, dtype=np.float64)
