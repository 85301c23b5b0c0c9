"""The menu and the shortcuts: one table of what can be done, its words and its keys."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction, QActionGroup, QKeySequence
from PyQt6.QtWidgets import QMenu, QWidget

from thresher.ui import theme
from thresher.ui.rail import STATIONS

if TYPE_CHECKING:
    from thresher.ui.window import MainWindow

_ZOOM = 1.4


@dataclass(frozen=True, slots=True)
class MenuItem:
    """One thing that can be done: its words in the menu, its keys, and what it does."""

    text: str
    keys: tuple[str, ...]
    do: Callable[[], object]


def menu_sections(window: "MainWindow") -> tuple[tuple[MenuItem, ...], ...]:
    """Return the items of the menu, section by section."""
    bench, requests, files = window.bench, window.requests, window.files
    return (
        (
            MenuItem("Start run", ("Ctrl+Return", "Ctrl+Enter"), window.start),
            MenuItem("Stop run and all workers", ("Esc",), window.stop),
            MenuItem("Open run sheet…", ("Ctrl+O",), files.open_sheet),
            MenuItem("Put the load on the sheet", ("Ctrl+B",), bench.put),
            MenuItem("Go to the machine map", ("Ctrl+M",), bench.go_to_map),
            MenuItem("Go to the run sheet", ("Ctrl+R",), bench.go_to_sheet),
            MenuItem("Show the scene that a card draws", ("Ctrl+K",), window.show_scene),
            MenuItem("Short round: check every part, or the picked ones", ("Ctrl+H",), window.sheets.put_round),
            MenuItem("Thorough round", ("Ctrl+Shift+H",), lambda: window.sheets.put_round(thorough=True)),
            MenuItem(
                "Repeat the run until stopped, or once only",
                ("Ctrl+Alt+R",),
                lambda: bench.editor.set_repeat(not bench.editor.draft.repeat),
            ),
            MenuItem("Scheduled rounds…", ("Ctrl+Alt+S",), window.show_schedule),
            MenuItem("Undo", ("Ctrl+Z",), window.undo),
            MenuItem("Redo", ("Ctrl+Shift+Z", "Ctrl+Y"), window.redo),
            MenuItem("New job", ("Ctrl+N",), window.new_job),
            MenuItem("Open stored job…", ("Ctrl+Shift+O",), files.open_stored),
            MenuItem("Find job…", ("Ctrl+F",), window.find_job),
            MenuItem("Back up the bench…", ("Ctrl+Alt+B",), files.back_up),
            MenuItem("Import log…", ("Ctrl+I",), files.choose_log),
            MenuItem("Copy all parts as text", ("Ctrl+Shift+C",), window.copy_parts),
        ),
        tuple(
            MenuItem(name, (f"Ctrl+{number + 1}",), lambda n=number: window.show_station(n))  # type: ignore[misc]
            for number, name in enumerate(STATIONS)
        ),
        (
            MenuItem("Copy lanes as a picture", ("Ctrl+Shift+L",), files.copy_lanes),
            MenuItem("Save lanes…", ("Ctrl+L",), files.save_lanes),
            MenuItem("Show small strip on top", ("Ctrl+T",), window.toggle_strip),
        ),
        (
            MenuItem("Decode a log, register or code…", ("Ctrl+D",), window.decode),
            MenuItem("Read logs of the installed system…", ("Ctrl+Shift+D",), window.show_system_logs),
            MenuItem("Edit prices…", ("Ctrl+P",), requests.edit_prices),
            MenuItem("Reload prices", ("Ctrl+Shift+P",), requests.reload_prices),
            MenuItem("Undo last evidence", ("Ctrl+Alt+Z",), requests.undo_evidence),
            MenuItem("Lock verdict", ("Ctrl+Shift+F",), requests.lock_verdict),
            MenuItem("Save part tags…", ("Ctrl+Shift+T",), files.save_tags),
            MenuItem("Save report…", ("Ctrl+Shift+S",), window.save_report),
            MenuItem("Print report…", ("Ctrl+Alt+P",), window.print_report),
        ),
        (
            MenuItem("Next finding", ("Ctrl+Right",), lambda: bench.lanes.go_to_finding(1)),
            MenuItem("Previous finding", ("Ctrl+Left",), lambda: bench.lanes.go_to_finding(-1)),
            MenuItem("Show whole run", ("Home",), bench.show_all),
            MenuItem("Show last minute", ("End",), bench.show_last_minute),
            MenuItem("Zoom in", ("+", "="), lambda: window.zoom(_ZOOM)),
            MenuItem("Zoom out", ("-",), lambda: window.zoom(1 / _ZOOM)),
        ),
        (
            MenuItem("Show sources that could not be read", ("Ctrl+U",), window.show_unread),
            MenuItem("Access to this machine…", ("Ctrl+Shift+U",), window.show_access),
        ),
    )


def make_menu(window: "MainWindow") -> QMenu:
    """Return the window's menu; every item with keys works wherever the focus is."""
    menu = QMenu(window)
    for section in menu_sections(window):
        for item in section:
            add_action(window, menu, item)
        menu.addSeparator()
    _add_schemes(window, menu)
    menu.addSeparator()
    add_action(window, menu, MenuItem("Close window", ("Ctrl+Q",), window.close))
    return menu


def add_action(window: QWidget, menu: QMenu | None, item: MenuItem) -> QAction:
    """Make an action of an item, in the menu and by its keys."""
    action = QAction(item.text, window)
    action.setShortcuts([QKeySequence(key) for key in item.keys])
    action.setShortcutContext(Qt.ShortcutContext.WindowShortcut)
    action.triggered.connect(lambda _checked=False: item.do())
    window.addAction(action)
    if menu is not None:
        menu.addAction(action)
    return action


def _add_schemes(window: "MainWindow", menu: QMenu) -> None:
    schemes = QActionGroup(window)
    for name, scheme in (("Paper", theme.LIGHT), ("Night bench", theme.DARK), ("Follow the desktop", None)):
        action = add_action(window, menu, MenuItem(name, (), lambda chosen=scheme: window.choose_scheme(chosen)))  # type: ignore[misc]
        action.setCheckable(True)
        action.setChecked(scheme is None)
        schemes.addAction(action)
