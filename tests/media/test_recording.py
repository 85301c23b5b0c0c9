"""Tones and recordings as numbers: expected values worked out by hand from the definitions of dB and distortion."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from thresher.media.messages import Message, answer_of, of_loop, parse_message
from thresher.media.recording import HeardTone, measure_loop, measure_voice
from thresher.media.tones import RATE, Samples, loop_sequence, silence, sweep, tone
from thresher.model.questions import DEVICES


def heard(recording: Samples) -> dict[str, HeardTone]:
    return {each.name: each for each in measure_loop(recording).tones}


def test_a_tone_is_on_its_side_and_a_quarter_of_full_scale() -> None:
    left = tone(440.0, 0.5, right=False)
    assert left.shape == (24000, 2)
    assert np.abs(left[:, 0]).max() == pytest.approx(0.25, abs=0.001)
    assert not left[:, 1].any()
    assert abs(left[0, 0]) < 1e-3, "it begins softly"


def test_a_sweep_rises_by_the_same_share_each_second() -> None:
    wave = sweep(100.0, 1600.0, 4.0)[:, 0]
    # 16 times in 4 s is twice in a second: 100, 200, 400, 800, 1600 Hz; counted by the signs that change
    for second, hz in enumerate((141.4, 282.8, 565.7, 1131.4)):
        piece = wave[int((second + 0.4) * RATE) : int((second + 0.6) * RATE)]
        crossings = np.count_nonzero(np.diff(np.signbit(piece)))
        assert crossings / 0.2 / 2 == pytest.approx(hz, rel=0.04)


def test_a_loop_by_a_perfect_cable_gives_back_what_went_out() -> None:
    found = heard(loop_sequence())
    for name, hz in (("left", 440.0), ("right", 660.0), ("low", 150.0), ("high", 6000.0)):
        assert found[name].level_db == pytest.approx(20 * math.log10(0.25), abs=0.05)
        assert found[name].hz == pytest.approx(hz, abs=0.05)
        assert found[name].distortion_percent < 0.01


def test_late_soft_and_noisy_it_is_still_found() -> None:
    rng = np.random.default_rng(5)
    recording = np.concatenate([silence(0.31), 0.1 * loop_sequence()])
    recording = (recording + 0.0001 * rng.standard_normal(recording.shape)).astype(np.float32)
    loop = measure_loop(recording)
    assert loop.noise_db == pytest.approx(-80.0, abs=1.5), "an RMS of 1e-4"
    for each in loop.tones:
        assert each.level_db == pytest.approx(-32.04, abs=0.1)
        # noise of 1e-4 under a sine of 0.025/sqrt(2): 0.57 %, less what lies above 20 kHz
        assert each.distortion_percent == pytest.approx(0.52, abs=0.06)


def test_a_stream_that_tears_spoils_a_place_and_not_the_tone() -> None:
    whole = loop_sequence()
    at = int((0.6 + 3 + 0.3) * RATE)
    # 7 ms fall out in the last tone, of 6000 Hz: 42.25 periods, so what follows is a quarter of a turn off
    recording = np.concatenate([whole[:at], whole[at + 338 :]])
    found = heard(recording)
    assert found["high"].distortion_percent < 0.1
    assert found["high"].worst_percent > 20, "two halves of a turn that do not meet"
    assert found["high"].hz == pytest.approx(6000.0, abs=0.05)
    assert all(found[name].worst_percent < 0.1 for name in ("left", "right", "low"))


@pytest.mark.parametrize(("side", "lost"), [(0, "left"), (1, "right")])
def test_a_side_that_is_lost_is_missing(side: int, lost: str) -> None:
    rng = np.random.default_rng(6)
    recording = loop_sequence()
    recording[:, side] = 0.0
    recording = (recording + 0.001 * rng.standard_normal(recording.shape)).astype(np.float32)
    loop = measure_loop(recording)
    found = {each.name: each.level_db - loop.noise_db for each in loop.tones}
    assert found.pop(lost) < 0
    assert all(over > 40 for over in found.values())


def test_a_square_wave_has_the_distortion_of_the_books() -> None:
    recording = np.where(loop_sequence() > 0, 0.2, np.where(loop_sequence() < 0, -0.2, 0.0)).astype(np.float32)
    # all harmonics of a square: sqrt(pi^2/8 - 1) = 48.3 %; up to 20 kHz a little less
    assert heard(recording)["left"].distortion_percent == pytest.approx(48.3, abs=1.5)
    assert heard(recording)["left"].level_db == pytest.approx(20 * math.log10(0.2 * 4 / math.pi), abs=0.2)


def test_a_clock_that_runs_wrong_shifts_the_frequency() -> None:
    whole = loop_sequence()
    frames = np.arange(0, len(whole) - 2, 1.01)
    faster = np.stack([np.interp(frames, np.arange(len(whole)), whole[:, side]) for side in (0, 1)], axis=1)
    assert heard(faster.astype(np.float32))["left"].hz == pytest.approx(444.4, abs=0.3)


def test_a_voice_stands_out_of_the_room() -> None:
    rng = np.random.default_rng(7)
    room = (0.0005 * rng.standard_normal((5 * RATE, 2))).astype(np.float32)
    quiet = measure_voice(room)
    assert quiet.loud_db == pytest.approx(-66.0, abs=1.0)
    assert quiet.loud_db - quiet.quiet_db < 2
    room[RATE : 2 * RATE, 0] += tone(200.0, 1.0)[:, 0]
    spoken = measure_voice(room)
    assert spoken.loud_db == pytest.approx(20 * math.log10(0.25 / math.sqrt(2)), abs=0.2)
    assert spoken.clipped == 0


def test_what_clips_is_counted() -> None:
    loud = np.ones((RATE, 2), np.float32)
    loud[: RATE // 2] = 0.1
    assert measure_voice(loud).clipped == 0.5


@given(st.integers(0, 60_000), st.integers(0, 2**32 - 1))
@settings(max_examples=15, deadline=None)
def test_no_recording_is_too_short_or_too_wild(frames: int, seed: int) -> None:
    wild = np.random.default_rng(seed).uniform(-1, 1, (frames, 2)).astype(np.float32)
    loop, voice = measure_loop(wild), measure_voice(wild)
    assert len(loop.tones) == 4
    assert all(math.isfinite(each.level_db) and math.isfinite(each.hz) for each in loop.tones)
    assert voice.loud_db >= voice.quiet_db >= -120


@given(st.binary(max_size=60))
def test_lines_of_others_are_no_messages(line: bytes) -> None:
    parse_message(line)
    assert parse_message(b"[mjpeg @ 0x55] overread 8") is None


def test_an_answer_has_the_device_and_what_was_measured() -> None:
    messages = [Message(device="Line in", devices=2), Message(measured=of_loop(measure_loop(loop_sequence())))]
    answer = answer_of(messages)
    assert (answer.word, answer.details) == ("measured", "Line in")
    assert dict(answer.measured)[DEVICES] == 2
    assert dict(answer.measured)["left frequency"] == pytest.approx(440, abs=0.1)
    assert answer_of([Message(reason="nothing there")]).word == "no device"
