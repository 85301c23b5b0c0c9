"""The report of a job as one HTML file: what was run, how it went, what was found, which part."""

from dataclasses import dataclass
from datetime import datetime

import jinja2
import numpy as np

from thresher import __version__
from thresher.codes.directory import FaultCode, load_codes
from thresher.journal.jobfile import BlockMark, JobFile, StoredRun
from thresher.model.channels import Baseline, Limit, LimitSide, Quantity
from thresher.model.checks import CheckResult
from thresher.model.endings import MachineEnding, ending_sentence
from thresher.model.findings import NOTE, Finding
from thresher.model.job import FIELDS, parse_complaints
from thresher.model.parts import Inventory
from thresher.model.sheet import clock_text
from thresher.model.verdict import Verdict, percent, suspect_title
from thresher.report.chart import Chart, Flag, draw
from thresher.sensors.lanes import choose_lanes

EXPECTED = ("processor", "memory", "drives", "graphics")


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
    by_hand: tuple[tuple[str, str], ...]
    checks: tuple[CheckResult, ...] = ()
    endings: tuple[tuple[str, MachineEnding], ...] = ()


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
        column = column[np.isfinite(column)]
        if not len(column):
            continue
        limit = channel.limit(LimitSide.BELOW) or channel.limit(LimitSide.ABOVE)
        digits = 0 if channel.quantity in (Quantity.TEMPERATURE, Quantity.FAN) else 2
        low, mean, high = (f"{f(column):.{digits}f}" for f in (np.min, np.mean, np.max))
        because = f", because {limit.reason}" if limit and limit.reason else ""
        text = f"{limit.side.value} {limit.value:g} ({limit.source}{because})" if limit else ""
        extremes.append(Extreme(channel.name, channel.unit, low, mean, high, text))
    began = datetime.fromtimestamp(run.began_wall).astimezone().strftime("%Y-%m-%d %H:%M:%S %Z")
    return RunPage(
        run,
        began,
        lasted,
        ending,
        blocks,
        findings,
        draw(readings, run.began_at, lanes, flags),
        tuple(extremes),
        len(readings.at),
        _by_hand(stored, run),
        tuple(stored.check_results(run)),
        tuple((ending_sentence(each), each) for each in stored.endings() if each.run == run.number),
    )


def _by_hand(stored: JobFile, run: StoredRun) -> tuple[tuple[str, str], ...]:
    """Return what a person did while a run went on, as times and words: changes of the sheet, notes."""
    done = [(change.run_at, change.what) for change in stored.changes(run)]
    done += [(entry.run_at or 0.0, f"Note: {entry.detail}") for entry in stored.tape(run) if entry.title == NOTE]
    return tuple((clock_text(at), words) for at, words in sorted(done))


def _codes_used(pages: list[RunPage], machine: Inventory | None) -> list[FaultCode]:
    codes = load_codes()
    doubts = machine.doubts if machine else ()
    found = {finding.code for page in pages for finding in page.findings}
    found |= {check.code for page in pages for check in page.checks if check.code}
    used = sorted(found | {doubt.code for doubt in doubts})
    return [codes[code] for code in used if code in codes]


def render(stored: JobFile, verdict: Verdict) -> str:
    """Return the report of a job file as HTML."""
    environment = jinja2.Environment(
        undefined=jinja2.StrictUndefined,
        loader=jinja2.PackageLoader("thresher.report", "."),
        autoescape=True,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    environment.filters |= {"percent": percent, "clock": clock_text, "suspect": suspect_title}
    pages = [_page(stored, run) for run in stored.runs()]
    machine = stored.machine()
    return environment.get_template("report.html").render(
        job=dict.fromkeys(FIELDS, "") | stored.job(),
        pages=pages,
        verdict=verdict,
        codes=_codes_used(pages, machine),
        version=__version__,
        simulated=machine is not None and machine.simulated,
        machine=machine,
        tags={each.part: each.tag for each in stored.part_instances() if each.part},
        complaints=parse_complaints(stored.job().get("symptoms", "")),
        expected={name: text for name in EXPECTED if (text := stored.job().get(f"expected_{name}", ""))},
        changed_limits=_changed_limits(pages),
        ignored=_ignored(pages),
        idle=_idle_lines(stored.baseline(), pages),
    )


def _changed_limits(pages: list[RunPage]) -> list[tuple[str, str, Limit]]:
    """Return each limit that a technician set, as it counted in a run: channel, unit, limit."""
    found = {
        (channel.name, channel.unit, limit)
        for page in pages
        for channel in page.run.channels
        for limit in channel.limits
        if limit.reason
    }
    return sorted(found, key=lambda each: (each[0], each[2].value))


def _ignored(pages: list[RunPage]) -> list[tuple[str, str]]:
    """Return the channels that counted for nothing in a run, and why."""
    found = {(channel.name, channel.distrust) for page in pages for channel in page.run.channels if channel.distrust}
    return sorted(found)


def _idle_lines(baseline: Baseline | None, pages: list[RunPage]) -> list[tuple[str, str, str]]:
    """Return what was odd in the idle readings: channel, fault code and title, detail."""
    names = {channel.key: channel.name for page in pages for channel in page.run.channels}
    doubts = baseline.doubts if baseline else ()
    return [(names.get(each.channel, each.channel), f"{each.code} {each.title}", each.detail) for each in doubts]
