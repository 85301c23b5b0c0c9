"""The heat runs of the demo bench's sail loft: one simulated machine, as it came in, cleaned, with fresh paste.

They are recorded here, not made up: the simulated machine runs its load, the program's own sampler reads it, and what
it reads goes into the job file as on any bench. Only the waiting is left out.
"""

from dataclasses import replace
from pathlib import Path

from thresher.inventory.machine import read_inventory
from thresher.journal.rows import ENDS, ROOM
from thresher.journal.writer import JournalWriter
from thresher.loads.registry import LOADS
from thresher.model.errors import EnvironmentFault
from thresher.model.parts import PartKind
from thresher.model.port import Stress
from thresher.model.run_states import Ending
from thresher.model.sheet import Block, RunSheet
from thresher.model.trials import Book, BookPart, Configuration, Trial
from thresher.sensors.discovery import discover
from thresher.sensors.sampler import Sampler
from thresher.simulator.fault_kinds import FaultKind
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario

LOAD = "matrix"
_STEP_S = 0.5
_BEFORE_S = 20.0
_CLOSE_S, _SELDOM_S = 90.0, 5.0
"""A reading a second while the temperature rises fast, then one in so many."""


def record_heat_run(
    writer: JournalWriter, scenario: Scenario, number: int, minutes: float, wall: float, room_typed_c: float
) -> None:
    """Let a simulated machine run a steady load from cold, and write the run into a job file.

    `wall` is when it began (Unix time), `room_typed_c` what the technician typed in.
    """
    machine = SimulatedMachine(scenario, 0.0, _STEP_S)
    inventory = read_inventory(machine)
    sampler = Sampler(machine, discover(machine, inventory))
    began = machine.now()
    block = Block(PartKind.PROCESSOR, LOAD, _BEFORE_S, minutes * 60.0)
    sheet = RunSheet(f"Heat hunt, {minutes:.0f} min", (block,))
    writer.begin_run(number, sheet, inventory, sampler.channels, f"heat-{number}", began, wall)
    writer.add_mark(number, began, ROOM, {"celsius": room_typed_c})
    ends = began + _BEFORE_S + minutes * 60.0
    loaded = False
    while machine.now() < ends:
        since = machine.now() - began - _BEFORE_S
        if since >= -_STEP_S / 2 and not loaded:
            loaded = True
            kind = LOADS[LOAD]
            stress = Stress(1.0, kind.heat, kind.wide, kind.memory)
            machine.work.set_stress(dict.fromkeys((each.cpu for each in inventory.cpus), stress))
            cpus = [each.cpu for each in inventory.cpus]
            begins = {"index": 0, "title": LOAD, "load": LOAD, "cpus": cpus}
            writer.add_mark(number, machine.now(), "block begins", begins)
        tick = sampler.sample()
        writer.add_tick(number, replace(tick, wall=wall + tick.at - began))
        machine.live_until(machine.now() + (1.0 if since < _CLOSE_S else _SELDOM_S))
    writer.add_mark(number, machine.now(), ENDS, {"index": 0, "how": "finished"})
    writer.end_run(number, machine.now(), Ending.FINISHED.value, "carried out to its end")


def without(scenario: Scenario, *kinds: FaultKind) -> Scenario:
    """Return a scenario without some faults: they were put right."""
    return replace(scenario, faults=tuple(fault for fault in scenario.faults if fault.kind not in kinds))


def book_of_heat_runs(scenario: Scenario) -> Book:
    """Return the book of trials of the sail loft: cleaned, then new paste, then once with the side panel off."""
    tags = ("CPU", "cooler")
    parts = (BookPart("CPU", PartKind.PROCESSOR, scenario.processor.name), BookPart("cooler", PartKind.COOLING))
    plain = Configuration(tags)
    cleaned = replace(plain, treated=("cooler",))
    return Book(
        parts,
        (
            Trial(0, "As it came in", plain, (1,)),
            Trial(1, "Dust cleaned out", cleaned, (2,), kept=True),
            Trial(2, "Fresh paste", cleaned, (3,), kept=True),
            Trial(3, "Side panel off", cleaned, (4,)),
        ),
    )


def record_earlier_visit(path: Path, scenario: Scenario, wall: float, room_c: float, done: str) -> None:
    """Record one heat run of an earlier visit, after something was done, into its job file. Raises EnvironmentFault."""
    writer = JournalWriter(path)
    try:
        record_heat_run(writer, replace(scenario, ambient_c=room_c), 1, 22.0, wall, room_c)
        plain = Configuration(("CPU", "cooler"))
        trials = (Trial(0, "As it came in", plain), Trial(1, done, plain, (1,), kept=True))
        parts = (BookPart("CPU", PartKind.PROCESSOR, scenario.processor.name), BookPart("cooler", PartKind.COOLING))
        writer.set_book(Book(parts, trials))
    finally:
        left = writer.close()
    if not left.complete:
        raise EnvironmentFault(f"writing {path}", "; ".join(left.sentences), "Make room on the disk and try again.")


def record_sail_loft(path: Path, scenario: Scenario, wall: float) -> None:
    """Record the four heat runs of the sail loft into its job file, the first at `wall` (Unix time).

    Raises EnvironmentFault.
    """
    writer = JournalWriter(path)
    try:
        cleaned = without(scenario, FaultKind.CLOGGED_HEATSINK)
        mended = without(cleaned, FaultKind.DRY_PASTE)
        for number, state, minutes, room_c, after_h in (
            (1, scenario, 22.0, 22.0, 0.0),
            (2, cleaned, 22.0, 22.4, 1.25),
            (3, mended, 22.0, 23.4, 3.9),
            (4, mended, 2.0, 23.6, 5.1),
        ):
            warmer = replace(state, ambient_c=room_c, seed=state.seed + number)
            record_heat_run(writer, warmer, number, minutes, wall + after_h * 3600.0, room_c)
        writer.set_book(book_of_heat_runs(scenario))
    finally:
        left = writer.close()
    if not left.complete:
        raise EnvironmentFault(f"writing {path}", "; ".join(left.sentences), "Make room on the disk and try again.")
