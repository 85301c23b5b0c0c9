"""Captures: the same machine elsewhere, without its names, and nothing that leads outside."""

import io
import tarfile
from collections.abc import Callable
from pathlib import Path
from typing import NoReturn

import pytest

from tests.unit import machine_trees as trees
from thresher.app.machines import capture_machine, open_system
from thresher.inventory.machine import read_inventory
from thresher.machine.capture import CapturedSystem
from thresher.machine.live import LiveSystem
from thresher.machine.tree import TreeSystem
from thresher.model.errors import EnvironmentFault, InputError, SourceUnavailable
from thresher.model.port import System
from thresher.sensors.discovery import discover
from thresher.sensors.sampler import Sampler
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario

WriteTree = Callable[[dict[str, str | bytes]], Path]


class WithoutCounters(SimulatedMachine):
    """A simulated machine as files alone can show it: running counters are nothing that a capture could hold."""

    def open_counters(self, cpu: int) -> NoReturn:
        """Have none."""
        raise SourceUnavailable(f"counters of CPU {cpu}", "left out")


def shown(system: System) -> tuple[object, ...]:
    """What a technician would see of a machine."""
    inventory = read_inventory(system)
    discovery = discover(system, inventory)
    tick = Sampler(system, discovery).sample()
    parts = [(part.tag, part.name, [(fact.name, fact.value) for fact in part.facts]) for part in inventory.parts]
    channels = [(channel.name, channel.limits, channel.source) for channel in discovery.channels]
    return parts, inventory.cpus, inventory.doubts, inventory.empty_slots, channels, tick.values


def test_a_capture_reports_what_the_machine_reported(lighthouse: Scenario, tmp_path: Path) -> None:
    machine = WithoutCounters(lighthouse, 0.0)
    count, unknown = capture_machine(machine, tmp_path / "c.tar.gz", with_names=True)
    assert count > 100
    assert [fact.value for fact in unknown] == ["left out"]
    captured = open_system(root=tmp_path / "c.tar.gz")
    assert shown(captured) == shown(machine)
    assert captured.open_kernel_log().read_records() == machine.open_kernel_log().read_records()
    captured.close()


@pytest.mark.parametrize("kind", trees.ALL)
def test_every_kind_of_machine_survives_its_capture(write_tree: WriteTree, tmp_path: Path, kind: str) -> None:
    tree = TreeSystem(write_tree(trees.ALL[kind]()))
    capture_machine(tree, tmp_path / "c.tar.gz", with_names=True)
    captured = CapturedSystem(tmp_path / "c.tar.gz")
    assert shown(captured) == shown(tree)
    captured.close()


def test_this_computer_can_be_captured(tmp_path: Path) -> None:
    capture_machine(LiveSystem(), tmp_path / "c.tar.gz", with_names=False)
    captured = CapturedSystem(tmp_path / "c.tar.gz")
    assert read_inventory(captured).cpus == read_inventory(LiveSystem()).cpus
    captured.close()


def test_names_and_serial_numbers_are_masked_and_the_rest_stays_whole(lighthouse: Scenario, tmp_path: Path) -> None:
    machine = SimulatedMachine(lighthouse, 0.0)
    capture_machine(machine, tmp_path / "c.tar.gz", with_names=False)
    with tarfile.open(tmp_path / "c.tar.gz") as tar:
        whole = b"".join(stream.read() for entry in tar if entry.isreg() and (stream := tar.extractfile(entry)))
    assert b"SL3K-004417" not in whole
    assert b"Playout desk" not in whole
    captured = CapturedSystem(tmp_path / "c.tar.gz")
    drive = next(part for part in read_inventory(captured).parts if part.tag == "drive nvme0n1")
    assert {fact.name: fact.value for fact in drive.facts}["serial"] == "x" * len("SL3K-004417")
    assert drive.name == "Slipway N3 1TB"
    assert read_inventory(captured).unknown == ()
    captured.close()


def test_its_folder_goes_when_it_is_closed(lighthouse: Scenario, tmp_path: Path) -> None:
    capture_machine(SimulatedMachine(lighthouse, 0.0), tmp_path / "c.tar.gz", with_names=True)
    captured = CapturedSystem(tmp_path / "c.tar.gz")
    folder = Path(captured._folder.name)
    assert folder.is_dir()
    captured.close()
    assert not folder.exists()


def tar_of(path: Path, *entries: tuple[str, str | bytes]) -> Path:
    """A tar with links (text) and files (bytes), in their order."""
    with tarfile.open(path, "w") as tar:
        for name, content in entries:
            entry = tarfile.TarInfo(name)
            if isinstance(content, str):
                entry.type, entry.linkname = tarfile.SYMTYPE, content
                tar.addfile(entry)
            else:
                entry.size = len(content)
                tar.addfile(entry, io.BytesIO(content))
    return path


@pytest.mark.parametrize(
    "entries",
    [
        (("../outside", b"x"),),
        (("/etc/outside", b"x"),),
        (("sys", "/etc"), ("sys/outside", b"x")),
        (("a/b", ".."), ("a/b/c", b"x")),
    ],
)
def test_a_capture_that_leads_outside_is_refused(tmp_path: Path, entries: tuple[tuple[str, str | bytes], ...]) -> None:
    with pytest.raises(InputError, match="leads"):
        CapturedSystem(tar_of(tmp_path / "evil.tar", *entries))
    assert not (tmp_path / "outside").exists()


def test_what_is_no_capture_is_reported(tmp_path: Path) -> None:
    (tmp_path / "note.tar.gz").write_text("not a tar")
    with pytest.raises(InputError, match="cannot be unpacked"):
        CapturedSystem(tmp_path / "note.tar.gz")
    with pytest.raises(EnvironmentFault, match="writing the capture"):
        capture_machine(LiveSystem(), tmp_path / "no" / "c.tar.gz", with_names=True)


def test_what_identifies_a_machine_is_masked_also_inside_tables(write_tree: WriteTree, tmp_path: Path) -> None:
    uuid = bytes(range(16, 32))
    table = trees.structure(1, {4: bytes([1, 2, 0, 3]), 8: uuid}, 27, "Quayside", "Mooring", "QB-SECRET-1")
    files: trees.Files = {
        "/sys/firmware/dmi/tables/DMI": table + trees.END,
        "/etc/machine-id": "7d9a3c0e5b1f4a2289c6d4e1f0a35b77\n",
        "/proc/cpuinfo": "model name : Tern\n",
    }
    tree = TreeSystem(write_tree(files))
    assert len(read_inventory(tree).identity) == 3
    capture_machine(tree, tmp_path / "c.tar.gz", with_names=False)
    captured = CapturedSystem(tmp_path / "c.tar.gz")
    content = captured.read("/sys/firmware/dmi/tables/DMI") + captured.read("/etc/machine-id")
    for secret in (uuid, b"QB-SECRET-1", b"7d9a3c0e"):
        assert secret not in content
    assert read_inventory(captured).identity == ()
    captured.close()
