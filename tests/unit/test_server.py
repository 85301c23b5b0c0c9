"""The engine's socket: JSON-RPC as the standard has it, and refusals that say why."""

import contextlib
import json
import socket
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.crash.engine_process import EngineProcess
from thresher.compose.sheet_file import shipped_sheets
from thresher.model.errors import EnvironmentFault
from thresher.protocol.commands import (
    ChooseSheet,
    GetHistory,
    GetSnapshot,
    LeaveEngine,
    PutSheet,
    StartRun,
    StopRun,
    Subscribe,
)
from thresher.protocol.events import PlanEvent, TickEvent


@pytest.fixture(scope="module")
def engine(tmp_path_factory: pytest.TempPathFactory) -> Iterator[EngineProcess]:
    folder: Path = tmp_path_factory.mktemp("engine")
    started = EngineProcess(folder, "--simulate", "ferry-office", "--speed", "20", "--sheet", "short-round")
    yield started
    started.close()


def ask(engine: EngineProcess, line: bytes) -> dict[str, object]:
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as raw:
        raw.settimeout(20)
        raw.connect(str(engine.socket))
        with contextlib.suppress(BrokenPipeError):  # it may hang up before the end of an endless line
            raw.sendall(line + b"\n")
        answer: dict[str, object] = json.loads(raw.makefile("rb").readline())
    return answer


@pytest.mark.parametrize(
    ("line", "code", "words"),
    [
        (b"{nonsense", -32700, "malformed"),
        (b"[]", -32600, "Expected `object`"),
        (b'{"jsonrpc": "2.0", "id": 1}', -32600, "method"),
        (b'{"jsonrpc": "2.0", "id": 1, "method": "fly"}', -32601, "unknown method 'fly'"),
        (b'{"jsonrpc": "2.0", "id": 1, "method": "history"}', -32602, "after"),
        (b'{"jsonrpc": "2.0", "id": 1, "method": "history", "params": {"after": "x"}}', -32602, "Expected `float`"),
        (b'{"jsonrpc": "2.0", "id": 1, "method": "sheet.put", "params": {"toml": "= ="}}', 2, "cannot be used"),
    ],
)
def test_what_is_wrong_with_a_request_is_reported(engine: EngineProcess, line: bytes, code: int, words: str) -> None:
    answer = ask(engine, line)
    error = answer["error"]
    assert isinstance(error, dict)
    assert error["code"] == code
    assert words in str(error["message"])


def test_an_answer_bears_the_id_of_its_request(engine: EngineProcess) -> None:
    answer = ask(engine, b'{"jsonrpc": "2.0", "id": "seven", "method": "run.stop"}')
    assert (answer["jsonrpc"], answer["id"], answer["result"]) == ("2.0", "seven", "nothing was running")


def test_the_snapshot_holds_what_a_window_needs(engine: EngineProcess) -> None:
    text = shipped_sheets()["short-round"].read_text(encoding="utf-8")
    engine.client.call(PutSheet(toml=text, name="short-round"))
    snapshot = engine.client.call(GetSnapshot())
    assert snapshot.pid == engine.process.pid
    assert snapshot.machine.name == "Counter 2"
    assert snapshot.machine.simulated
    assert snapshot.machine.empty_slots == ("B1",)
    assert snapshot.sheet is not None
    assert snapshot.sheet.title == "Short round, 3 min"
    assert snapshot.run.state == "idle"
    assert len(snapshot.run.plan) == 2


def test_history_begins_after_the_time_asked_for(engine: EngineProcess) -> None:
    rows, deadline = engine.client.call(GetHistory(after=-1.0)), time.monotonic() + 20
    while len(rows.at) < 2:  # the engine may answer before its second tick
        assert time.monotonic() < deadline, "no second tick"
        time.sleep(0.02)
        rows = engine.client.call(GetHistory(after=-1.0))
    later = engine.client.call(GetHistory(after=rows.at[0]))
    assert later.at[0] > rows.at[0]
    assert len(rows.values[0]) == 4 * len(engine.client.call(GetSnapshot()).channels)


def test_a_subscriber_gets_ticks_and_a_changed_sheet(engine: EngineProcess) -> None:
    engine.client.call(Subscribe())
    text = (
        'format = "thresher-sheet/1"\ntitle = "Other"\n'
        '[[blocks]]\nrow = "processor"\nload = "matrix"\nstart = 0\nlength = 5\n'
    )
    status = engine.client.call(PutSheet(toml=text, name="other.toml"))
    assert status.title == "Other"
    seen = {type(engine.client.next_event()) for _ in range(40)}
    assert {TickEvent, PlanEvent} <= seen


def test_a_refusal_reaches_the_caller_in_the_engines_words(engine: EngineProcess) -> None:
    with pytest.raises(EnvironmentFault, match="there is no sheet 'jump'"):
        engine.client.call(ChooseSheet("jump"))


def test_a_line_beyond_all_bounds_is_refused_and_the_engine_lives(engine: EngineProcess) -> None:
    answer = ask(engine, b"x" * (5 << 20))
    error = answer["error"]
    assert isinstance(error, dict)
    assert "bytes at most" in str(error["message"])
    assert engine.status().state in ("idle", "ended")


def test_a_notification_is_carried_out_and_gets_no_answer(engine: EngineProcess) -> None:
    line = b'{"jsonrpc": "2.0", "method": "run.stop"}\n{"jsonrpc": "2.0", "id": 9, "method": "run.stop"}'
    assert ask(engine, line)["id"] == 9


def test_a_window_that_closes_ends_an_idle_engine_and_leaves_a_run_alone(tmp_path: Path) -> None:
    engine = EngineProcess(tmp_path, "--simulate", "ferry-office", "--speed", "30")
    text = (
        'format = "thresher-sheet/1"\ntitle = "Long"\n'
        '[[blocks]]\nrow = "processor"\nload = "matrix"\nstart = 0\nlength = 5000\n'
    )
    engine.client.call(PutSheet(toml=text, name="long"))
    engine.client.call(StartRun())
    assert engine.client.call(LeaveEngine()) is False
    engine.wait(lambda status: status.workers_running > 0)
    engine.client.call(StopRun())
    assert engine.client.call(LeaveEngine()) is True
    assert engine.process.wait(20) == 0
    engine.close()
