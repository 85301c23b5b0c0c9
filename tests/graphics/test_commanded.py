"""Loads of a card that takes commands, on a card of the test's own: what goes wrong in it is found, and where."""

import random
import zlib

import numpy as np
import pytest

from thresher.graphics.commanded import CommandedLoad
from thresher.graphics.findings import wrong_findings
from thresher.graphics.results import CardReport, Source, Wrong
from thresher.model.card_port import CardLoss, CardLost, CardUse
from thresher.model.sheet import Shape, ShapeKind
from thresher.simulator.cards import SimulatedCard
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import GraphicsSpec, Scenario

WIDE, HIGH = 64, 48


class BenchCard:
    """A card that answers rightly but for the bits that a test turns over in the next result."""

    memory_bytes, words, frame_size = 1 << 30, 4096, (WIDE, HIGH)

    def __init__(self) -> None:
        self.memory = np.zeros(self.words, np.uint32)
        self.flips: list[tuple[int, int]] = []
        self.busy: list[tuple[float, float]] = []
        self.loss: CardLoss | None = None

    def keep_busy(self, use: CardUse, share: float, edges_per_s: float = 0.0) -> None:
        self.busy.append((share, edges_per_s))

    def _spoilt(self, content: bytes) -> bytes:
        if self.loss is not None:
            raise CardLost(self.loss)
        found = np.frombuffer(content, np.uint32).copy()
        for word, bit in self.flips:
            found[word] ^= np.uint32(1 << bit)
        self.flips = []
        return found.tobytes()

    def chains(self, seed: int, lanes: int, turns: int) -> bytes:
        """Work the chains out one by one, in Python's whole numbers."""
        out = []
        for lane in range(lanes):
            x = (lane ^ seed) & 0xFFFFFFFF
            x = (x ^ (x >> 16)) * 0x7FEB352D & 0xFFFFFFFF
            x = (x ^ (x >> 15)) * 0x846CA68B & 0xFFFFFFFF
            x ^= x >> 16
            for _ in range(turns):
                x = (x * 1664525 + 1013904223) & 0xFFFFFFFF
                x ^= (x << 13) & 0xFFFFFFFF
                x ^= x >> 17
                x ^= (x << 5) & 0xFFFFFFFF
            out.append(x)
        return self._spoilt(np.array(out, np.uint32).tobytes())

    def draw(self, number: int) -> bytes:
        rows = np.arange(WIDE * HIGH, dtype=np.uint32) * np.uint32(2654435761) + np.uint32(number)
        return self._spoilt(rows.tobytes())

    def write(self, begin: int, content: bytes) -> None:
        words = np.frombuffer(content, np.uint32)
        self.memory[begin : begin + len(words)] = words

    def read(self, begin: int, words: int) -> bytes:
        return self._spoilt(self.memory[begin : begin + words].tobytes())

    def send_back(self, content: bytes) -> bytes:
        return self._spoilt(content)

    def frame_ms(self) -> float:
        return 5.0

    def bytes_per_s(self) -> float:
        return 1e9


SIZES = {CardUse.COMPUTE: 64, CardUse.RASTER: WIDE * HIGH, CardUse.MEMORY: 4096, CardUse.TRANSFER: 4096}
SOURCES = {
    CardUse.COMPUTE: Source.COMPUTE,
    CardUse.RASTER: Source.PIXEL,
    CardUse.MEMORY: Source.MEMORY,
    CardUse.TRANSFER: Source.TRANSFER,
}


@pytest.mark.parametrize("use", list(CardUse))
def test_what_is_right_is_found_right(use: CardUse) -> None:
    load = CommandedLoad(BenchCard(), use)
    reports = [load.advance(float(second)) for second in range(1, 30)]
    assert reports[-1].wrong_count == 0
    assert reports[-1].beats == 29
    assert reports[-1].units > 0


@pytest.mark.parametrize("use", list(CardUse))
def test_every_bit_that_is_turned_over_is_found_at_its_place(use: CardUse) -> None:
    """One bit a beat, in 200 beats: at least 99 in a hundred are to be found at the right place. All are."""
    card, chance = BenchCard(), random.Random(use.value)
    load = CommandedLoad(card, use)
    scale = card.memory_bytes // 4 // card.words if use is CardUse.MEMORY else 1
    found = 0
    for beat in range(1, 201):
        word, bit = chance.randrange(SIZES[use]), chance.randrange(32)
        card.flips = [(word, bit)]
        report = load.advance(float(beat))
        found += [(w.source, w.place, w.expected ^ w.found) for w in report.wrong] == [
            (SOURCES[use], word * scale, 1 << bit)
        ]
    assert found >= 198
    assert report.wrong_count == 200


def test_a_frame_wrong_while_the_reference_is_drawn_does_not_become_the_reference() -> None:
    card = BenchCard()
    card.flips = [(100, 3)]  # in the very first frame that is drawn
    load = CommandedLoad(card, CardUse.RASTER)
    assert [load.advance(float(second)).wrong_count for second in range(1, 25)] == [0] * 24


def test_a_wrong_frame_is_kept_as_a_picture(tmp_path: "object") -> None:
    from pathlib import Path

    card = BenchCard()
    folder = Path(str(tmp_path)) / "frames"
    load = CommandedLoad(card, CardUse.RASTER, folder=folder)
    card.flips = [(WIDE * 5 + 7, 20)]
    report = load.advance(1.0)
    (picture,) = report.pictures
    assert Path(picture).parent == folder
    assert Path(picture).read_bytes()[:8] == b"\x89PNG\r\n\x1a\n"


