"""The report of a job as one HTML file: what was run, how it went, what was found, which part."""

from dataclasses import dataclass
from datetime import datetime

import jinja2
import numpy as np

from thresher import __version__
from thresher.codes.directory import FaultCode, load_codes
from thresher.journal.jobfile import BlockMark, JobFile, StoredRun
from thresher.model.channels import LimitSide, Quantity
from thresher.model.findings import Finding
from thresher.model.sheet import clock_text
from thresher.model.verdict import Verdict, percent, suspect_title
from thresher.report.chart import Chart, Flag, draw
from thresher.sensors.lanes import choose_lanes


@dataclass(frozen=True, slots=True)
class Extreme:
    """One line of the table of extremes: channel, smallest, mean, largest, limit and where it is from."""

    name: str
    unit: str
    low: str
    mean: str
    high: str
    limit: str


@dataclass(frozen=True, slots=True)
class RunPage:
    """One run as the report shows it."""

    run: StoredRun
    began: str
    lasted: str
    ending: str
    blocks: tuple[tuple[BlockMark, str], ...]
    findings: tuple[Finding, ...]
    chart: Chart | None
    extremes: tuple[Extreme, ...]
    ticks: int


def _page(stored: JobFile, run: StoredRun) -> RunPage:
    readings = stored.readings(run)
    findings = tuple(stored.findings(run))
    flags = [Flag(finding.run_at, finding.severity == "fault") for finding in findings if finding.run_at is not None]
    last = run.ended_at if run.ended_at is not None else stored.last_tick_at(run)
    lasted = clock_text((last or run.began_at) - run.began_at)
    blocks = tuple(
        (block, clock_text((block.ended_at or last or block.began_at) - block.began_at)) for block in stored.blocks(run)
    )
    ending = stored.interruption(run) or f"{run.ending}, {run.ending_detail}"
    lanes = choose_lanes(run.channels)
    extremes = []
    shown = [index for lane in lanes for index in lane.lead]
    for index in shown if len(readings.at) else []:
        channel, column = run.channels[index], readings.values[:, index]
        if np.isnan(column).all():
            continue
        limit = channel.limit(LimitSide.BELOW) or channel.limit(LimitSide.ABOVE)
        digits = 0 if channel.quantity in (Quantity.TEMPERATURE, Quantity.FAN) else 2
        low, mean, high = (f"{f(column):.{digits}f}" for f in (np.nanmin, np.nanmean, np.nanmax))
        text = f"{limit.side.value} {limit.value:g} ({limit.source})" if limit else ""
        extremes.append(Extreme(channel.name, channel.unit, low, mean, high, text))
    began = datetime.fromtimestamp(run.began_wall).astimezone().strftime("%Y-%m-%d %H:%M:%S %Z")
    return RunPage(
        run, began, lasted, ending, blocks, findings, draw(readings, run.began_at, lanes, flags), tuple(extremes),
        len(readings.at),
    )  # fmt: skip


def _codes_used(pages: list[RunPage]) -> list[FaultCode]:
    codes = load_codes()
    used = sorted({finding.code for page in pages for finding in page.findings})
    return [codes[code] for code in used if code in codes]


def render(stored: JobFile, verdict: Verdict) -> str:
    """Return the report of a job file as HTML."""
    environment = jinja2.Environment(
        loader=jinja2.PackageLoader("thresher.report", "."), autoescape=True, trim_blocks=True, lstrip_blocks=True
    )
    environment.filters |= {"percent": percent, "clock": clock_text, "suspect": suspect_title}
    pages = [_page(stored, run) for run in stored.runs()]
    return environment.get_template("report.html").render(
        job=stored.job(),
        pages=pages,
        verdict=verdict,
        codes=_codes_used(pages),
        version=__version__,
        simulated=any(page.run.simulated for page in pages),
    )
