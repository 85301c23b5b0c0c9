"""The demo bench: the repair bench of a small harbour town, with its jobs, its shelf and a machine seen before.

Everything on it is made up. The machines are simulated machines; their runs are run live, only the heat runs of the
sail loft were made before (`demo_runs.py`).
"""

import os
import shutil
import time
from dataclasses import replace
from pathlib import Path

from thresher.app.demo_runs import record_earlier_visit, record_sail_loft
from thresher.inventory.identity import machine_key
from thresher.inventory.machine import read_inventory
from thresher.journal.jobfile import create_job
from thresher.model.errors import EnvironmentFault
from thresher.model.job import FIELDS
from thresher.model.job import JOB_FILE_ENDING as ENDING
from thresher.model.parts import Fact, Part, PartKind
from thresher.model.private_folder import private_folder
from thresher.model.regular_file import is_there
from thresher.shop.details import ShopDetails, details_path, keep_details
from thresher.shop.store import (
    MachineFile,
    Shelf,
    ShopPart,
    Visit,
    change_machine,
    change_shelf,
    machine_path,
    shelf_path,
)
from thresher.simulator.fault_kinds import FaultKind
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario, load_scenario, shipped_scenarios

_DAY_S = 86_400.0
_JOBS: dict[str, dict[str, str]] = {
    "boatyard-plotter": {
        "words": "Got more memory from a friend. Since then the update stops half way and says a file is damaged.",
        "symptoms": "will not finish an installation\tevery time\tstops between 40 and 70 per cent\nsince a new part",
        "expected_memory": "2 x 16 GB 5600",
        "expected_drives": "500 GB, 2 TB",
        "minutes": "45",
    },
    "ferry-office": {
        "words": "Yearly cleaning before the season. Nothing wrong that we know of.",
        "expected_memory": "8 GB",
    },
    "sail-loft": {
        "customer": "Ida Tangen",
        "contact": "sail loft, Harbour Lane 11",
        "words": "Loud as a dredger, and slow after lunch. Sailcloth dust everywhere.",
        "symptoms": "hot or loud\nslow under load\tafter 20 to 40 min",
        "expected_memory": "2 x 8 GB 5200",
        "expected_drives": "500 GB",
    },
    "lighthouse-playout": {
        "customer": "Mats Holm",
        "contact": "lighthouse radio",
        "words": "Goes black in the middle of the news and starts again. Worse since the summer. Never in the morning.",
        "symptoms": "resets under load\tafter 20 to 40 min\tmost often in the evening news\nworse when warm",
        "expected_processor": "Tern 8-460",
        "expected_memory": "2 x 16 GB 5600",
        "expected_drives": "1 TB",
        "expected_graphics": "Lumen L40",
    },
}
"""What the customers say and what the invoices list, the last one the one that is opened."""

_EARLIER = (
    ("0305", 660.0, 20.5, "does not start", "Memory reseated", "Did nothing at all this morning.", ()),
    (
        "0377",
        290.0,
        24.0,
        "slow under load",
        "Case fan replaced",
        "The fan at the back rattles.",
        (FaultKind.DRY_PASTE,),
    ),
)
"""Earlier visits of the sail loft's machine: job, days ago, room in °C, symptom, what was done, words, faults then."""

_SHELF = (
    ShopPart(tag="SHOP-M1", kind=PartKind.MEMORY, name="Mussel Bank MB-16D5-5600", proved="2026-03-02"),
    ShopPart(tag="SHOP-M2", kind=PartKind.MEMORY, name="Mussel Bank MB-8D4-3200", proved="2026-02-11"),
    ShopPart(tag="SHOP-P1", kind=PartKind.PROCESSOR, name="Tern 6-420", proved="2026-01-20", note="for QB-50, QB-70"),
    ShopPart(tag="SHOP-S1", kind=PartKind.POWER, name="Brackwater 650", proved="2026-03-02"),
    ShopPart(tag="SHOP-G1", kind=PartKind.GRAPHICS, name="Lumen L10", note="picture only, no load"),
)


