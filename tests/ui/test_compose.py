"""Runs composed on the Bench, by mouse and by keyboard, on the real widgets and a real engine."""

from collections.abc import Callable
from pathlib import Path

import pytest
from PyQt6.QtCore import QPoint, Qt
from pytestqt.qtbot import QtBot

from tests.crash.engine_process import EngineProcess
from thresher.model.parts import PartKind
from thresher.model.run_states import StepState
from thresher.model.sheet import Block, Gate, GateKind, SheetLimits
from thresher.ui.stations.bench.map_picks import Picks, Target, pick_words
from thresher.ui.window import MainWindow

OpenWindow = Callable[..., MainWindow]
LEFT, NONE = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
CONTROL, SHIFT = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


@pytest.fixture
def window(engine: EngineProcess, open_window: OpenWindow, qtbot: QtBot) -> MainWindow:
    """A fresh window on the demo bench."""
    opened = open_window(engine)
    opened.resize(1280, 800)
    qtbot.waitUntil(lambda: opened.bench.editor.check is not None, timeout=10_000)
    opened.bench.map.repaint()
    return opened


def spot(window: MainWindow, part: str, core: int | None = None) -> QPoint:
    """Return where a part stands on the machine map."""
    drawn = window.bench.map._drawn
    return next(each for each in drawn if each.part.tag.startswith(part) and each.core == core).area.center().toPoint()


def on_sheet(window: MainWindow, row: PartKind, seconds: float) -> QPoint:
    """Return a point of the run sheet."""
    layout = window.bench.run_sheet.layout_of()
    y = layout.top + (layout.rows.index(row) + 0.5) * layout.row_height
    return QPoint(round(layout.x(seconds)), round(y))


def drag(qtbot: QtBot, window: MainWindow, begin: QPoint, end: QPoint) -> None:
    """Press, move in steps, release."""
    sheet = window.bench.run_sheet
    qtbot.mousePress(sheet, LEFT, NONE, begin)
    for share in (0.3, 0.7, 1.0):
        at = QPoint(round(begin.x() + share * (end.x() - begin.x())), round(begin.y() + share * (end.y() - begin.y())))
        qtbot.mouseMove(sheet, at)
    qtbot.mouseRelease(sheet, LEFT, NONE, end)


def blocks(window: MainWindow) -> list[Block]:
    return [each.item for each in window.bench.editor.draft.blocks if isinstance(each.item, Block)]


def compose_empty(window: MainWindow) -> None:
    """Begin with a sheet of ten minutes on the processor."""
    window.bench.editor.remove()
    window.bench.map.set_picks(Picks((Target("processor", PartKind.PROCESSOR),)))
    window.bench.picker.fields["for"].setCurrentText("10 min")
    window.bench.put()


def test_two_parts_for_five_minutes_are_started_by_keyboard_alone(window: MainWindow, qtbot: QtBot) -> None:
    machine = window.bench.map
    machine.setFocus(Qt.FocusReason.TabFocusReason)
    qtbot.keyClick(machine, Qt.Key.Key_Space)  # the processor
    qtbot.keyClick(machine, Qt.Key.Key_Down)
    qtbot.keyClick(machine, Qt.Key.Key_Space)  # the memory module below it
    qtbot.keyClick(machine, Qt.Key.Key_Return)  # onto the sheet
    assert [(block.row, block.load, block.length_s) for block in blocks(window)] == [
        (PartKind.PROCESSOR, "matrix", 300.0),
        (PartKind.MEMORY, "memory", 300.0),
    ]
    qtbot.keyClick(window, Qt.Key.Key_Return, CONTROL)
    qtbot.waitUntil(lambda: window.state.active, timeout=10_000)
    qtbot.waitUntil(lambda: [item.state for item in window.state.run.plan] == ["running"] * 2, timeout=20_000)
    assert window.state.run.length_s == 300


def test_two_parts_for_five_minutes_are_started_by_mouse_alone(window: MainWindow, qtbot: QtBot) -> None:
    machine = window.bench.map
    qtbot.mouseClick(machine, LEFT, NONE, spot(window, "processor", 2))
    qtbot.mouseClick(machine, LEFT, SHIFT, spot(window, "processor", 5))
    qtbot.mouseClick(machine, LEFT, CONTROL, spot(window, "memory"))
    assert pick_words(machine.picks.pick()) == "cores 2-5 + memory"
    qtbot.mouseClick(window.bench.picker.button, LEFT)
    assert [(block.row, block.cores) for block in blocks(window)] == [
        (PartKind.PROCESSOR, (2, 3, 4, 5)),
        (PartKind.MEMORY, ()),
    ]
    assert "Start loads 8 threads and the memory for 0:05:00" in window.bench.head.sentence()
    qtbot.mouseClick(window.band.act_button, LEFT)
    qtbot.waitUntil(lambda: window.state.active, timeout=10_000)
    qtbot.waitUntil(lambda: set(window.state.run.busy_cores) == set(range(8)), timeout=20_000)
    assert window.state.run.length_s == 300


