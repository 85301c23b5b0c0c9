"""Checks that ask a person: what is answered decides, what is left open does not."""

from pathlib import Path

import pytest

from tests.checks.bench import HandBench
from thresher.checks.display import picture
from thresher.checks.input import keys
from thresher.compose.key_times import KeyTimes
from thresher.machine.tree import TreeSystem
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
