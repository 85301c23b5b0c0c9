"""What the load under way reports on the Bench."""

from pathlib import Path

import pytest
from pytestqt.qtbot import QtBot

from tests.crash.engine_process import EngineProcess
from tests.ui.conftest import OpenWindow
from thresher.loads.status import MemoryStatus
from thresher.model.parts import PartKind, PartStatus
from thresher.model.verdict import HowLong, SeenRate
from thresher.ui.stations.bench.load_card import coverage_text, how_long_text, minutes_text, rate_text

SHEET = """
format = "thresher-sheet/1"
title = "Links and memory"
[[blocks]]
row = "processor"
load = "relay"
start = 0
length = 120
[[blocks]]
row = "memory"
load = "memory"
start = 10
length = 110
"""


def test_times_are_reported_short_and_never_as_nothing() -> None:
    assert [minutes_text(each) for each in (None, 0.0, 0.4, 12.4, 99.0, 150.0)] == [
        "> 1000 h",
        "reached",
        "< 1 min",
        "12 min",
        "99 min",
        "2 h",
    ]


def test_reports_say_what_a_number_means() -> None:
    each = HowLong("m", "one core weak", PartKind.PROCESSOR, 0.46, 33.0, 180.0)
    assert "46 % of such faults would have been detected by now" in how_long_text(each)
    assert "95 % after 33 min more of this, 99 % after 3 h" in how_long_text(each)
    seen = SeenRate(6, 0.1, 61.0, 30.2, 118.0, 5.9)
    assert rate_text(seen).startswith("6 findings in 6 min of the loads that showed them: 61 per hour")
    assert "clean run of 6 min of the same makes 95 % sure" in rate_text(seen)
    assert coverage_text(MemoryStatus(int(22.9 * (1 << 30)), None, 24 << 30, 0, 0.0, True)) == "22.9 of 24.0 GiB"


def test_coverage_times_and_how_long_appear_while_the_load_runs(
    qtbot: QtBot, tmp_path: Path, open_window: OpenWindow
) -> None:
    (tmp_path / "links.toml").write_text(SHEET)
    engine = EngineProcess(
        tmp_path, "--simulate", "museum-guide", "--speed", "30", "--sheet", str(tmp_path / "links.toml")
    )
    try:
        window = open_window(engine)
        window.resize(1280, 800)
        card = window.bench.load_card
        assert card.height() == 0
        window.start()
        state = window.state
        qtbot.waitUntil(
            lambda: (memory := state.run.newest(MemoryStatus)) is not None and memory.passes > 1, timeout=60_000
        )
        qtbot.waitUntil(lambda: state.verdict is not None and state.verdict.seen_rate is not None, timeout=60_000)
        state.refresh_now()
        qtbot.waitUntil(lambda: card.height() > 150, timeout=10_000)
        card.grab()
        shown = "\n".join(spot.text for spot in card.spots)
        assert "GiB taken; the rest is in use by the running system" in shown
        assert "CPU 0 and CPU 6: 24 ns" in shown
        assert "would have been detected by now" in shown
        assert "per hour" in shown
        modules = state.snapshot.machine.parts_of(PartKind.MEMORY) if state.snapshot else ()
        qtbot.waitUntil(lambda: state.status_of(PartKind.MEMORY) is PartStatus.REPLACE, timeout=60_000)
        assert {part.place: state.status_of_part(part) for part in modules} == {
            "A2": PartStatus.UNTESTED,
            "B2": PartStatus.REPLACE,
        }
        window.resize(1024, 700)
        state.refresh_now()
        qtbot.waitUntil(lambda: window.bench.tape.height() > 90, timeout=5_000)
        window.stop()
        qtbot.waitUntil(lambda: state.run.state == "ended", timeout=10_000)
    finally:
        engine.close()


@pytest.mark.parametrize("word", ["relay, shared cache", "memory, 4 patterns"])
def test_blocks_are_named_on_the_sheet(word: str, tmp_path: Path) -> None:
    from thresher.compose.sheet_file import parse_sheet

    assert word in [block.title for block in parse_sheet(SHEET, "test").blocks]
