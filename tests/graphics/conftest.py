"""A context on the software renderer: what is tested is the checking, and that needs no card."""

from collections.abc import Iterator
from typing import TYPE_CHECKING

import pytest

from thresher.graphics.egl import CardContext, CardDevice, card_devices
from thresher.model.errors import SourceUnavailable

if TYPE_CHECKING:
    import moderngl


@pytest.fixture(scope="session")
def renderer() -> CardDevice:
    """The software renderer, or a skip with the reason."""
    try:
        found = [each for each in card_devices() if each.software]
    except SourceUnavailable as error:
        pytest.skip(str(error))
    if not found:
        pytest.skip("OpenGL offers no software renderer here")
    return found[0]


@pytest.fixture(scope="session")
def gl(renderer: CardDevice) -> "Iterator[moderngl.Context]":
    """OpenGL on it."""
    import moderngl

    context = CardContext(renderer)
    yield moderngl.get_context()
    assert context.reset() == ""
    context.close()