def test_the_first_load_begins_a_sheet_of_its_own_and_the_proposed_one_comes_back(window: MainWindow) -> None:
    proposed = window.bench.editor.draft
    assert proposed.title.startswith("Reset hunt")
    window.bench.map.set_picks(Picks((Target("processor", PartKind.PROCESSOR, 3),)))
    window.bench.put()
    assert [block.cores for block in blocks(window)] == [(3,)]
    window.bench.put()
    assert [block.start_s for block in blocks(window)] == [0.0, 300.0]
    window.undo()
    window.undo()
    assert window.bench.editor.draft == proposed


def test_blocks_are_drawn_moved_stretched_and_undone_to_the_beginning_and_redone_to_the_end(
    window: MainWindow, qtbot: QtBot
) -> None:
    editor = window.bench.editor
    compose_empty(window)
    begun = len(editor.history.past)
    drag(qtbot, window, on_sheet(window, PartKind.MEMORY, 120), on_sheet(window, PartKind.MEMORY, 360))
    drawn = next(block for block in blocks(window) if block.row is PartKind.MEMORY)
    assert (drawn.load, drawn.start_s, drawn.length_s) == ("memory", 120.0, 240.0)

    # it holds on to the end of the processor's block when it comes near
    drag(qtbot, window, on_sheet(window, PartKind.MEMORY, 240), on_sheet(window, PartKind.MEMORY, 475))
    moved = next(block for block in blocks(window) if block.row is PartKind.MEMORY)
    assert (moved.start_s, moved.length_s) == (360.0, 240.0)

    edge = on_sheet(window, PartKind.MEMORY, 600) - QPoint(2, 0)
    drag(qtbot, window, edge, on_sheet(window, PartKind.MEMORY, 540))
    assert next(b for b in blocks(window) if b.row is PartKind.MEMORY).length_s == pytest.approx(180, abs=5)

    sheet = window.bench.run_sheet
    qtbot.keyClick(sheet, Qt.Key.Key_D, CONTROL)
    qtbot.keyClick(sheet, Qt.Key.Key_Right)
    qtbot.keyClick(sheet, Qt.Key.Key_S)
    qtbot.keyClick(sheet, Qt.Key.Key_C, CONTROL)
    qtbot.keyClick(sheet, Qt.Key.Key_V, CONTROL)
    qtbot.keyClick(sheet, Qt.Key.Key_Delete)
    last = editor.draft
    assert len(editor.history.past) == begun + 8
    while editor.history.past:
        qtbot.keyClick(sheet, Qt.Key.Key_Z, CONTROL)
    assert editor.draft.title.startswith("Reset hunt")
    while editor.history.undone:
        qtbot.keyClick(sheet, Qt.Key.Key_Z, CONTROL | SHIFT)
    assert editor.draft == last
    assert editor.draft.sheet() == last.sheet()


def test_gates_are_put_in_and_cut_what_runs_then(window: MainWindow, qtbot: QtBot) -> None:
    compose_empty(window)
    menu = window.bench.run_sheet.edit_menu(300.0)
    next(action for action in menu.actions() if action.text().endswith("ask")).trigger()
    (gate,) = (each.item for each in window.bench.editor.draft.gates)
    assert isinstance(gate, Gate)
    assert (gate.kind, gate.start_s) == (GateKind.ASK, 300.0)
    assert [block.length_s for block in blocks(window)] == [300.0, 300.0]
    assert blocks(window)[1].start_s == 300.0 + gate.length_s


def type_into(qtbot: QtBot, window: MainWindow, name: str, text: str) -> None:
    """Type into a field of the selected blocks and leave it."""
    field = window.bench.details.slots[name].field
    assert field.isVisible()
    edit = field.lineEdit()
    if edit is None:
        field.setCurrentText(text)
        field.activated.emit(field.currentIndex())
        return
    edit.setFocus()
    edit.selectAll()
    qtbot.keyClicks(edit, text)
    qtbot.keyClick(edit, Qt.Key.Key_Return)


