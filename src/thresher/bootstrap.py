"""Wiring it all together, for window and command line alike: systems, engines, paths."""

import os
import subprocess
import sys
from pathlib import Path

import platformdirs

from thresher.benchmodels.machine import BenchModel
from thresher.benchmodels.scenario import load_scenario, shipped_scenarios
from thresher.diagnosis.inference import Evidence, diagnose
from thresher.diagnosis.knowledge import load_knowledge
from thresher.engine.engine import Engine
from thresher.engine.jobs import unused_job_path
from thresher.engine.sheet_file import load_sheet, shipped_sheets
from thresher.inventory.identity import SECRET_FACTS
from thresher.inventory.machine import read_inventory
from thresher.journal.jobfile import JobFile
from thresher.model.errors import EnvironmentFault
from thresher.model.findings import Finding
from thresher.model.job import parse_complaints
from thresher.model.parts import Fact
from thresher.model.port import System, optional_text
from thresher.model.sheet import RunSheet
from thresher.model.verdict import Exposure, Verdict
from thresher.sensors.discovery import discover
from thresher.sensors.sampler import Sampler
from thresher.system.capture import CapturedSystem, RecordingSystem, write_capture
from thresher.system.hardware_names import HardwareNames
from thresher.system.live import LiveSystem
from thresher.system.tree import TreeSystem

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


def scenario_path(name: str) -> Path:
    """Return the scenario file that a person named: one that ships, or a file."""
    return shipped_scenarios().get(name, Path(name))


def sheet_named(name: str) -> RunSheet:
    """Return the run sheet that a person named: one that ships, or a file. Raises InputError."""
    return load_sheet(shipped_sheets().get(name, Path(name)))


def open_system(root: Path | None = None, bench_model: str | None = None, speed: float | None = None) -> System:
    """Return the machine asked for: a directory tree, a bench model, or this computer. Raises ThresherError."""
    if root is not None and bench_model is not None:
        raise EnvironmentFault("choosing the machine", "both a tree and a bench model were given", "Give one of them.")
    if root is not None:
        return CapturedSystem(root) if root.is_file() else TreeSystem(root)
    if bench_model is not None:
        return BenchModel(load_scenario(scenario_path(bench_model)), speed)
    return LiveSystem()


def capture_machine(system: System, out: Path, with_names: bool) -> tuple[int, list[Fact]]:
    """Write a capture of a machine; return how many files it holds and what could not be read.

    Without `with_names` serial numbers, addresses and the machine's name are masked.
    """
    recording = RecordingSystem(system)
    inventory = read_inventory(recording)
    discovery = discover(recording, inventory)
    sampler = Sampler(recording, discovery)
    sampler.sample()
    sampler.close()
    for path in ("/proc/sys/kernel/random/boot_id", "/proc/cpuinfo"):
        optional_text(recording, path)
    unknown = [*inventory.unknown, *discovery.unknown]
    reason = recording.keep_log()
    if reason is not None:
        unknown.append(Fact("kernel log", reason, "/dev/kmsg"))
    secrets = {
        fact.value.encode()
        for part in inventory.parts
        for fact in part.facts
        if fact.name in SECRET_FACTS and len(fact.value) >= 3
    }
    for fact in inventory.identity:
        secrets.add(fact.value.encode())
        if fact.name == "system UUID":  # the table holds its bytes, the fact their digits
            secrets.add(bytes.fromhex(fact.value))
    if len(system.name) >= 3:
        secrets.add(system.name.encode())
    return write_capture(recording, out, None if with_names else secrets), unknown


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


def job_verdict(stored: JobFile) -> Verdict:
    """Work out the verdict on everything that a job file holds."""
    findings: list[Finding] = []
    exposures: list[Exposure] = []
    cores = 1
    for run in stored.runs():
        findings += stored.findings(run)
        exposures += stored.exposures(run)
        cores = run.machine.core_count
    symptoms = tuple(each.text for each in parse_complaints(stored.job().get("symptoms", "")))
    return diagnose(Evidence(tuple(findings), tuple(exposures), cores, symptoms), load_knowledge())


def take_picture(job: Path, out: Path) -> None:
    """Draw the Bench of a stored job into a PNG, without a display. Raises EnvironmentFault when that fails."""
    environment = os.environ | {"QT_QPA_PLATFORM": "offscreen"}
    arguments = [sys.executable, "-m", "thresher.ui", "--stored", str(job), "--picture", str(out)]
    done = subprocess.run(arguments, env=environment, capture_output=True, text=True, timeout=120, check=False)
    if done.returncode:
        last = done.stderr.strip().rpartition("\n")[2] or f"it ended with {done.returncode}"
        raise EnvironmentFault(f"drawing {out}", last, "The Debian packages that Qt needs are listed in the README.")
