"""Loads of a card on the software renderer: known answers hold, and a fault put in is found where it was put."""

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from PIL import Image

from thresher.graphics.compute import ComputeLoad, known_answers
from thresher.graphics.memory import MemoryLoad, Pattern, passes
from thresher.graphics.raster import FRAMES, RasterLoad
from thresher.graphics.results import Source, Wrong
from thresher.graphics.transfer import TransferLoad

if TYPE_CHECKING:
    import moderngl

LANES = 4096
SIZE = (160, 90)
FEW = settings(max_examples=25, suppress_health_check=[HealthCheck.function_scoped_fixture])


def turn(buffer: "moderngl.Buffer", place: int, bit: int) -> None:
    """Turn one bit of one word over."""
    word = np.frombuffer(buffer.read(4, offset=4 * place), dtype=np.uint32)[0]
    buffer.write(np.uint32(int(word) ^ 1 << bit).tobytes(), offset=4 * place)


# ---- compute


def test_known_answers_are_worked_out_by_hand() -> None:
    # lane 0, seed 0: mixing 0 gives 0. One turn: 0 · 1664525 + 1013904223 = 3c6ef35f;
    # with itself shifted left by 13: e205135f, right by 17: e205625d, left by 5: a2a929fd
    assert known_answers(0, 3, 0)[0] == 0
    assert known_answers(0, 3, 1)[0] == 0xA2A929FD
    # lane 1: 1 · 7feb352d = 7feb352d, shifted right by 15: 7febcafb, · 846ca68b = 6889f849, right by 16: 688990c0;
    # one turn: 7dd7cd1f, 84742d1f, 84746f25, 0af98b85
    assert known_answers(0, 3, 0)[1] == 0x688990C0
    assert known_answers(0, 3, 1)[1] == 0x0AF98B85
    # lane 0 with the seed deadbeef: dead6042, 23fd959a, 23fdd261, e62820ab, e628c683
    assert known_answers(0xDEADBEEF, 1, 0)[0] == 0xE628C683


def test_the_card_answers_exactly(gl: "moderngl.Context") -> None:
    load = ComputeLoad(gl, LANES, turns=40)
    beats = [load.beat() for _ in range(4)]
    assert [beat.wrong_count for beat in beats] == [0, 0, 0, 0]
    assert beats[0].units == 2 * LANES


@FEW
@given(place=st.integers(0, 2 * LANES - 1), bit=st.integers(0, 31))
def test_a_turned_bit_in_a_result_is_found_at_its_place(gl: "moderngl.Context", place: int, bit: int) -> None:
    load = ComputeLoad(gl, LANES, turns=4, spoil=lambda buffer, beat: turn(buffer, place, bit) if beat == 2 else None)
    assert load.beat().wrong_count == 0
    (wrong,) = load.beat().wrong
    assert (wrong.source, wrong.beat, wrong.place) == (Source.COMPUTE, 2, place % LANES)
    assert wrong.detail == ("whole numbers" if place < LANES else "floating point")
    assert wrong.expected ^ wrong.found == 1 << bit
    assert load.beat().wrong_count == 0


# ---- card memory


def test_a_round_covers_every_byte_with_every_pattern(gl: "moderngl.Context") -> None:
    load = MemoryLoad(gl, 1 << 20, retention_s=0.01, most_words=1 << 17)
    assert load.covered == 1 << 20
    units, beat = 0.0, load.beat()
    while load.rounds < 1:
        assert beat.wrong == ()
        units += beat.units
        beat = load.beat()  # the last one is the first of the next round
    # 8 passes of fixed words, 4 of walking bits, 2 of addresses, 2 of random words and retention write and compare;
    # the march writes, then reads, writes and reads again upwards and downwards: 17 · 2 + 1 + 6
    assert units == 41 << 20
    assert {each.pattern for each in passes(1.0)} == set(Pattern)


@FEW
@given(place=st.integers(0, (1 << 18) - 1), bit=st.integers(0, 31))
def test_a_stuck_bit_of_the_cards_memory_is_found_at_its_address(gl: "moderngl.Context", place: int, bit: int) -> None:
    number, inside = divmod(place, 1 << 17)

    def stuck(buffer: "moderngl.Buffer", which: int, _beat: int) -> None:
        if which == number:
            word = int(np.frombuffer(buffer.read(4, offset=4 * inside), dtype=np.uint32)[0])
            buffer.write(np.uint32(word | 1 << bit).tobytes(), offset=4 * inside)

    load = MemoryLoad(gl, 1 << 20, retention_s=0.0, most_words=1 << 17, spoil=stuck)
    found: list[Wrong] = []
    while load.rounds < 1:
        found += load.beat().wrong
    assert {(each.place, each.expected ^ each.found) for each in found} == {(place, 1 << bit)}
    assert {each.source for each in found} == {Source.MEMORY}
    # the words 0, 5555…, 3333…, 0f0f… and their complements hold a 0 there four times
    assert sum(each.detail.startswith("fixed") for each in found) == 4


