"""Opening a machine: this computer, a directory tree, a capture or a simulated machine; and capturing one.

Kept apart from the engine's wiring, so that a verb that only looks at a machine loads nothing that it does not need.
"""

import os
from pathlib import Path

from thresher.inventory.identity import SECRET_FACTS
from thresher.inventory.machine import read_inventory
from thresher.machine.capture import CapturedSystem, RecordingSystem, write_capture
from thresher.machine.live import LiveSystem
from thresher.machine.tree import TreeSystem
from thresher.model.access import ASK
from thresher.model.errors import EnvironmentFault
from thresher.model.parts import Fact
from thresher.model.port import System, optional_text
from thresher.model.regular_file import is_file
from thresher.sensors.discovery import discover
from thresher.sensors.sampler import Sampler
from thresher.simulator.scenario import load_scenario, shipped_scenarios


def scenario_path(name: str) -> Path:
    """Return the scenario file that a person named: one that ships, or a file."""
    return shipped_scenarios().get(name, Path(name))


def open_system(root: Path | None = None, simulate: str | None = None, speed: float | None = None) -> System:
    """Return the machine asked for: a directory tree, a simulated machine, or this computer. Raises ThresherError."""
    if root is not None and simulate is not None:
        raise EnvironmentFault("choosing the machine", "both --root and --simulate were given", "Give one of them.")
    if root is not None:
        return CapturedSystem(root) if is_file(root) else TreeSystem(root)
    if simulate is not None:
        from thresher.simulator.machine import SimulatedMachine  # numpy is slow to load and a real machine needs none

        return SimulatedMachine(load_scenario(scenario_path(simulate)), speed)
    system = LiveSystem()
    if os.environ.get(ASK):
        system.ask_access()  # what is not allowed stands among the sources that could not be read
    return system


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
