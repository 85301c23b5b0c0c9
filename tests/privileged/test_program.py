"""What the program makes of the helper: the same readers get what they get as root, and go on without it."""

import os
import socket as socket_module
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.privileged.conftest import Bench
from thresher.engine.assembly import open_engine
from thresher.engine.engine import Engine
from thresher.machine import access as access_client
from thresher.machine.access import AccessClient
from thresher.machine.live import LiveSystem
from thresher.machine.restart import ENTRY, LiveRestart
from thresher.model.access import Access, AccessLevel, Allowed, access_of
from thresher.model.drive_commands import NoAnswer
from thresher.model.errors import EnvironmentFault, SourceUnavailable
from thresher.privileged.allowlist import Right
from thresher.protocol.client import EngineClient
from thresher.protocol.commands import AskAccess, GetSnapshot, QuitEngine
from thresher.protocol.events import AccessEvent, EngineEvent, TapeEvent
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import load_scenario, shipped_scenarios

DMI = "/sys/firmware/dmi/tables/DMI"


@pytest.fixture
def closed(monkeypatch: pytest.MonkeyPatch) -> None:
    """Files of the list may not be opened by this process."""
    really = os.open

    def refuse(path: object, flags: int, *more: int) -> int:
        if str(path) in (DMI, "/dev/kmsg", "/sys/firmware/memmap"):
            raise PermissionError(13, "Permission denied")
        return really(str(path), flags, *more)

    monkeypatch.setattr("thresher.machine.files.os.open", refuse)


@pytest.fixture
def system(client: AccessClient) -> Iterator[LiveSystem]:
    made = LiveSystem(client)
    yield made
    made.close()


def test_a_reader_gets_a_closed_file_by_the_helper(bench: Bench, system: LiveSystem, closed: None) -> None:
    bench.write(DMI, b"\x00\x1a")
    with pytest.raises(SourceUnavailable, match=r"no permission to read it; the access helper may not do this for you"):
        system.read(DMI)
    bench.polkit.person_says_yes = True
    assert system.ask_access().level is AccessLevel.FULL
    assert system.read(DMI) == b"\x00\x1a"
    with pytest.raises(SourceUnavailable, match=r"^/sys/firmware/memmap: no permission to read it$"):
        system.read("/sys/firmware/memmap")  # not on the list: the helper is not even asked


def test_one_answer_lets_workers_have_their_page_frames(bench: Bench, system: LiveSystem) -> None:
    assert system.pacing.page_frames() is None
    bench.polkit.person_says_yes = True
    system.ask_access()
    assert system.pacing.page_frames() is not None


def test_a_run_goes_on_by_the_unit_or_by_the_desktop(bench: Bench, client: AccessClient, tmp_path: Path) -> None:
    restart = LiveRestart(bench.root / "units", tmp_path / "autostart", root=False, helper=client)
    words = restart.install(Path("/home/mara/a.thresher"))
    assert "the access helper may not do this for you" in words
    assert (tmp_path / "autostart" / ENTRY).exists()
    assert "removed" in restart.remove()
    bench.polkit.person_says_yes = True
    client.ask()
    words = restart.install(Path("/home/mara/a.thresher"))
    assert "a unit of the system starts it on the console" in words
    assert "go-on" in (bench.root / "units/thresher-go-on.service").read_text()
    assert "removed" in restart.remove()
    assert list((bench.root / "units").rglob("thresher*")) == []


# ---- the engine


class AskableMachine(SimulatedMachine):
    """A simulated machine on which a person has to be asked for part of it."""

    def __init__(self, answer: Access) -> None:
        super().__init__(load_scenario(shipped_scenarios()["lighthouse-playout"]), 0.0)
        self.answer = answer
        self.answered = threading.Event()

    def access(self) -> Access:
        return access_of({Right.READ: Allowed.YES} | dict.fromkeys(set(Right) - {Right.READ}, Allowed.ASK))

    def ask_access(self) -> Access:
        self.answered.set()
        return self.answer


