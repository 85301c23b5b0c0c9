"""The report and the exports: what was run, what was found, and that it was simulated."""

import csv
import io
import shutil
from collections.abc import Callable
from dataclasses import replace
from html.parser import HTMLParser
from pathlib import Path

import pytest

from tests.conftest import Heard
from thresher.app.stored_verdict import job_verdict
from thresher.engine.engine import Engine
from thresher.journal.jobfile import JobFile
from thresher.model.channels import Channel, LimitSide, Quantity, Tick
from thresher.model.parts import PartKind
from thresher.model.sheet import RunSheet
from thresher.report.chart import Flag, draw
from thresher.report.html import render
from thresher.report.table import readings_csv, ticks_csv
from thresher.sensors.lanes import choose_lanes
from thresher.simulator.fault_kinds import Fault, FaultKind
from thresher.simulator.scenario import Scenario

MakeEngine = Callable[..., tuple[Engine, Heard]]
MakeSheet = Callable[[float], RunSheet]


class Tags(HTMLParser):
    """Checks that tags are closed, and collects text and path data."""

    def __init__(self) -> None:
        super().__init__()
        self.open: list[str] = []
        self.text: list[str] = []
        self.paths: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag not in ("meta", "br", "line"):
            self.open.append(tag)
        if tag == "path":
            self.paths.append(dict(attrs)["d"] or "")

    def handle_startendtag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag == "path":
            self.paths.append(dict(attrs)["d"] or "")

    def handle_endtag(self, tag: str) -> None:
        assert self.open.pop() == tag

    def handle_data(self, data: str) -> None:
        self.text.append(data)


@pytest.fixture
def job(finished_job: Path, tmp_path: Path) -> Path:
    return Path(shutil.copy(finished_job, tmp_path / "job.thresher"))


def test_the_report_reports_the_whole_story(job: Path) -> None:
    with JobFile(job) as stored:
        verdict = job_verdict(stored)
        page = render(stored, verdict)
        findings = stored.findings(stored.runs()[0])
    tags = Tags()
    tags.feed(page)
    assert tags.open == []
    text = " ".join(" ".join(tags.text).split())
    assert "Simulated machine: its heat" in text
    assert verdict.sentence in text
    assert "Tern 8-460" in text
    assert "matrix, shared cache" in text
    for finding in findings:
        assert finding.code in text
        assert finding.title in text
    assert "Usual causes" in text
    assert len(tags.paths) >= 20
    assert all(path.startswith("M") for path in tags.paths if path)


def test_the_report_is_one_file_that_fetches_nothing(job: Path) -> None:
    with JobFile(job) as stored:
        page = render(stored, job_verdict(stored))
    for word in ("http://", "https://", "<script", "<link", "src="):
        assert word not in page


def test_names_in_a_job_cannot_become_markup(make_engine: MakeEngine, ferry: Scenario, tmp_path: Path) -> None:
    engine, _ = make_engine(ferry)
    engine.close()
    with JobFile(tmp_path / "job.thresher") as stored:
        page = render(stored, job_verdict(stored))
        assert "This job has no run yet" in page
        stored._connection.execute("UPDATE job SET value = '<b>harbour</b>' WHERE name = 'machine'")
        page = render(stored, job_verdict(stored))
    assert "&lt;b&gt;harbour&lt;/b&gt;" in page
    assert "<b>harbour</b>" not in page


def test_the_csv_has_units_iso_times_and_every_row(job: Path) -> None:
    with JobFile(job) as stored:
        rows = list(csv.reader(io.StringIO(readings_csv(stored))))
        run = stored.runs()[0]
        ticks = len(stored.readings(run).at)
    header = rows[0]
    assert header[:3] == ["time", "run", "run time [s]"]
    assert "Package id 0 [°C]" in header
    assert "'+12V [V]" in header
    assert len(rows) == ticks + 1
    assert all(len(row) == len(header) for row in rows)
    assert rows[1][0].endswith("+00:00")
    assert 30 < float(rows[1][header.index("Package id 0 [°C]")]) < 45


