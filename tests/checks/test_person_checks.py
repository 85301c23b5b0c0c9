"""Checks that ask a person: what is answered decides, what is left open does not."""

from pathlib import Path

import pytest

from tests.checks.bench import HandBench
from thresher.checks.display import picture
from thresher.machine.tree import TreeSystem
from thresher.model.questions import PictureKind


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
