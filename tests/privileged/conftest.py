"""A bus of the test's own with a stand-in for polkit, and the access helper on it over a tree of files."""

import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest
from jeepney import HeaderFields, MessageType, message_bus, new_method_return
from jeepney.io.blocking import DBusConnection, open_dbus_connection

from thresher.machine.access import AccessClient

_CONFIGURATION = """<!DOCTYPE busconfig PUBLIC "-//freedesktop//DTD D-BUS Bus Configuration 1.0//EN"
 "http://www.freedesktop.org/standards/dbus/1.0/busconfig.dtd">
<busconfig><type>session</type><servicedir>{services}</servicedir><listen>unix:path={socket}</listen><auth>EXTERNAL</auth>
<policy context="default"><allow send_destination="*"/><allow receive_sender="*"/><allow own="*"/></policy></busconfig>
"""
POLKIT = "org.freedesktop.PolicyKit1"


class StandInPolkit:
    """Answers CheckAuthorization as the test has it: what is allowed, and what a person says when asked."""

    def __init__(self) -> None:
        """Take the name on the bus."""
        self.allowed: set[str] = set()
        self.person_says_yes = False
        self.may_ask = True
        self.asked: list[tuple[str, int]] = []
        self._bus = open_dbus_connection("SYSTEM")
        self._bus.send_and_get_reply(message_bus.RequestName(POLKIT))
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._ended = False
        self._thread.start()

    def _serve(self) -> None:
        while not self._ended:
            try:
                call = self._bus.receive(timeout=0.1)
            except TimeoutError:
                continue
            if call.header.message_type is not MessageType.method_call:
                continue
            assert call.header.fields[HeaderFields.member] == "CheckAuthorization"
            (kind, _subject), action, _details, flags, _cancel = call.body
            assert kind == "system-bus-name"
            self.asked.append((action, flags))
            yes = action in self.allowed or bool(flags & 1 and self.may_ask and self.person_says_yes)
            challenge = not yes and self.may_ask and not flags & 1
            self._bus.send(new_method_return(call, "(bba{ss})", ((yes, challenge, {}),)))

    def close(self) -> None:
        """Leave the bus."""
        self._ended = True
        self._thread.join(5)
        self._bus.close()


@dataclass
class Bench:
    """The tree that the helper serves, the stand-in for polkit, and the helper's own words."""

    root: Path
    polkit: StandInPolkit
    process: "subprocess.Popen[str]"

    def write(self, path: str, content: str | bytes = "") -> Path:
        """Put a file into the tree."""
        place = self.root / path.lstrip("/")
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(content.encode() if isinstance(content, str) else content)
        return place

    def has_logged(self, words: str, times: int = 1) -> bool:
        """Wait until the helper has logged something so many times, and no more often."""
        log = self.root / "log"
        _until(lambda: log.read_text().count(words) >= times)
        return log.read_text().count(words) == times


@pytest.fixture
def bus(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    """A message bus that stands for the system's."""
    place = tmp_path / "bus"
    configuration = tmp_path / "bus.conf"
    (tmp_path / "services").mkdir()
    configuration.write_text(_CONFIGURATION.format(socket=place, services=tmp_path / "services"))
    monkeypatch.setenv("DBUS_SYSTEM_BUS_ADDRESS", f"unix:path={place}")
    process = subprocess.Popen(["dbus-daemon", f"--config-file={configuration}", "--nofork"])
    _until(lambda: _listens(place))
    yield place
    process.terminate()
    process.wait(10)


@pytest.fixture
def bench(bus: Path, tmp_path: Path) -> Iterator[Bench]:
    """The helper at work on that bus."""
    root = tmp_path / "machine"
    (root / "units").mkdir(parents=True)
    polkit = StandInPolkit()
    with (root / "log").open("w") as log:
        process = subprocess.Popen(
            [sys.executable, "-m", "tests.privileged.helper_process", str(root)],
            stderr=log,
            text=True,
            cwd=Path(__file__).parents[2],
        )
    with open_dbus_connection("SYSTEM") as asking:
        _until(lambda: _owned(asking))
    yield Bench(root, polkit, process)
    process.terminate()
    assert process.wait(10) == 0
    polkit.close()


@pytest.fixture
def client(bench: Bench) -> Iterator[AccessClient]:
    """The program's side, as an ordinary user's."""
    made = AccessClient(root=False)
    yield made
    made.close()


def _listens(place: Path) -> bool:
    with socket.socket(socket.AF_UNIX) as probe:
        return probe.connect_ex(str(place)) == 0


def _owned(asking: DBusConnection) -> bool:
    reply = asking.send_and_get_reply(message_bus.NameHasOwner("org.thresher.Access1"))
    return bool(reply.body[0])


def _until(there: Callable[[], bool]) -> None:
    until = time.monotonic() + 20
    while not there():
        assert time.monotonic() < until, "it did not come"
        time.sleep(0.02)