def prepare_demo_bench(folder: Path, fresh: bool) -> tuple[Path, Path]:
    """Make what is not there yet of the demo bench; return the job to open and the shop's folder.

    With `fresh` everything on it is made again. Raises EnvironmentFault.
    """
    jobs, shop = folder / "jobs", folder / "shop"
    try:
        if fresh and is_there(folder):
            shutil.rmtree(folder)
        private_folder(jobs)
    except OSError as error:
        raise EnvironmentFault(
            f"preparing the demo bench in {folder}", error.strerror or str(error), "Choose another XDG_DATA_HOME."
        ) from error
    if not is_there(shelf_path(shop)):
        change_shelf(shop, Shelf(), Shelf(parts=_SHELF))
    if not is_there(details_path(shop)):
        keep_details(shop, ShopDetails(name="Harbour Lane Repair Bench", address="Harbour Lane 4", tax_percent=19.0))
    _note_earlier_visit(shop)
    path = jobs
    for model, fields in _JOBS.items():
        scenario = load_scenario(shipped_scenarios()[model])
        path = jobs / f"{scenario.job}-{model}{ENDING}"
        if not is_there(path):
            own = {"number": scenario.job, "machine": scenario.title, "symptoms": "\n".join(scenario.symptoms)}
            create_job(path, own | {name: text for name, text in fields.items() if name in FIELDS} | {"model": model})
            if model == "sail-loft":
                record_sail_loft(path, scenario, time.time() - _DAY_S)
                _sail_loft_before(jobs, shop, scenario)
    return path, shop


def _sail_loft_before(jobs: Path, shop: Path, scenario: Scenario) -> None:
    """The sail loft's machine was here twice before: its jobs are on the bench, and its file knows of them."""
    inventory = read_inventory(SimulatedMachine(scenario, speed=0.0))
    key = machine_key(inventory)
    now = time.time()
    for number, days, room_c, symptom, done, words, faults in _EARLIER:
        path = jobs / f"{number}-sail-loft{ENDING}"
        if is_there(path):
            continue
        fields = {"number": number, "machine": scenario.title, "customer": "Ida Tangen", "words": words}
        create_job(path, fields | {"symptoms": symptom, "model": "sail-loft"})
        state = replace(scenario, faults=tuple(each for each in scenario.faults if each.kind in faults))
        wall = now - days * _DAY_S
        record_earlier_visit(path, state, wall, room_c, done)
        os.utime(path, (wall, wall))
        if key is not None:
            _add_visit(shop, key, inventory.name, Visit(wall=wall, job=path.name, number=number, parts=inventory.parts))


def _add_visit(shop: Path, key: str, name: str, visit: Visit) -> None:
    change_machine(shop, key, lambda file: replace(file.visited(visit), name=name))


def _note_earlier_visit(shop: Path) -> None:
    """The boatyard's machine was here two years ago, with a second drive that is gone today."""
    system = SimulatedMachine(load_scenario(shipped_scenarios()["boatyard-plotter"]), speed=0.0)
    inventory = read_inventory(system)
    key = machine_key(inventory)
    if key is None or is_there(machine_path(shop, key)):
        return
    charts = (
        Fact("size", "2000 GB", "/sys/block/sda/size"),
        Fact("serial", "SB2K-000917", "/sys/block/sda/device/serial"),
    )
    second = Part("drive sda", PartKind.DRIVE, "Slipway B2 2TB", "sda", charts)
    kept = tuple(part for part in inventory.parts if part.tag != "memory B2")
    visit = Visit(wall=time.time() - 700 * _DAY_S, job="0288-boatyard", number="0288", parts=(*kept, second))
    change_machine(shop, key, lambda _: MachineFile(name=inventory.name, visits=(visit,)))