def test_a_picture_that_cannot_be_saved_is_said_and_the_load_goes_on(tmp_path: "object") -> None:
    from pathlib import Path

    card = BenchCard()
    (Path(str(tmp_path)) / "file").write_text("no folder")
    load = CommandedLoad(card, CardUse.RASTER, folder=Path(str(tmp_path)) / "file")
    card.flips = [(5, 1)]
    (words,) = load.advance(1.0).pictures
    assert words.startswith("could not be saved to ")
    assert load.advance(2.0).wrong_count == 1


def test_a_pulse_rests_and_says_how_often_it_comes_on() -> None:
    card = BenchCard()
    load = CommandedLoad(card, CardUse.COMPUTE, Shape(ShapeKind.PULSE, 4.0, 0.5))
    beats = [load.advance(float(second)).beats for second in range(1, 9)]
    assert beats == [1, 2, 2, 2, 3, 4, 4, 4]  # two seconds on, two off
    assert {edges for _, edges in card.busy} == {0.25}


def test_holding_a_temperature_leaves_a_share() -> None:
    card = BenchCard()
    load = CommandedLoad(card, CardUse.RASTER)
    half = load.advance(10.0, 0.5)
    assert half.busy_s == pytest.approx(5.0)
    assert half.units == pytest.approx(1000.0)  # 5 s of 5 ms a frame


def test_a_lost_card_raises_how() -> None:
    card = BenchCard()
    load = CommandedLoad(card, CardUse.COMPUTE)
    card.loss = CardLoss.GONE
    with pytest.raises(CardLost, match="off the bus"):
        load.advance(1.0)


# ---- the simulated card answers by itself


def simulated(ferry: Scenario) -> SimulatedCard:
    from dataclasses import replace

    machine = SimulatedMachine(replace(ferry, graphics=(GraphicsSpec(name="Lumen L40", memory_gib=8),)), 0.0)
    return machine.open_card("0000:01:00.0")


def test_a_simulated_card_computes_what_the_chains_are(ferry: Scenario) -> None:
    card = simulated(ferry)
    assert card.chains(5, 16, 40) == BenchCard().chains(5, 16, 40)
    # lane 0 of seed 0, no turns: the mixing of 0 is 0
    assert card.chains(0, 1, 0) == b"\0\0\0\0"


def test_a_simulated_card_draws_the_same_frame_again_and_others_differ(ferry: Scenario) -> None:
    card = simulated(ferry)
    sums = [zlib.crc32(card.draw(number)) for number in range(12)]
    assert len(set(sums)) == 12
    assert zlib.crc32(card.draw(12)) == sums[0]


def test_a_simulated_card_warms_under_load_and_cools_again(ferry: Scenario) -> None:
    from dataclasses import replace

    machine = SimulatedMachine(replace(ferry, graphics=(GraphicsSpec(name="Lumen L40", memory_gib=8),)), 0.0)
    card = machine.open_card("0000:01:00.0")

    def reads(file: str) -> int:
        return int(machine.read(f"/sys/class/drm/card0/device/hwmon/hwmon{number}/{file}"))

    number = next(int(name.removeprefix("hwmon")) for name in machine.list("/sys/class/drm/card0/device/hwmon"))
    idle = reads("temp2_input"), reads("power1_average")
    card.keep_busy(CardUse.RASTER, 1.0)
    machine.live_until(machine.now() + 600)
    loaded = reads("temp2_input"), reads("power1_average")
    assert loaded[0] > idle[0] + 25_000
    assert loaded[1] > 140_000_000
    assert reads("fan1_input") > 1000
    assert int(machine.read("/sys/class/drm/card0/device/gpu_busy_percent")) == 100
    card.keep_busy(CardUse.RASTER, 0.0)
    machine.live_until(machine.now() + 1200)
    assert reads("temp2_input") < idle[0] + 6000


# ---- findings


def test_findings_name_place_bits_and_how_many() -> None:
    card = BenchCard()
    load = CommandedLoad(card, CardUse.RASTER)
    card.flips = [(WIDE * 5 + 7, 20), (WIDE * 5 + 8, 20)]
    report: CardReport = load.advance(1.0)
    (finding,) = wrong_findings("card0", report.wrong, 2, 0, WIDE)
    assert finding.title == "Wrong pixel, card0"
    assert finding.detail == "frame 1, 2 pixels wrong, first pixel 7, 5 from the bottom left, bit 20"
    assert finding.count == 1  # they went wrong together
    card.flips = [(3, bit) for bit in range(16)]
    report = load.advance(2.0)
    (finding,) = wrong_findings("card0", report.wrong, 1, 0, WIDE)
    assert "16 bits of it" in finding.detail


def test_a_word_that_was_wrong_once_is_named_as_such() -> None:
    wrong = Wrong(Source.MEMORY, 4, 25, 0, 0, "stripes, right when it was read again")
    (finding,) = wrong_findings("card0", (wrong,), 1, 1 << 20)
    assert finding.detail == "stripes, right when it was read again, 1 word wrong, first address 0x64"
    assert "expected" not in finding.raw
    assert "right when it was read again" in finding.raw
