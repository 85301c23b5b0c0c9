"""The engine's socket: who may talk to it, and how much it takes from those who do."""

import json
import os
import socket
import subprocess
import sys
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.hostile.test_other_users import NOBODY
from thresher.engine.assembly import open_engine
from thresher.engine.engine import Engine
from thresher.model.errors import EnvironmentFault
from thresher.protocol.client import EngineClient
from thresher.protocol.commands import GetSnapshot
from thresher.protocol.peer import is_trusted, peer_user
from thresher.server.server import serve, take_socket
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario

CONNECT = """
import os, socket, sys
os.setgroups([]); os.setgid(int(sys.argv[2])); os.setuid(int(sys.argv[2]))
with socket.socket(socket.AF_UNIX) as end:
    end.settimeout(20)
    end.connect(sys.argv[1])
    try:
        end.sendall(b'{"jsonrpc": "2.0", "id": 1, "method": "snapshot"}\\n')
        print(end.recv(100))
    except OSError as error:
        print("refused", error)
"""

LISTEN = """
import os, socket, sys
end = socket.socket(socket.AF_UNIX)
end.bind(sys.argv[1])
os.setgroups([]); os.setgid(int(sys.argv[2])); os.setuid(int(sys.argv[2]))
end.listen(1)
print("ready", flush=True)
end.accept()[0].recv(10)
"""


@pytest.fixture
def served(tmp_path: Path, ferry: Scenario) -> Iterator[tuple[Engine, Path]]:
    engine = open_engine(SimulatedMachine(ferry, 20.0), tmp_path / "job.thresher")
    path = tmp_path / "s" / "engine.sock"
    listening = take_socket(path)
    thread = threading.Thread(target=serve, args=(engine, listening))
    thread.start()
    yield engine, path
    engine.quit()
    thread.join(20)
    assert not thread.is_alive()


def test_the_kernel_says_who_is_at_the_other_end() -> None:
    one, two = socket.socketpair(socket.AF_UNIX)
    with one, two:
        assert peer_user(one) == os.geteuid()
    assert is_trusted(os.geteuid())
    assert is_trusted(0)
    assert not is_trusted(NOBODY)


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can become another user")
def test_another_user_who_reaches_the_socket_is_not_answered(served: tuple[Engine, Path]) -> None:
    """Even where somebody has opened the folder and the socket for all."""
    _, path = served
    path.chmod(0o777)
    closed = [folder for folder in path.parents if not folder.stat().st_mode & 0o001]
    for folder in closed:
        folder.chmod(0o711)
    try:
        asking = [sys.executable, "-c", CONNECT, str(path), str(NOBODY)]
        done = subprocess.run(asking, capture_output=True, text=True, check=True, timeout=60)
    finally:
        for folder in closed:
            folder.chmod(0o700)
    assert done.stdout.startswith(("b''", "refused"))
    with EngineClient(path) as own:
        assert own.call(GetSnapshot()).machine.name == "Counter 2"


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can become another user")
def test_a_socket_of_another_user_is_not_talked_to(tmp_path: Path) -> None:
    path = tmp_path / "theirs.sock"
    with subprocess.Popen([sys.executable, "-c", LISTEN, str(path), str(NOBODY)], stdout=subprocess.PIPE) as theirs:
        assert theirs.stdout is not None
        assert theirs.stdout.readline() == b"ready\n"
        with pytest.raises(EnvironmentFault, match="another user's program"):
            EngineClient(path)
        theirs.kill()


def test_a_client_that_asks_faster_than_it_is_answered_has_to_wait(served: tuple[Engine, Path]) -> None:
    engine, path = served
    done = threading.Event()
    engine.submit(done.wait)  # the engine is busy, so that no request is carried out
    line = json.dumps(
        {"jsonrpc": "2.0", "method": "job.set", "params": {"fields": {"notes": "x" * (1 << 20)}}}
    ).encode()
    sent = 0
    try:
        with socket.socket(socket.AF_UNIX) as end:
            end.connect(str(path))
            end.settimeout(1.0)
            with pytest.raises(TimeoutError):
                while sent < 64 << 20:
                    sent += end.send(line[sent % (len(line) + 1) :] or b"\n")
    finally:
        done.set()
    assert 1 << 20 < sent < 20 << 20


@pytest.mark.parametrize(
    "line",
    [
        b"[" * 200_000,
        b'{"jsonrpc": "2.0", "id": 1, "method": "history", "params": {"after": ' + b"[" * 200_000 + b"}}",
        b'{"jsonrpc": "2.0", "id": 1, "method": "history", "params": {"after": 1e999}}',
        b'{"jsonrpc": "2.0", "id": 1, "method": "history", "params": {"after": -' + b"9" * 5000 + b"}}",
        b'{"jsonrpc": "2.0", "id": 1' + b"0" * 500 + b', "method": "history"}',
        b'{"jsonrpc": "2.0", "id": 1, "method": "history", "params": {"after": NaN}}',
        b'{"jsonrpc": "2.0", "id": 1, "method": "\xff\xfe"}',
    ],
    ids=["deep", "deep params", "infinite", "very negative", "long id", "not a number", "no text"],
)
def test_nonsense_gets_an_error_and_the_line_stays_open(served: tuple[Engine, Path], line: bytes) -> None:
    _, path = served
    with socket.socket(socket.AF_UNIX) as end:
        end.settimeout(20)
        end.connect(str(path))
        stream = end.makefile("rb")
        end.sendall(line + b"\n")
        assert json.loads(stream.readline())["error"]["message"]
        end.sendall(b'{"jsonrpc": "2.0", "id": 2, "method": "run.stop"}\n')
        assert json.loads(stream.readline())["result"] == "nothing was running"