def test_a_word_that_is_right_when_looked_at_closely_was_wrong_on_the_way(
    gl: "moderngl.Context", monkeypatch: pytest.MonkeyPatch
) -> None:
    load = MemoryLoad(gl, 1 << 20, retention_s=0.0, most_words=1 << 17)
    marks = iter([0, 501, *[0] * 99])
    monkeypatch.setattr(load._faults, "mark", lambda: next(marks))
    wrong = [each for _ in range(12) for each in load.beat().wrong]
    (one,) = wrong
    assert one.place == (1 << 17) + 4 * 500, "the second buffer, counted in words"
    assert "right when it was read again" in one.detail


def test_more_than_there_is_ends_where_the_card_gives_no_more(
    gl: "moderngl.Context", monkeypatch: pytest.MonkeyPatch
) -> None:
    from thresher.graphics import memory

    real = memory._buffer
    given_out: list[int] = []

    def full(gl: "moderngl.Context", size: int) -> "moderngl.Buffer | None":
        if len(given_out) == 3:
            return None
        given_out.append(size)
        return real(gl, size)

    monkeypatch.setattr(memory, "_buffer", full)
    assert MemoryLoad(gl, 1 << 30, most_words=1 << 16).covered == 3 << 18
    with pytest.raises(MemoryError, match="gives no memory"):
        MemoryLoad(gl, 1 << 30)


# ---- transfer


@FEW
@given(place=st.integers(0, (1 << 16) - 1), bit=st.integers(0, 31))
def test_a_bit_lost_on_the_way_is_found(gl: "moderngl.Context", place: int, bit: int) -> None:
    load = TransferLoad(gl, block=1 << 18, spoil=lambda buffer, beat: turn(buffer, place, bit) if beat == 2 else None)
    first, second, third = load.beat(), load.beat(), load.beat()
    assert (first.wrong_count, second.wrong_count, third.wrong_count) == (0, 1, 0)
    assert (second.wrong[0].source, second.wrong[0].place) == (Source.TRANSFER, place)
    assert first.units == 2 << 18


# ---- raster


def test_every_frame_comes_out_the_same(gl: "moderngl.Context") -> None:
    load = RasterLoad(gl, SIZE, stalks=200, layers=2)
    assert all(load.beat().wrong_count == 0 for _ in range(2 * FRAMES))


def test_the_scene_has_depth_texture_and_moves(gl: "moderngl.Context") -> None:
    kept: list[bytes] = []
    load = RasterLoad(gl, SIZE, stalks=400, layers=2, spoil=lambda frame, _beat: kept.append(frame.read()))
    for _ in range(4):
        load.beat()
    frames = [np.frombuffer(each, dtype=np.uint8).reshape(SIZE[1], SIZE[0], 4) for each in kept]
    assert len({each.tobytes() for each in frames}) == 4
    assert len(np.unique(frames[0].reshape(-1, 4), axis=0)) > 500


@FEW
@given(x=st.integers(0, SIZE[0] - 1), y=st.integers(0, SIZE[1] - 1), bit=st.integers(0, 7), part=st.integers(0, 2))
def test_a_wrong_pixel_is_found_where_it_is(gl: "moderngl.Context", x: int, y: int, bit: int, part: int) -> None:
    def spoil(frame: "moderngl.Texture", beat: int) -> None:
        if beat == 1:
            pixels = np.frombuffer(frame.read(), dtype=np.uint8).reshape(SIZE[1], SIZE[0], 4).copy()
            pixels[y, x, part] ^= 1 << bit
            frame.write(pixels.tobytes())

    load = RasterLoad(gl, SIZE, stalks=50, layers=1, spoil=spoil)
    (wrong,) = load.beat().wrong
    assert (wrong.source, wrong.place) == (Source.PIXEL, y * SIZE[0] + x)
    assert wrong.expected ^ wrong.found == 1 << (8 * part + bit)
    assert load.beat().wrong_count == 0


def test_a_wrong_frame_is_kept_with_the_difference_marked(gl: "moderngl.Context", tmp_path: Path) -> None:
    def spoil(frame: "moderngl.Texture", _beat: int) -> None:
        pixels = np.frombuffer(frame.read(), dtype=np.uint8).reshape(SIZE[1], SIZE[0], 4).copy()
        pixels[10:14, 60:70, :3] = (255, 0, 255)
        frame.write(pixels.tobytes())

    load = RasterLoad(gl, SIZE, stalks=50, layers=1, folder=tmp_path / "wrong", spoil=spoil)
    beat = load.beat()
    assert beat.wrong_count == 40
    picture = np.asarray(Image.open(beat.picture))
    assert picture.shape == (SIZE[1], 2 * SIZE[0] + 8, 3)
    # rows count from the bottom in OpenGL: row 10 is row 79 of the picture
    assert tuple(picture[79, 65]) == (255, 0, 255)
    assert tuple(picture[79, 65 + SIZE[0] + 8]) != (255, 0, 255)
    assert tuple(picture[79 + 4, 65]) == (169, 58, 40)  # the mark, four pixels below
