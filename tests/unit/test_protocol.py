"""Typed commands: every one travels there and back, and what is none is refused with the right words."""

import contextlib
import json
import socket
import time
from collections.abc import Iterator
from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.crash.engine_process import EngineProcess
from thresher.engine.assembly import open_engine
from thresher.engine.engine import Engine
from thresher.model.channels import LimitSide
from thresher.model.errors import EnvironmentFault, InputError
from thresher.model.parts import PartKind
from thresher.protocol.commands import (
    METHODS,
    AddPart,
    Command,
    GetHistory,
    GetSnapshot,
    ListJobs,
    PutSheet,
    SetJob,
    SetLimit,
    StartRun,
    StopRun,
    answer_type,
)
from thresher.protocol.status import RunStatus
from thresher.protocol.wire import (
    INVALID_PARAMS,
    INVALID_REQUEST,
    NO_SUCH_METHOD,
    PARSE_ERROR,
    RefusedRequest,
    decode_request,
    encode_command,
)
from thresher.server.dispatch import carry_out
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario


def refusal(line: bytes) -> tuple[int, str]:
    with pytest.raises(RefusedRequest) as caught:
        decode_request(line)
    return caught.value.error.code, caught.value.error.message


def test_a_command_is_a_json_rpc_request_with_its_fields_as_params() -> None:
    line = encode_command(SetLimit("hwmon0/temp1", LimitSide.BELOW, 90.0, "new cooler"), 7)
    assert json.loads(line) == {
        "jsonrpc": "2.0",
        "id": 7,
        "method": "limit.set",
        "params": {"channel": "hwmon0/temp1", "side": "below", "value": 90.0, "reason": "new cooler"},
    }
    assert line.endswith(b"}\n")


@pytest.mark.parametrize(
    "command",
    [
        StartRun(),
        GetHistory(-1.5),
        PutSheet("title = 1", "x.toml"),
        SetJob({"number": "0417"}),
        AddPart("N-1", PartKind.MEMORY),
        SetLimit("c", LimitSide.ABOVE),
    ],
)
def test_commands_travel_there_and_back(command: Command[RunStatus]) -> None:
    line = encode_command(command, 1)
    assert decode_request(line) == (command, 1)


def test_every_command_has_a_type_of_answer_and_a_method_of_its_own() -> None:
    assert len(METHODS) == 59
    assert answer_type(StartRun()) is RunStatus
    assert answer_type(StopRun()) is str
    assert answer_type(ListJobs()) is not None


@pytest.mark.parametrize(
    ("params", "words"),
    [
        (b'{"channel": "c", "side": "below", "value": 1, "reason": "x", "colour": "red"}', "colour"),
        (b'{"channel": "c", "side": "sideways"}', "sideways"),
        (b'{"side": "below"}', "channel"),
        (b'["c", "below"]', "object"),
        (b"7", "object"),
    ],
)
def test_wrong_fields_are_refused_by_name(params: bytes, words: str) -> None:
    line = b'{"jsonrpc": "2.0", "id": 1, "method": "limit.set", "params": ' + params + b"}"
    code, message = refusal(line)
    assert code == INVALID_PARAMS
    assert words in message
    assert message.startswith("limit.set: ")


def test_an_unknown_command_is_refused_with_those_that_are_known() -> None:
    code, message = refusal(b'{"jsonrpc": "2.0", "id": 1, "method": "run.fly"}')
    assert code == NO_SUCH_METHOD
    assert "'run.fly'" in message
    assert "run.start" in message


@given(st.binary(max_size=200))
def test_no_bytes_break_the_decoder(line: bytes) -> None:
    try:
        decode_request(line)
    except RefusedRequest as refused:
        assert refused.error.code in (PARSE_ERROR, INVALID_REQUEST, NO_SUCH_METHOD, INVALID_PARAMS)


@given(st.recursive(st.none() | st.booleans() | st.integers() | st.text(max_size=8), st.lists))
def test_no_params_break_the_decoder(params: object) -> None:
    line = msgspec.json.encode({"jsonrpc": "2.0", "id": 1, "method": "job.set", "params": {"fields": params}})
    with pytest.raises(RefusedRequest):
        decode_request(line)


@pytest.fixture
def engine(ferry: Scenario, tmp_path: Path) -> Iterator[Engine]:
    made = open_engine(SimulatedMachine(ferry, 0.0), tmp_path / "job.thresher")
    made.watch(1)
    yield made
    made.close()


def test_a_limit_on_an_unknown_channel_is_refused(engine: Engine) -> None:
    for value in (None, 80.0):
        with pytest.raises(InputError, match="nowhere: this machine has no such channel"):
            carry_out(engine, SetLimit("nowhere", LimitSide.BELOW, value, "x"))


def test_a_limit_on_an_unknown_channel_is_answered_over_the_socket(tmp_path: Path) -> None:
    process = EngineProcess(tmp_path, "--simulate", "ferry-office", "--speed", "20")
    try:
        with pytest.raises(EnvironmentFault, match="no such channel"):
            process.client.call(SetLimit("nowhere", LimitSide.BELOW))
    finally:
        process.close()


def test_a_client_that_never_reads_is_dropped_and_holds_nobody_up(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    process = EngineProcess(tmp_path, "--simulate", "ferry-office", "--speed", "1")
    deaf = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    try:
        deaf.connect(str(process.socket))
        # a few hundred snapshots are more than the engine keeps for one client
        deaf.setblocking(False)
        with contextlib.suppress(BlockingIOError, BrokenPipeError, ConnectionResetError):
            deaf.sendall(encode_command(GetSnapshot(), 1) * 900)
        deadline = time.monotonic() + 60
        while "does not read" not in log_of(tmp_path):
            begun = time.monotonic()
            process.status()
            assert time.monotonic() - begun < 10, "another client is answered meanwhile"
            assert time.monotonic() < deadline
            time.sleep(0.1)
        assert process.status().state == "idle"
    finally:
        deaf.close()
        process.close()


def log_of(folder: Path) -> str:
    return "".join(path.read_text() for path in folder.rglob("thresher.log"))
