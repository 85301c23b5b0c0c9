"""Sources that block: ticks stay on time, other channels are read, Stop is quick, a limit on a late channel trips."""

import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from thresher.compose.sheet_file import parse_sheet
from thresher.engine.assembly import open_engine
from thresher.inventory.machine import read_inventory
from thresher.machine.tree import TreeSystem
from thresher.model.channels import Channel, Quantity
from thresher.model.parts import PartKind
from thresher.model.port import Source
from thresher.sensors.discovery import Discovery, discover
from thresher.sensors.probes import Probe, scaled
from thresher.sensors.readers import LATE, Readers
from thresher.sensors.sampler import Sampler
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario

BLOCKS_S = 30.0


class BlockingSource:
    """Answers until `blocked` is set; then a read does not return before `release`, or 30 s."""

    path = "/sys/class/hwmon/hwmon0/temp1_input"

    def __init__(self) -> None:
        self.blocked = threading.Event()
        self.release = threading.Event()
        self.reads = 0

    def read(self) -> bytes:
        self.reads += 1
        if self.blocked.is_set():
            self.release.wait(BLOCKS_S)
        return b"41000\n"

    def close(self) -> None:
        """Nothing is open."""


class QuickSource:
    """Always answers."""

    path = "/sys/class/hwmon/hwmon1/temp1_input"

    def read(self) -> bytes:
        return b"37000\n"

    def close(self) -> None:
        """Nothing is open."""


def channel(key: str) -> Channel:
    return Channel(key, key, Quantity.TEMPERATURE, PartKind.PROCESSOR, source=key)


@pytest.fixture
def blocking() -> Iterator[BlockingSource]:
    source = BlockingSource()
    yield source
    source.release.set()


@pytest.fixture
def sampler(tmp_path: Path, blocking: BlockingSource) -> Iterator[Sampler]:
    probes = tuple(
        Probe(source, (channel(name),), scaled(1000.0))
        for name, source in (("first", QuickSource()), ("sick", blocking), ("last", QuickSource()))
    )
    made = Sampler(TreeSystem(tmp_path), Discovery(probes, ()), deadline_s=0.05)
    yield made
    made.close()


def test_a_source_that_blocks_is_late_and_the_others_are_read(sampler: Sampler, blocking: BlockingSource) -> None:
    assert sampler.sample().values == (37.0, 41.0, 37.0)
    blocking.blocked.set()
    tick = sampler.sample()
    assert tick.values == (37.0, None, 37.0)
    assert tick.missing == {1: LATE}
    assert sampler.late_channels == {"sick"}
    reads = blocking.reads
    for _ in range(5):
        assert sampler.sample().values == (37.0, None, 37.0)
    assert blocking.reads == reads, "a source that has not answered is not asked again"


def test_a_late_source_counts_again_when_it_answers(sampler: Sampler, blocking: BlockingSource) -> None:
    blocking.blocked.set()
    assert sampler.sample().values[1] is None
    blocking.blocked.clear()
    blocking.release.set()
    deadline = time.monotonic() + 10
    while sampler.sample().values[1] is None:
        assert time.monotonic() < deadline
        time.sleep(0.01)
    assert sampler.sample().values == (37.0, 41.0, 37.0)
    assert sampler.late_channels == frozenset()


def test_many_sources_that_block_hold_a_tick_up_for_a_few_deadlines_only() -> None:
    never = threading.Event()
    readers: Readers[int] = Readers(0.02)

    def read(number: int) -> int:
        if number % 2:
            never.wait(BLOCKS_S)
        return number

    try:
        begun = time.monotonic()
        first = readers.read(range(40), read)
        assert time.monotonic() - begun < BLOCKS_S / 2
        assert set(first) <= set(range(0, 40, 2))
        for _ in range(30):
            found = readers.read(range(40), read)
        assert set(found) == set(range(0, 40, 2)), "in the end every source that answers is read"
        assert readers.late == frozenset(range(1, 40, 2))
    finally:
        never.set()


def machine_with(scenario: Scenario, source: BlockingSource) -> SimulatedMachine:
    """A simulated machine whose processor temperature is read from a source that can block, as on a real machine."""

    class Machine(SimulatedMachine):
        def open(self, path: str) -> Source:  # type: ignore[override]
            return source if path == source.path else super().open(path)

    return Machine(scenario, 0.0)


def test_a_limit_on_a_late_channel_trips_and_stop_does_not_wait(
    ferry: Scenario, tmp_path: Path, blocking: BlockingSource, monkeypatch: pytest.MonkeyPatch
) -> None:
    plain = SimulatedMachine(ferry, 0.0)
    blocking.path = next(
        each.source
        for each in discover(plain, read_inventory(plain)).channels
        if each.quantity is Quantity.TEMPERATURE and each.kind is PartKind.PROCESSOR
    )
    model = machine_with(ferry, blocking)
    # as on a real machine: sources are read on threads of their own
    monkeypatch.setattr(
        "thresher.engine.assembly.Sampler",
        lambda system, found: _with_readers(Sampler(system, found)),
    )
    text = (
        'format = "thresher-sheet/1"\ntitle = "Limit"\n[limits]\ntemperature_c = 95\n'
        '[[blocks]]\nrow = "processor"\nload = "matrix"\nstart = 0\nlength = 600\n'
    )
    engine = open_engine(model, tmp_path / "job.thresher")
    try:
        began = model.now()
        seen: list[float] = []

        def block_soon(event: object) -> None:
            seen.append(model.now())
            if model.now() - began > 20:
                blocking.blocked.set()

        engine.subscribe(block_soon)
        status = engine.run_to_end(parse_sheet(text, "test"))
        assert status.ending == "tripped"
        assert "gives no readings" in status.ending_detail
        assert status.run_at < 40
    finally:
        begun = time.monotonic()
        engine.close()
        assert time.monotonic() - begun < BLOCKS_S / 2


def _with_readers(sampler: Sampler) -> Sampler:
    sampler._readers = Readers(0.05)
    return sampler
