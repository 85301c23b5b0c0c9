"""The access to the machine in the window: the bottom line, one click that asks, and what is missing."""

from collections.abc import Callable

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QLabel
from pytestqt.qtbot import QtBot

from tests.crash.engine_process import EngineProcess
from tests.ui.conftest import OpenWindow
from thresher.model.access import Access, Allowed, access_of
from thresher.privileged.allowlist import Right
from thresher.protocol.events import AccessEvent
from thresher.ui.access_dialog import AccessDialog
from thresher.ui.footer import access_text
from thresher.ui.theme import LIGHT
from thresher.ui.window import MainWindow

NO = access_of({}, "the access helper is not installed (sudo scripts/install-helper)")
PART = access_of({Right.READ: Allowed.YES} | dict.fromkeys(set(Right) - {Right.READ}, Allowed.ASK))
FULL = access_of(dict.fromkeys(Right, Allowed.YES))


def click_access(qtbot: QtBot, window: MainWindow) -> None:
    footer = window.footer
    qtbot.mouseClick(footer, Qt.MouseButton.LeftButton, pos=QPoint(footer.width() - 30, footer.height() // 2))


def show(window: MainWindow, access: Access, asking: bool = False) -> None:
    window.state.take_event(AccessEvent(access, asking))
    window.state.refresh_now()
    window.footer.repaint()


def test_the_bottom_line_has_three_states(engine: EngineProcess, open_window: OpenWindow) -> None:
    window = open_window(engine)
    for access, words in (
        (FULL, "full access"),
        (PART, "partial access (missing: drive commands, 4 more)"),
        (NO, "no access"),
    ):
        show(window, access)
        assert access_text(window.state) == words
        assert words in window.footer.accessibleDescription()
    show(window, PART, asking=True)
    assert access_text(window.state) == "asking for access"
    spot = window.footer.spot_at(window.footer.rect().toRectF().center() * 1.9)
    assert spot is not None
    assert "reading whole drives: scans for sectors" in spot.text
    assert "Click to have an administrator asked" in spot.text


def test_one_click_asks_where_somebody_can_be_asked(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow, monkeypatch: pytest.MonkeyPatch
) -> None:
    window = open_window(engine)
    asked: list[bool] = []
    monkeypatch.setattr(window.requests, "ask_access", lambda: asked.append(True))
    show(window, PART)
    click_access(qtbot, window)
    assert asked == [True]
    show(window, NO)
    click_access(qtbot, window)
    assert asked == [True]
    dialog = window.findChild(AccessDialog)
    assert dialog is not None
    dialog.ask.click()  # somebody has installed the helper meanwhile
    assert asked == [True, True]


def test_on_a_simulated_machine_nothing_has_to_be_asked(
    qtbot: QtBot, engine: EngineProcess, open_window: OpenWindow
) -> None:
    window = open_window(engine)
    assert access_text(window.state) == "full access"
    window.requests.ask_access()
    qtbot.waitUntil(lambda: "everything is allowed already" in window.state.trouble, timeout=10_000)


@pytest.mark.parametrize(
    ("access", "about", "button"),
    [
        (FULL, "All that Thresher can read and test here is open to it.", ""),
        (PART, "One question to an administrator opens it.", "Ask for full access"),
        (NO, "The access helper is not installed (sudo scripts/install-helper).", "Look again"),
        (access_of({Right.READ: Allowed.YES}), "The rules of this computer do not allow it.", "Look again"),
    ],
)
def test_the_dialog_says_what_is_missing_and_what_would_give_it(
    qtbot: QtBot, access: Access, about: str, button: str
) -> None:
    asked: list[bool] = []
    ask: Callable[[], None] = lambda: asked.append(True)  # noqa: E731 (a stand-in for the request)
    dialog = AccessDialog(access, ask, LIGHT)
    qtbot.addWidget(dialog)
    dialog.show()
    words = [label.text() for label in dialog.findChildren(QLabel)]
    assert any(about in each for each in words)
    assert "Scans for sectors that cannot be read".lower() in "\n".join(words).lower()
    assert words.count("allowed") == len(access.items) - len(access.missing)
    assert (dialog.ask.text() if dialog.ask.isVisible() else "") == button
    dialog.ask.click()
    assert asked == [True]