def test_details_are_set_where_the_block_stands(window: MainWindow, qtbot: QtBot) -> None:
    compose_empty(window)
    for name, text in (
        ("load", "integer"),
        ("cores", "0-2,6"),
        ("threads", "one per core"),
        ("data", "mixed"),
        ("shape", "pulsed, in step"),
        ("period", "500 ms"),
        ("duty", "25 %"),
        ("hold", "75"),
        ("start", "1:00"),
        ("length", "1 h 05 min"),
        ("stop", "92 °C or 3 faults"),
    ):
        type_into(qtbot, window, name, text)
    (block,) = blocks(window)
    assert (block.load, block.cores, block.one_per_core) == ("integer", (0, 1, 2, 6), True)
    assert (block.shape.kind.value, block.shape.period_s, block.shape.duty) == ("pulse", 0.5, 0.25)
    assert (block.working_set.value, block.hold_c, block.start_s, block.length_s) == ("mixed", 75.0, 60.0, 3900.0)
    assert window.bench.editor.draft.limits == SheetLimits(92.0, 3)
    assert "Finds cores that fail in whole-number arithmetic" in window.bench.details.words.toolTip()
    type_into(qtbot, window, "repeat", "3")
    assert [each.start_s for each in blocks(window)] == [60.0, 3960.0, 7860.0]


@pytest.mark.parametrize(
    ("name", "text", "words"),
    [
        ("cores", "0-3;8", "expected such as 0-3,8 or all"),
        ("length", "soon", "expected such as 10 min"),
        ("length", "400 h", "14 days at most"),
        ("length", "0 s", "1 s at least"),
        ("hold", "200 °C", "expected 40 to 110 °C"),
    ],
)
def test_what_cannot_be_understood_is_said_in_place_and_changes_nothing(
    window: MainWindow, qtbot: QtBot, name: str, text: str, words: str
) -> None:
    compose_empty(window)
    before = window.bench.editor.draft
    type_into(qtbot, window, name, text)
    assert words in window.bench.details.words.toolTip()
    assert window.bench.editor.draft == before


def test_what_this_machine_cannot_do_is_marked_on_its_block_and_start_is_refused(
    window: MainWindow, qtbot: QtBot
) -> None:
    compose_empty(window)
    type_into(qtbot, window, "cores", "12")
    editor = window.bench.editor
    qtbot.waitUntil(lambda: bool(editor.faults), timeout=5_000)
    (placed,) = editor.draft.blocks
    assert editor.fault_of(placed) == "this machine has no core 12; it has 0-7"
    assert window.bench.head.sentence().startswith("Cannot start. matrix, shared cache at 0:00:00, cores")
    qtbot.mouseClick(window.band.act_button, LEFT)
    qtbot.waitUntil(lambda: "no core 12" in window.state.trouble, timeout=5_000)
    assert not window.state.active


def test_two_blocks_that_cannot_share_say_so_where_they_stand(window: MainWindow, qtbot: QtBot) -> None:
    compose_empty(window)
    editor = window.bench.editor
    editor.duplicate()
    sheet = window.bench.run_sheet
    sheet.setFocus()
    qtbot.keyClick(sheet, Qt.Key.Key_Left)
    qtbot.waitUntil(lambda: bool(editor.faults), timeout=5_000)
    second = editor.draft.blocks[1]
    assert "overlaps matrix, shared cache from 0:00:00 on the processor" in editor.fault_of(second)


def test_ready_made_shapes_are_made_of_what_is_picked(window: MainWindow, qtbot: QtBot) -> None:
    both = Picks((Target("processor", PartKind.PROCESSOR), Target("memory A2", PartKind.MEMORY)))
    window.bench.map.set_picks(both)
    bar = window.bench.bar
    qtbot.mouseClick(bar.buttons["shape_one_after_another"], LEFT)
    assert [block.row for block in blocks(window)] == [PartKind.PROCESSOR, PartKind.MEMORY]
    assert blocks(window)[1].start_s > 300
    qtbot.mouseClick(bar.buttons["shape_all_together"], LEFT)
    assert [block.start_s for block in blocks(window)] == [0.0, 0.0]
    window.bench.map.set_picks(Picks((Target("processor", PartKind.PROCESSOR),)))
    qtbot.mouseClick(bar.buttons["shape_halve_it"], LEFT)
    assert [block.cores for block in blocks(window)] == [(0, 1, 2, 3), (4, 5, 6, 7)]
    qtbot.mouseClick(bar.buttons["shape_ladder"], LEFT)
    assert [block.length_s for block in blocks(window)] == [1800.0, 10800.0, 28800.0]
    assert window.bench.editor.draft.limits.stop_after_faults == 1


