"""The report of a job as one HTML file: what was run, how it went, what was found, which part."""

from dataclasses import dataclass
from datetime import UTC, datetime
from importlib import resources

import jinja2
import numpy as np
from markupsafe import Markup

from thresher import __version__
from thresher.codes.directory import FaultCode, load_codes
from thresher.diagnosis.decision import Prices
from thresher.inventory.identity import masked
from thresher.journal.jobfile import BlockMark, JobFile, Readings, StoredRun
from thresher.model.channels import Baseline, Limit, LimitSide, Quantity
from thresher.model.checks import CheckResult
from thresher.model.decisions import Decisions, LockedVerdict, compare, culprit_words
from thresher.model.durations import duration_words
from thresher.model.endings import MachineEnding, ending_sentence
from thresher.model.findings import NOTE, Finding
from thresher.model.job import FIELDS, parse_complaints
from thresher.model.parts import Inventory
from thresher.model.sheet import clock_text
from thresher.model.trials import EMPTY_BOOK, Trial
from thresher.model.verdict import Verdict, percent, suspect_title
from thresher.report.chart import Chart, Flag, draw
from thresher.report.handover import day_words, handover_of, left_open
from thresher.report.proof import draw_proof
from thresher.report.sections import Choice, Section
from thresher.sensors.lanes import choose_lanes
from thresher.shop.details import ShopDetails

_LONGEST_RAW = 400
_COLOURS = {
    "processor": "#1F6F78",
    "memory": "#7A4A80",
    "graphics": "#66781F",
    "drive": "#3F5F8A",
    "power": "#8A5533",
    "board": "#8A5533",
}
"""Of the lanes, by kind of part; any other is drawn in ink."""
_NO_READINGS = Readings(np.empty(0), np.empty(0), np.empty((0, 0), dtype=np.float32), 0)
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


def _page(stored: JobFile, run: StoredRun, choice: Choice) -> RunPage:
    readings = stored.readings(run) if choice.has(Section.RUNS) else _NO_READINGS
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
        draw(readings, run.began_at, lanes, flags) if len(readings.at) else None,
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


@dataclass(frozen=True, slots=True)
class Contents:
    """Everything that is printed, read from the job once: what the template takes, but for the seal."""

    values: dict[str, object]
    choice: Choice
    details: ShopDetails


@dataclass(frozen=True, slots=True)
class Printed:
    """What is printed of a seal: its code, what it covers, the key in words, and all of it for a program (base64)."""

    code: str
    covers: str
    key_words: str
    enclosed: str


def collect(
    stored: JobFile,
    verdict: Verdict,
    choice: Choice,
    details: ShopDetails,
    prices: Prices | None,
    typed: dict[str, str] | None = None,
) -> Contents:
    """Read everything that a report of a choice prints; `typed` are fields that stand before those in the file.

    Raises InputError for a damaged file.
    """
    fields = stored.job() | (typed or {})
    runs = stored.runs()
    pages = [_page(stored, run, choice) for run in runs]
    machine = stored.machine()
    shown = machine if machine is None or choice.serials else masked(machine)
    book, decisions = stored.book() or EMPTY_BOOK, stored.decisions()
    page = handover_of(stored, fields, verdict, details, prices)
    last = decisions.locked[-1] if decisions.locked else None
    values: dict[str, object] = {
        "job": dict.fromkeys(FIELDS, "") | fields,
        "h": page,
        "proof_chart": draw_proof(page.proof),
        "day": day_words(datetime.now(UTC).timestamp()),
        "machine_name": machine.name if machine is not None else "",
        "pages": pages,
        "findings": [(f"Run {page.run.number}", page.findings) for page in pages if page.findings] + _outside(stored),
        "verdict": verdict,
        "trials": [(trial, _ended(trial, runs)) for trial in book.trials] if len(book.trials) > 1 else [],
        "decisions": decisions,
        "actual_cause": _actual(decisions, last),
        "codes": _codes_used(pages, machine),
        "simulated": machine is not None and machine.simulated,
        "machine": shown,
        "left_open": left_open(stored, machine, runs),
        "tags": {each.part: each.tag for each in stored.part_instances() if each.part},
        "complaints": parse_complaints(fields.get("symptoms", "")),
        "expected": {name: text for name in EXPECTED if (text := fields.get(f"expected_{name}", ""))},
        "changed_limits": _changed_limits(pages),
        "ignored": _ignored(pages),
        "idle": _idle_lines(stored.baseline(), pages),
    }
    return Contents(values, choice, details)


def _outside(stored: JobFile) -> list[tuple[str, tuple[Finding, ...]]]:
    found = tuple(stored.findings_outside())
    return [("Outside of runs", found)] if found else []


def _ended(trial: Trial, runs: list[StoredRun]) -> str:
    words = [f"run {run.number}: {run.ending or 'not ended'}" for run in runs if run.number in trial.runs]
    words += [f"{each.ended.value}, {each.minutes:.0f} min of {each.load}" for each in trial.outcomes]
    return "; ".join(words)


def _actual(decisions: Decisions, last: LockedVerdict | None) -> str:
    if decisions.actual_cause is None:
        return ""
    note = f" {decisions.actual_cause.note}" if decisions.actual_cause.note else ""
    if last is not None:
        return compare(last, decisions.actual_cause) + note
    named = ", ".join(culprit_words(each) for each in decisions.actual_cause.culprits)
    return f"Actual cause: {named or 'nothing faulty in the hardware'}.{note}"


def _css_string(text: str) -> str:
    """Return a text as a string of a style sheet: nothing in it can end the string or the style."""
    safe = "".join(sign if sign.isalnum() or sign in " .,:;-()/'" else f"\\{ord(sign):06x}" for sign in text)
    return f'"{safe}"'


def _brief(raw: str) -> str:
    return raw if len(raw) <= _LONGEST_RAW else f"{raw[:_LONGEST_RAW]}…"


def render_contents(contents: Contents, seal: Printed | None = None) -> str:
    """Return a report as HTML, with its seal where it has one."""
    environment = jinja2.Environment(
        undefined=jinja2.StrictUndefined,
        loader=jinja2.PackageLoader("thresher.report", "templates"),
        autoescape=True,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    environment.filters |= {
        "percent": percent,
        "clock": clock_text,
        "duration": duration_words,
        "suspect": suspect_title,
        "moment": lambda wall: f"{datetime.fromtimestamp(wall).astimezone():%-d %b %Y, %H:%M}",
        "brief": _brief,
        "css_string": lambda text: Markup(_css_string(text)),  # noqa: S704 (made safe there)
    }
    style = resources.files("thresher.report").joinpath("templates", "style.css").read_text(encoding="utf-8")
    number = str(contents.values["job"]["number"])  # type: ignore[index]
    footer = f"Seal {seal.code}" if seal is not None else "Not sealed"
    return environment.get_template("report.html").render(
        contents.values,
        choice=contents.choice,
        details=contents.details,
        S=Section,
        style=Markup(style),  # noqa: S704 (the program's own file)
        colours=_COLOURS,
        footer=f"{footer}   job {number}" if number else footer,
        seal=seal,
        covers=seal.covers if seal is not None else "",
        key_words=seal.key_words if seal is not None else "",
        version=__version__,
    )


def render(stored: JobFile, verdict: Verdict) -> str:
    """Return the whole report of a job file as HTML, without a seal."""
    return render_contents(collect(stored, verdict, Choice(), ShopDetails(), None))


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