def _asked(tmp_path: Path, answer: Access) -> tuple[Engine, list[EngineEvent]]:
    system = AskableMachine(answer)
    engine = open_engine(system, tmp_path / "a.thresher")
    events: list[EngineEvent] = []
    engine.subscribe(events.append)
    engine.watch(3)
    assert engine.access.access.level is AccessLevel.PARTIAL
    assert engine.snapshot().access.access.can_ask
    engine.access.ask()
    assert system.answered.wait(10)
    for _ in range(200):
        engine.watch(1)
        if not engine.access.asking:
            break
    return engine, events


def test_more_access_opens_the_bench_again(tmp_path: Path) -> None:
    engine, events = _asked(tmp_path, access_of(dict.fromkeys(Right, Allowed.YES)))
    assert [each.asking for each in events if isinstance(each, AccessEvent)] == [True, False]
    assert any(isinstance(each, TapeEvent) and each.entry.title == "More access" for each in events)
    assert engine.wants_reopening
    with pytest.raises(EnvironmentFault, match="everything is allowed already"):
        engine.access.ask()
    engine.close()


def test_a_no_changes_nothing_and_says_so(tmp_path: Path) -> None:
    engine, events = _asked(tmp_path, AskableMachine(Access()).access())
    assert any(isinstance(each, TapeEvent) and each.entry.title == "No more access" for each in events)
    assert not engine.wants_reopening
    engine.close()


def test_a_run_in_progress_is_not_ended_by_an_answer(tmp_path: Path) -> None:
    system = AskableMachine(access_of(dict.fromkeys(Right, Allowed.YES)))
    engine = open_engine(system, tmp_path / "a.thresher")
    engine.sheets.put_proposed()
    engine.start()
    engine.watch(5)
    engine.access.ask()
    for _ in range(200):
        engine.watch(1)
        if not engine.access.asking:
            break
    assert (engine.conductor.active, engine.wants_reopening) == (True, False)
    engine.stop()
    engine.watch(2)
    assert (engine.conductor.active, engine.wants_reopening) == (False, True)
    engine.close()


def test_the_same_process_opens_the_same_job_again_with_more_access(tmp_path: Path) -> None:
    socket, job = tmp_path / "engine.sock", tmp_path / "a.thresher"
    command = [sys.executable, "-m", "tests.privileged.askable_engine", str(socket), str(job), str(tmp_path / "shop")]
    with (tmp_path / "log").open("w") as log:
        process = subprocess.Popen(command, cwd=Path(__file__).parents[2], stdout=log, stderr=log)
    before = _connected(socket)
    first = before.call(GetSnapshot())
    assert first.access.access.can_ask
    assert before.call(AskAccess()).asking
    with pytest.raises(EnvironmentFault, match="has ended"):
        while True:
            before.next_event()
    before.close()
    again = _connected(socket)
    second = again.call(GetSnapshot())
    assert second.access.access.level is AccessLevel.FULL
    assert (second.pid, second.job_file) == (first.pid, first.job_file) == (process.pid, str(job))
    again.call(QuitEngine())
    again.close()
    assert process.wait(30) == 0, (tmp_path / "log").read_text()
    assert not socket.exists()


def _connected(socket: Path) -> EngineClient:
    until = time.monotonic() + 60
    while True:
        try:
            return EngineClient(socket, timeout_s=60)
        except EnvironmentFault:
            assert time.monotonic() < until
            time.sleep(0.05)


def test_a_drive_that_hangs_when_it_is_opened_is_a_finding(
    client: AccessClient, monkeypatch: pytest.MonkeyPatch
) -> None:
    waiting, silent = socket_module.socketpair(socket_module.AF_UNIX, socket_module.SOCK_SEQPACKET)
    monkeypatch.setattr(client, "_descriptor", lambda *_asked: waiting.detach())
    monkeypatch.setattr(access_client, "_DEVICE_S", 0.2)
    with silent, pytest.raises(NoAnswer, match="could not be opened"):
        client.open_drive("/dev/sda")


def test_a_drive_says_why_neither_way_leads_to_it(system: LiveSystem) -> None:
    with pytest.raises(SourceUnavailable, match=r"No such file.*; the access helper may not do this for you"):
        system.open_drive("/dev/sdzzz")
