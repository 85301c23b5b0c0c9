"""Wiring it all together, for window and command line alike: systems, engines, paths."""

import os
import subprocess
import sys
from pathlib import Path

import platformdirs

from thresher.benchmodels.machine import BenchModel
from thresher.diagnosis.decision import load_prices, read_prices
from thresher.diagnosis.evidence import Evidence
from thresher.diagnosis.knowledge import load_knowledge
from thresher.diagnosis.shop_priors import with_closed_jobs
from thresher.diagnosis.verdict import diagnose
from thresher.engine.engine import Engine
from thresher.engine.jobs import unused_job_path
from thresher.engine.sheet_file import load_sheet, shipped_sheets
from thresher.journal.jobfile import JobFile
from thresher.model.errors import EnvironmentFault
from thresher.model.findings import Finding
from thresher.model.job import parse_complaints
from thresher.model.port import System
from thresher.model.sheet import RunSheet
from thresher.model.trials import EMPTY_BOOK
from thresher.model.verdict import Exposure, Verdict
from thresher.shop.store import prices_path, read_closed_jobs
from thresher.system.hardware_names import HardwareNames

DEMO_SCENARIO = "lighthouse-playout"
DEMO_SHEET = "reset-hunt-short"
LIVE_SHEET = "short-round"


def bench_folder(simulated: bool) -> Path:
    """Return the folder of all that the bench keeps; simulated machines have one of their own."""
    folder = Path(platformdirs.user_data_dir("thresher"))
    return folder / "demo-bench" if simulated else folder


def jobs_folder(simulated: bool) -> Path:
    """Return the folder where job files are kept; created when it is not there. Raises EnvironmentFault."""
    folder = bench_folder(simulated) / "jobs"
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise EnvironmentFault(
            f"making the folder for jobs {folder}", error.strerror or str(error), "Give a job file with --job."
        ) from error
    return folder


def new_job_path(name: str, simulated: bool) -> Path:
    """Return a new job file's path, with the time and a name in it."""
    return unused_job_path(jobs_folder(simulated), name)


def sheet_named(name: str) -> RunSheet:
    """Return the run sheet that a person named: one that ships, or a file. Raises InputError."""
    return load_sheet(shipped_sheets().get(name, Path(name)))


def make_engine(
    system: System,
    job: Path | None,
    interval_s: float = 1.0,
    shop: Path | None = None,
    model: str = "",
) -> Engine:
    """Return an engine for a machine and a job file (a new one when none is given). Raises ThresherError.

    `shop` is the folder of what the shop keeps, that of this user when none is given; `model` names the bench model
    that the machine is, so that the job can be opened with it again.
    """
    fields = {"machine": system.name}
    simulated = isinstance(system, BenchModel)
    if isinstance(system, BenchModel):
        scenario = system.scenario
        fields = {"number": scenario.job, "machine": scenario.title, "symptoms": "\n".join(scenario.symptoms)}
        fields |= {"model": model}
    keep = shop or bench_folder(simulated) / "shop"
    path = job or new_job_path(system.name, simulated)
    return Engine(system, path, fields, interval_s, keep, HardwareNames())


def shop_of(stored: JobFile) -> Path:
    """Return the folder of the shop that a stored job belongs to, as `make_engine` would take it."""
    simulated = bool(stored.job().get("model")) or any(run.simulated for run in stored.runs())
    return bench_folder(simulated) / "shop"


def job_verdict(stored: JobFile, shop: Path | None = None) -> Verdict:
    """Work out the verdict on everything that a job file holds, with the closed jobs and prices of a shop.

    Without a shop by the knowledge base and the default prices alone. Raises InputError for files of the shop that
    cannot be understood.
    """
    findings: list[Finding] = []
    exposures: list[Exposure] = []
    cores = 1
    for run in stored.runs():
        findings += stored.findings(run)
        exposures += stored.exposures(run)
        cores = run.machine.core_count
    findings += stored.findings_outside()
    exposures += stored.exposures_outside()
    symptoms = tuple(each.text for each in parse_complaints(stored.job().get("symptoms", "")))
    book = stored.book() or EMPTY_BOOK
    tried = len(book.trials) > 1 or any(trial.outcomes for trial in book.trials)
    evidence = Evidence(tuple(findings), tuple(exposures), cores, symptoms, book if tried else EMPTY_BOOK)
    knowledge, prices = load_knowledge(), load_prices()
    if shop is not None:
        knowledge = with_closed_jobs(knowledge, read_closed_jobs(shop))
        prices = read_prices(prices_path(shop))
    return diagnose(evidence, knowledge, prices, book)


def take_picture(job: Path, out: Path) -> None:
    """Draw the Bench of a stored job into a PNG, without a display. Raises EnvironmentFault when that fails."""
    environment = os.environ | {"QT_QPA_PLATFORM": "offscreen"}
    arguments = [sys.executable, "-m", "thresher.ui", "--stored", str(job), "--picture", str(out)]
    done = subprocess.run(arguments, env=environment, capture_output=True, text=True, timeout=120, check=False)
    if done.returncode:
        last = done.stderr.strip().rpartition("\n")[2] or f"it ended with {done.returncode}"
        raise EnvironmentFault(f"drawing {out}", last, "The Debian packages that Qt needs are listed in the README.")
