"""Checks that ask a person: what is answered decides, what is left open does not."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from tests.checks.bench import EMPTY, HandBench, outcomes
from thresher.checks.display import picture, touch
from thresher.checks.input import camera, keys, pointer
from thresher.checks.sound import loop, microphone, speakers
from thresher.compose.key_times import KeyTimes
from thresher.machine.tree import TreeSystem
from thresher.media.frames import FrameCount
from thresher.model.parts import Fact, Part, PartKind
from thresher.model.questions import Answer, PictureKind


@pytest.mark.parametrize(
    ("answers", "ended", "words"),
    [
        (["good"] * 9, "pass", "every picture"),
        ([*["good"] * 2, "spot", *["good"] * 6], "fail", "spot on red"),
        (["uneven light", *["good"] * 7, "cut off"], "fail", "uneven light on white, cut off on grid"),
        (["good", "good", None], "inconclusive", "not all answered"),
        (["skip"] * 9, "inconclusive", "not all answered"),
        (["good", "banding", None], "fail", "banding on black"),
    ],
)
def test_the_picture_is_judged_by_what_a_person_saw(
    tmp_path: Path, answers: list[str | None], ended: str, words: str
) -> None:
    bench = HandBench(TreeSystem(tmp_path), answers=list(answers), attended=True)
    (result,) = bench.run(picture.CHECK)
    assert result.outcome == ended, result.why
    assert words in result.why
    assert result.code == ("G-460" if ended == "fail" else "")


def test_every_question_has_keys_of_its_own_and_a_picture(tmp_path: Path) -> None:
    bench = HandBench(TreeSystem(tmp_path), answers=["good"] * 9, attended=True)
    bench.run(picture.CHECK)
    assert {question.picture.kind for question in bench.asked if question.picture} == set(PictureKind)
    for question in bench.asked:
        keys = [choice.key for choice in question.choices]
        assert len(set(keys)) == len(keys)
        assert all(len(key) == 1 for key in keys)


def test_without_a_person_it_is_left_and_that_is_said(tmp_path: Path) -> None:
    (result,) = HandBench(TreeSystem(tmp_path)).run(picture.CHECK)
    assert (result.outcome, result.missing) == ("needs a person", "a person")


def keys_answered(word: str, pressed: float, chattered: float = 0.0, stuck: float = 0.0, which: str = "") -> Answer:
    return Answer(word, (("pressed", pressed), ("chattered", chattered), ("stuck", stuck)), which)


@pytest.mark.parametrize(
    ("answer", "ended", "words"),
    [
        (keys_answered("good", 88), "pass", "every key that was pressed"),
        (keys_answered("good", 88, chattered=1, which="E"), "fail", "came twice at one press: E"),
        (keys_answered("good", 88, stuck=1, which="F7"), "fail", "did not come up again: F7"),
        (keys_answered("missing", 87), "fail", "a key did not come"),
        (keys_answered("good", 4), "inconclusive", "too few keys"),
        (keys_answered("skip", 60), "inconclusive", "too few keys"),
        (None, "inconclusive", "was left"),
    ],
)
def test_keys_are_judged_by_what_came(tmp_path: Path, answer: Answer | None, ended: str, words: str) -> None:
    bench = HandBench(TreeSystem(tmp_path), answers=[answer], attended=True)
    (result,) = bench.run(keys.CHECK)
    assert result.outcome == ended, result.why
    assert words in result.why


def test_a_contact_that_bounces_and_a_key_that_stays_down_show_by_their_times() -> None:
    times = KeyTimes()
    for name, down, up in (("A", 1.0, 1.08), ("A", 1.4, 1.48), ("E", 2.0, 2.05), ("E", 2.07, 2.12)):
        times.press(name, down)
        times.release(name, up)
    times.press("F7", 3.0)
    assert times.came == {"A": 2, "E": 2, "F7": 1}
    assert times.chattered == {"E"}, "20 ms after it went up nobody has pressed it again"
    assert times.stuck(6.9) == ()
    assert times.stuck(7.1) == ("F7",)


def sound_answer(word: str, outputs: float = 1.0, name: str = "Speakers") -> Answer:
    return Answer(word, (("devices", outputs),), name)


@pytest.mark.parametrize(
    ("answers", "ended", "words"),
    [
        (["left", "right", "even"], ["pass"], "sound as they should"),
        (["right", "left", "even"], ["fail"], "left tone: right, right tone: left"),
        (["left", "nothing", "even"], ["fail"], "right tone: nothing"),
        (["both sides", "both sides", "even"], ["inconclusive"], "one speaker"),
        (["left", "skip", "even"], ["inconclusive"], "not all answered"),
        (["left", None], ["inconclusive"], "not all answered"),
        ([Answer("no device", (), "libpulse0 is missing")], ["inconclusive"], "libpulse0 is missing"),
    ],
)
def test_speakers_are_judged_by_what_was_heard(
    tmp_path: Path, answers: list[str | Answer | None], ended: list[str], words: str
) -> None:
    given: list[str | Answer | None] = [sound_answer(each) if isinstance(each, str) else each for each in answers]
    bench = HandBench(TreeSystem(tmp_path), answers=given, attended=True)
    results = bench.run(speakers.CHECK)
    assert outcomes(results) == ended
    assert words in results[0].why


def test_every_output_is_played_in_turn(tmp_path: Path) -> None:
    answers: list[str | Answer | None] = [
        *(sound_answer(word, 2.0) for word in ("left", "right", "even")),
        *(sound_answer(word, 2.0, "HDMI") for word in ("left", "nothing", "even")),
    ]
    bench = HandBench(TreeSystem(tmp_path), answers=answers, attended=True)
    results = bench.run(speakers.CHECK)
    assert [(each.place, each.outcome.value) for each in results] == [("Speakers", "pass"), ("HDMI", "fail")]
    assert [question.device for question in bench.asked] == [0, 0, 0, 1, 1, 1]


def voice(loudest: float, quietest: float, clipped: float = 0.0) -> Answer:
    measured = (("devices", 1.0), ("loudest", loudest), ("quietest", quietest), ("clipped", clipped))
    return Answer("measured", measured, "Microphone")


@pytest.mark.parametrize(
    ("answers", "ended", "words"),
    [
        ([voice(-25, -70)], "pass", "clearly"),
        ([voice(-69, -72), "yes"], "fail", "no voice"),
        ([voice(-20, -24), "yes"], "fail", "no voice"),
        ([voice(-69, -72), "leave"], "inconclusive", "nobody spoke"),
        ([voice(-69, -72), None], "inconclusive", "nobody spoke"),
        ([voice(-69, -72), "no", voice(-30, -72)], "pass", "clearly"),
        ([voice(-69, -72), "no"] * 3, "inconclusive", "nobody spoke"),
        ([voice(-1, -70, 0.2)], "inconclusive", "it clips"),
        ([None], "inconclusive", "was left"),
    ],
)
def test_a_microphone_is_deaf_only_if_somebody_spoke(
    tmp_path: Path, answers: list[str | Answer | None], ended: str, words: str
) -> None:
    bench = HandBench(TreeSystem(tmp_path), answers=list(answers), attended=True)
    (result,) = bench.run(microphone.CHECK)
    assert result.outcome == ended
    assert words in result.why


def looped(noise: float = -80.0, **changed: float) -> Answer:
    """A loop as a good cable has it, with what is different."""
    measured = {"noise": noise}
    for name, hz in (("left", 440.0), ("right", 660.0), ("low", 150.0), ("high", 6000.0)):
        measured |= {f"{name} level": -14.0, f"{name} frequency": hz, f"{name} distortion": 0.05}
    measured |= {key.replace("_", " "): value for key, value in changed.items()}
    return Answer("measured", tuple(measured.items()), "Line in")


@pytest.mark.parametrize(
    ("how", "answer", "ended", "words"),
    [
        ("cable", looped(), "pass", "every tone"),
        ("cable", looped(right_level=-79.0), "fail", "missing in the recording: right tone"),
        ("cable", looped(low_distortion=4.0), "fail", "low tone distortion and noise 4 %"),
        ("air", looped(low_distortion=4.0), "pass", "every tone"),
        (
            "cable",
            looped(low_worst_distortion=11.0, high_worst_distortion=4.0),
            "inconclusive",
            "dropouts in the low and high tone",
        ),
        ("cable", looped(low_worst_distortion=2.9), "pass", "every tone"),
        ("cable", looped(low_distortion=4.0, low_worst_distortion=11.0), "fail", "low tone distortion and noise 4 %"),
        ("air", looped(low_worst_distortion=11.0), "pass", "every tone"),
        ("cable", looped(high_frequency=6060.0), "fail", "high tone off its frequency 1 %"),
        ("cable", looped(left_level=-30.0), "fail", "differ by 16 dB"),
        ("air", looped(left_level=-30.0), "pass", "every tone"),
        ("cable", looped(noise=-10.0), "inconclusive", "no tone comes through"),
        ("none", None, "inconclusive", "not connected"),
        ("cable", None, "inconclusive", "was left"),
        ("cable", Answer("no device"), "inconclusive", "a sound output and a sound input"),
    ],
)
def test_a_loop_is_judged_by_its_figures(
    tmp_path: Path, how: str, answer: Answer | None, ended: str, words: str
) -> None:
    bench = HandBench(TreeSystem(tmp_path), answers=[how, answer], attended=True)
    (result,) = bench.run(loop.CHECK)
    assert result.outcome == ended, result.why
    assert words in result.why


def fields(word: str, **measured: float) -> Answer:
    base = {"fields": 144.0, "fields left": 0.0, "pressed": 2.0, "chattered": 0.0, "stuck": 0.0}
    base |= {"wheel up": 5.0, "wheel down": 5.0, "fingers": 2.0}
    base |= {key.replace("_", " "): value for key, value in measured.items()}
    return Answer(word, tuple(base.items()), "left button")


@pytest.mark.parametrize(
    ("answer", "ended", "words"),
    [
        (fields("done"), "pass", "pointer, buttons and wheel work"),
        (fields("done", wheel_up=0, wheel_down=0), "pass", "no wheel was turned"),
        (fields("done", wheel_up=0), "fail", "the wheel turns down only"),
        (fields("done", chattered=1), "fail", "chatters or sticks: left button"),
        (fields("jumps"), "fail", "jumps or sticks"),
        (fields("missing"), "fail", "does nothing"),
        (fields("done", pressed=0), "inconclusive", "too little"),
        (fields("done", fields_left=100), "inconclusive", "too little"),
        (None, "inconclusive", "was left"),
    ],
)
def test_a_pointer_is_judged_by_what_came(tmp_path: Path, answer: Answer | None, ended: str, words: str) -> None:
    (result,) = HandBench(TreeSystem(tmp_path), answers=[answer], attended=True).run(pointer.CHECK)
    assert result.outcome == ended, result.why
    assert words in result.why


@pytest.mark.parametrize(
    ("answer", "ended", "words"),
    [
        (fields("done"), "pass", "every field registered"),
        (fields("done", fields_left=9), "fail", "9 of 144 fields"),
        (fields("jumps"), "fail", "that nobody made"),
        (fields("done", fields_left=144), "inconclusive", "no touch came"),
        (None, "inconclusive", "was left"),
    ],
)
def test_a_touch_screen_is_judged_by_its_fields(tmp_path: Path, answer: Answer | None, ended: str, words: str) -> None:
    (result,) = HandBench(TreeSystem(tmp_path), answers=[answer], attended=True).run(touch.CHECK)
    assert result.outcome == ended, result.why
    assert words in result.why


def frames(word: str, count: float = 90.0, changed: float = 89.0, spread: float = 40.0) -> Answer:
    measured = (("devices", 1.0), ("frames", count), ("changed frames", changed), ("brightness", 90.0))
    return Answer(word, (*measured, ("spread", spread)), "Lookout 720")


@pytest.mark.parametrize(
    ("answer", "ended", "words"),
    [
        (frames("good"), "pass", "right and moves"),
        (frames("good", changed=0), "fail", "frozen"),
        (frames("black"), "fail", "black"),
        (frames("stripes"), "fail", "seen: stripes"),
        (frames("good", count=4), "inconclusive", "too few frames"),
        (frames("good", spread=0.5), "inconclusive", "shutter"),
        (Answer("no device"), "inconclusive", "no camera"),
        (None, "inconclusive", "was left"),
    ],
)
def test_a_camera_is_judged_by_eye_and_frames(tmp_path: Path, answer: Answer | None, ended: str, words: str) -> None:
    (result,) = HandBench(TreeSystem(tmp_path), answers=[answer], attended=True).run(camera.CHECK)
    assert result.outcome == ended, result.why
    assert words in result.why


def test_frames_that_are_all_alike_are_counted_as_such() -> None:
    count = FrameCount()
    grey = np.full((4, 6), 100, np.uint8)
    assert count.take(grey) == (100.0, 0.0)
    count.take(grey.copy())
    other = grey.copy()
    other[0, 0] = 101
    count.take(other)
    assert (count.frames, count.changed) == (3, 1)


def display(place: str, mode: str) -> Part:
    return Part(f"display {place}", PartKind.DISPLAY, "Skerry", place, (Fact("preferred mode", mode, "edid"),))


def test_a_picture_of_the_wrong_size_or_on_another_screen_is_no_pass(tmp_path: Path) -> None:
    inventory = replace(EMPTY, parts=(display("eDP-1", "1920x1080 at 60 Hz"),))
    small = Answer("good", (("picture wide", 1024.0), ("picture high", 768.0), ("shown elsewhere", 0.0)), "eDP-1")
    bench = HandBench(TreeSystem(tmp_path), inventory, answers=[small] * 9, attended=True)
    (result,) = bench.run(picture.CHECK)
    assert (result.outcome, result.place) == ("inconclusive", "eDP-1")
    assert "at 1024 x 768: set it to 1920 x 1080" in result.why
    assert {question.picture.output for question in bench.asked if question.picture} == {"eDP-1"}
    elsewhere = replace(small, measured=(("shown elsewhere", 1.0),), details="VNC-0")
    bench = HandBench(TreeSystem(tmp_path), inventory, answers=[elsewhere], attended=True)
    (result,) = bench.run(picture.CHECK)
    assert (result.outcome, result.why) == (
        "inconclusive",
        "the window could not be shown at eDP-1; the screen here is VNC-0",
    )
    assert len(bench.asked) == 1, "the other eight are not asked"