def test_a_chart_breaks_its_lines_where_readings_are_missing(job: Path) -> None:
    with JobFile(job) as stored:
        run = stored.runs()[0]
        whole = stored.readings(run)
    values = whole.values.copy()
    values[50:60, :] = float("nan")
    readings = replace(whole, values=values)
    chart = draw(readings, run.began_at, choose_lanes(run.channels), [Flag(10.0, True), Flag(1e9, False)])
    assert chart is not None
    assert len(chart.flags) == 1
    path, _ = chart.lanes[0].paths[0]
    assert path.count("M") == 2
    for lane in chart.lanes:
        for drawn, _lead in lane.paths:
            ys = [
                float(point.split(" ")[1])
                for point in drawn.replace("M", "L").split("L")[1:]
                for point in [point.strip()]
            ]
            assert all(lane.top - 1 <= y <= lane.top + 92 for y in ys)


def test_too_few_rows_give_no_chart(job: Path) -> None:
    with JobFile(job) as stored:
        run = stored.runs()[0]
        readings = stored.readings(run)
    short = type(readings)(readings.at[:1], readings.wall[:1], readings.values[:1], 0)
    assert draw(short, run.began_at, choose_lanes(run.channels), []) is None


def test_ticks_outside_a_run_are_written_alike_and_names_cannot_break_the_columns() -> None:
    channel = Channel("k", 'Fan, "front"', Quantity.FAN, PartKind.COOLING, "/f")
    text = ticks_csv((channel,), [Tick(5.0, 0.5, (900.0,), {}), Tick(6.0, 1.5, (None,), {0: "gone"})])
    rows = list(csv.reader(io.StringIO(text)))
    assert rows[0] == ["time", 'Fan, "front" [rpm]']
    assert rows[1:] == [["1970-01-01T00:00:00.500+00:00", "900"], ["1970-01-01T00:00:01.500+00:00", ""]]


def test_the_report_repeats_doubts_limits_and_what_was_not_believed(
    make_engine: MakeEngine, lighthouse: Scenario, sheet: MakeSheet, tmp_path: Path
) -> None:
    offset = Fault(kind=FaultKind.CHANNEL_OFFSET, path="/sys/class/hwmon/hwmon1/temp2_input", strength=30000)
    engine, _ = make_engine(replace(lighthouse, faults=(offset,)), shop=tmp_path / "shop")
    engine.jobs.set_fields(
        {"expected_drives": "1 TB, 2 TB", "symptoms": "freezes\tat noon\tin the sun", "words": "it stops"}
    )
    drive = next(each for each in engine.channels if each.name == "drive nvme0n1")
    engine.machine.set_limit(drive.key, LimitSide.BELOW, 60.0, "no heat spreader on it")
    engine.machine.begin_baseline(12)
    engine.watch(15)
    engine.run_to_end(sheet(3))
    engine.close()
    with JobFile(tmp_path / "job.thresher") as stored:
        page = Tags()
        page.feed(render(stored, job_verdict(stored)))
    text = " ".join(" ".join(page.text).split())
    assert page.open == []
    assert "freezes (at noon, in the sun)" in text
    assert "“it stops”" in text
    assert "D-110 Drive missing , drive expected 2 TB" in text
    assert "nvme0n1 below 60 °C no heat spreader on it technician" in text
    assert "CPU X-833 Constant offset" in text
    assert "Ignored sensors" in text
    assert "tag M-1" in text


def test_a_job_without_a_run_reports_its_machine(make_engine: MakeEngine, lighthouse: Scenario, tmp_path: Path) -> None:
    engine, _ = make_engine(lighthouse)
    engine.close()
    with JobFile(tmp_path / "job.thresher") as stored:
        page = render(stored, job_verdict(stored))
    assert "This job has no run yet" in page
    assert "Quayside Boards QB-70 Capstan" in page
    assert "No real machine was tested" in page
