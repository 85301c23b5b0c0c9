"""Both schemes: readable, complete, and never status by colour alone."""

import re
from dataclasses import fields
from itertools import combinations

import pytest
from PyQt6.QtCore import QPointF
from PyQt6.QtGui import QColor, QImage, QPainter
from PyQt6.QtWidgets import QApplication

from thresher.model.parts import PartKind, PartStatus
from thresher.ui.look import draw_mark, wrap
from thresher.ui.theme import DARK, LIGHT, TEXT_PAIRS, Scheme, colour_names, contrast, font


@pytest.mark.parametrize("scheme", [LIGHT, DARK], ids=["paper", "night"])
@pytest.mark.parametrize(("text", "ground"), TEXT_PAIRS)
def test_text_has_a_contrast_of_four_and_a_half(scheme: Scheme, text: str, ground: str) -> None:
    assert contrast(getattr(scheme, text), getattr(scheme, ground)) >= 4.5


def test_contrast_is_the_published_ratio() -> None:
    assert contrast("#000000", "#FFFFFF") == pytest.approx(21.0)
    assert contrast("#777777", "#FFFFFF") == pytest.approx(4.48, abs=0.01)


def test_every_token_is_a_colour_and_every_kind_of_part_has_one() -> None:
    for scheme in (LIGHT, DARK):
        for name in colour_names():
            assert re.fullmatch(r"#[0-9A-F]{6}", getattr(scheme, name)), name
        for kind in PartKind:
            assert scheme.part(kind).isValid()
    assert len(fields(Scheme)) == len(colour_names()) + 1


def mark_shape(status: PartStatus) -> list[bool]:
    """Where a mark has ink, whatever the colour."""
    image = QImage(24, 24, QImage.Format.Format_RGB32)
    image.fill(QColor("#FFFFFF"))
    painter = QPainter(image)
    draw_mark(painter, QPointF(12, 12), status, LIGHT, 8)
    painter.end()
    return [image.pixelColor(x, y).lightness() < 200 for x in range(24) for y in range(24)]


def test_marks_differ_in_shape_and_not_only_in_colour(qapp: QApplication) -> None:
    shapes = {status: mark_shape(status) for status in PartStatus}
    for one, other in combinations(PartStatus, 2):
        different = sum(a != b for a, b in zip(shapes[one], shapes[other], strict=True))
        assert different > 10, (one, other)


def test_the_fonts_of_the_program_are_used(qapp: QApplication) -> None:
    assert font(12).family() == "B612"
    assert font(12, mono=True).family() == "B612 Mono"


def test_wrapping_keeps_every_word_or_states_that_there_is_more(qapp: QApplication) -> None:
    text = "Rule out the board: try the shop's processor in this socket, same sheet, warm"
    whole = wrap(text, 11.5, 200, 10)
    assert " ".join(whole) == text
    cut = wrap(text, 11.5, 200, 2)
    assert len(cut) == 2
    assert cut[1].endswith("…")
    assert wrap("", 11.5, 200, 2) == []
