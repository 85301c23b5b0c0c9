"""Making an engine for a machine, for the window and the command line alike."""

from pathlib import Path

from thresher.app.log_file import set_up_logging
from thresher.app.open_jobs import jobs_left_open
from thresher.app.paths import bench_folder, new_job_path
from thresher.compose.sheet_file import load_sheet, shipped_sheets
from thresher.engine.assembly import open_engine
from thresher.engine.engine import Engine
from thresher.machine.hardware_names import HardwareNames
from thresher.machine.live import LiveSystem
from thresher.machine.restart import LiveRestart
from thresher.model.keeping_port import Restart
from thresher.model.port import System
from thresher.model.sheet import RunSheet
from thresher.simulator.machine import SimulatedMachine
from thresher.stick.boot import clock_trouble, on_stick
from thresher.stick.restart import StickRestart

DEMO_SCENARIO = "lighthouse-playout"
DEMO_SHEET = "reset-hunt-short"
LIVE_SHEET = "short-round"


def sheet_named(name: str) -> RunSheet:
    """Return the run sheet that a person named: one that ships, or a file. Raises InputError."""
    return load_sheet(shipped_sheets().get(name, Path(name)))


def make_engine(
    system: System,
    job: Path | None,
    interval_s: float = 1.0,
    shop: Path | None = None,
    scenario: str = "",
) -> Engine:
    """Return an engine for a machine and a job file (a new one when none is given). Raises ThresherError.

    `shop` is the folder of what the shop keeps, that of this user when none is given; `scenario` names
    the simulated machine, so that the job can be opened with it again.
    """
    set_up_logging()
    fields = {"machine": system.name}
    simulated = isinstance(system, SimulatedMachine)
    if isinstance(system, SimulatedMachine):
        found = system.scenario
        fields = {"number": found.job, "machine": found.title, "symptoms": "\n".join(found.symptoms)}
        fields |= {"model": scenario}
    keep = shop or bench_folder(simulated) / "shop"
    path = job or new_job_path(system.name, simulated)
    restart = _restart(system) if isinstance(system, LiveSystem) else None
    rescued = bench_folder(simulated) / "rescued"
    engine = open_engine(system, path, fields, interval_s, keep, HardwareNames(), rescued, restart)
    if isinstance(system, LiveSystem):
        for each in jobs_left_open(path.parent):
            engine.note(f"Left open: {each.path.name}", f"{each.when}, {each.words}")
        if wrong := clock_trouble():
            engine.note("The clock of this machine is wrong", wrong)
    return engine


def _restart(system: LiveSystem) -> Restart:
    """Return what goes on after a start of the machine: the stick itself where it was started from one."""
    return StickRestart() if on_stick() else LiveRestart(helper=system.helper)