def test_a_run_is_changed_while_it_goes_on_from_the_window(window: MainWindow, qtbot: QtBot) -> None:
    compose_empty(window)
    window.bench.put()
    window.start()
    state, bar = window.state, window.bench.bar
    qtbot.waitUntil(lambda: state.active and state.run.plan[0].state is StepState.RUNNING, timeout=20_000)
    qtbot.waitUntil(lambda: bar.buttons["add_time"].isEnabled() and bar.changes.isVisible(), timeout=5_000)
    qtbot.mouseClick(bar.buttons["add_time"], LEFT)
    qtbot.waitUntil(lambda: state.run.plan[0].end_s == pytest.approx(1200, abs=40), timeout=5_000)
    qtbot.mouseClick(bar.buttons["leave_out"], LEFT)
    qtbot.waitUntil(lambda: state.run.plan[1].state is StepState.LEFT_OUT, timeout=5_000)
    window.bench.map.set_picks(Picks((Target("memory A2", PartKind.MEMORY),)))
    window.bench.map.load_wanted.emit()
    qtbot.waitUntil(lambda: len(state.run.plan) == 3, timeout=5_000)
    qtbot.keyClicks(bar.note, "opened the side panel")
    qtbot.keyClick(bar.note, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: any(entry.detail == "opened the side panel" for entry in state.tape), timeout=5_000)
    qtbot.mouseClick(bar.buttons["end_block"], LEFT)
    qtbot.waitUntil(lambda: state.run.plan[2].state is StepState.RUNNING, timeout=20_000)
    assert [change.what.split(":")[0] for change in state.run.changes] == [
        "matrix, shared cache",
        "matrix, shared cache",
        "memory, 4 patterns",
        "matrix, shared cache",
    ]


def test_the_draft_outlives_window_and_engine(tmp_path: Path, open_window: OpenWindow, qtbot: QtBot) -> None:
    first = EngineProcess(tmp_path, "--simulate", "lighthouse-playout", "--speed", "30")
    window = open_window(first)
    qtbot.waitUntil(lambda: window.bench.editor.check is not None, timeout=10_000)
    compose_empty(window)
    type_into(qtbot, window, "cores", "12")
    qtbot.waitUntil(lambda: bool(window.bench.editor.faults), timeout=5_000)
    drafted = window.bench.editor.draft.sheet()
    first.kill()
    second = EngineProcess(tmp_path, "--simulate", "lighthouse-playout", "--speed", "30")
    try:
        again = open_window(second)
        qtbot.waitUntil(lambda: again.bench.editor.draft.sheet() == drafted, timeout=5_000)
        again.undo()
        assert again.bench.editor.draft.title.startswith("Reset hunt")
    finally:
        second.close()


def test_sheets_are_saved_opened_and_deleted_from_the_list(
    tmp_path: Path, open_window: OpenWindow, qtbot: QtBot
) -> None:
    shop = tmp_path / "shop"
    engine = EngineProcess(tmp_path, "--simulate", "lighthouse-playout", "--speed", "30", "--shop", str(shop))
    try:
        window = open_window(engine)
        qtbot.waitUntil(lambda: window.bench.editor.check is not None, timeout=10_000)
        compose_empty(window)
        sheets = window.bench.sheets
        qtbot.mouseClick(window.bench.bar.buttons["save_sheet"], LEFT)
        assert sheets.name.isVisible()
        sheets.name.setText("Ferry office, after new fan")
        qtbot.keyClick(sheets.name, Qt.Key.Key_Return)
        qtbot.waitUntil(lambda: window.bench.editor.saved, timeout=5_000)
        assert (shop / "sheets" / "ferry-office-after-new-fan.toml").exists()
        row = len(sheets.model.entries) - 1
        qtbot.waitUntil(lambda: sheets.model.entries[-1].head == "" and len(sheets.model.entries) > row, timeout=5_000)
        window.bench.put()
        assert len(blocks(window)) == 2
        sheets.list.setCurrentIndex(sheets.model.index(len(sheets.model.entries) - 1))
        assert sheets.offer() is not None
        qtbot.keyClick(sheets.list, Qt.Key.Key_Return)
        qtbot.waitUntil(lambda: len(blocks(window)) == 1, timeout=5_000)
        qtbot.keyClick(sheets.list, Qt.Key.Key_Delete)
        qtbot.waitUntil(lambda: not (shop / "sheets" / "ferry-office-after-new-fan.toml").exists(), timeout=5_000)
        assert (shop / "sheets" / "deleted" / "ferry-office-after-new-fan.toml").exists()
    finally:
        engine.close()


def test_picks_follow_click_control_and_shift() -> None:
    processor = Target("processor", PartKind.PROCESSOR)
    core = [Target("processor", PartKind.PROCESSOR, number) for number in range(8)]
    memory = Target("memory A2", PartKind.MEMORY)
    assert Picks().with_click(core[1]).targets == (core[1],)
    assert Picks().with_click(core[1]).with_click(core[1]).targets == ()
    ranged = Picks().with_click(core[1]).with_click(core[3], ranging=True).with_click(memory, adding=True)
    assert ranged.pick().cores == (1, 2, 3)
    assert ranged.pick().kinds == (PartKind.PROCESSOR, PartKind.MEMORY)
    assert ranged.with_click(core[2], adding=True).pick().cores == (1, 3)
    whole = ranged.with_click(processor, adding=True)
    assert whole.pick().cores == ()
    assert pick_words(whole.pick()) == "memory + all cores"
    assert whole.has_core(7)
