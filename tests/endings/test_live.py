"""What reads and keeps on a real computer: the stored log, the unit and the entry, the watchdog, no sleep, any key."""

import errno
import os
import pty
import signal
import subprocess
import time
from pathlib import Path
from typing import Any

import pytest
from jeepney import HeaderFields, Message, new_method_return

from tests.bus import bus
from thresher.cli.keys import any_key
from thresher.endings.traces import kept_files, last_words_files
from thresher.machine import boot_log, watchdog
from thresher.machine.awake import LiveAwake
from thresher.machine.boot_log import NoLog, entries
from thresher.machine.live import LiveSystem
from thresher.machine.restart import ENTRY, LiveRestart, entry_text
from thresher.machine.stored_log import stored_log
from thresher.machine.tree import TreeSystem
from thresher.model.errors import SourceUnavailable
from thresher.model.keeping_port import HeldOff
from thresher.model.own_program import own_command
from thresher.privileged.allowlist import RESTART_UNIT as UNIT
from thresher.privileged.restart_unit import unit_text


def test_the_log_of_a_boot_that_never_was_says_why_it_is_not_there() -> None:
    with pytest.raises(SourceUnavailable) as raised:
        stored_log("00000000-0000-0000-0000-000000000000", 10)
    assert raised.value.reason
    with pytest.raises(NoLog):
        list(entries("00000000-0000-0000-0000-000000000000", 10))


class _LibraryOfAnotherBoot:
    """Journal functions as sd_journal_get_monotonic_usec(3) has them, with one entry of an earlier boot."""

    def __init__(self) -> None:
        self._left = 1

    def sd_journal_open(self, journal: Any, flags: int) -> int:
        return 0

    def sd_journal_add_match(self, journal: Any, match: bytes, size: int) -> int:
        return 0

    def sd_journal_seek_tail(self, journal: Any) -> int:
        return 0

    def sd_journal_previous(self, journal: Any) -> int:
        self._left -= 1
        return int(self._left >= 0)

    def sd_journal_get_realtime_usec(self, journal: Any, usec: Any) -> int:
        usec._obj.value = 1_795_978_071_400_601
        return 0

    def sd_journal_get_monotonic_usec(self, journal: Any, usec: Any, boot_id: Any) -> int:
        if boot_id is None:
            return -errno.ESTALE
        usec._obj.value = 213_970_906
        return 0

    def sd_journal_get_data(self, journal: Any, field: bytes, data: Any, length: Any) -> int:
        return -errno.ENOENT

    def sd_journal_close(self, journal: Any) -> None:
        return


def test_lines_of_an_earlier_boot_have_the_time_of_that_boot(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(boot_log, "_library", _LibraryOfAnotherBoot)
    ((wall, at, _, _),) = entries("7adef59e-a692-4c11-a66c-b8e8d2d37ec8", 10)
    assert (wall, at) == (1_795_978_071.400601, 213.970906)


def test_the_kernels_last_words_are_found_where_systemd_moves_them(tmp_path: Path) -> None:
    moved = tmp_path / "var/lib/systemd/pstore/176000000"
    (moved / "001").mkdir(parents=True)
    (moved / "dmesg.txt").write_text("Panic#1")
    (moved / "001" / "dmesg.txt").write_text("Panic#1 part 2")
    kept = tmp_path / "sys/fs/pstore"
    kept.mkdir(parents=True)
    (kept / "dmesg-erst-7").write_text("Panic#2")
    (kept / "mce-erst-8").write_bytes(b"CPER")
    system = TreeSystem(tmp_path)
    assert last_words_files(system) == [
        "/sys/fs/pstore/dmesg-erst-7",
        "/var/lib/systemd/pstore/176000000/dmesg.txt",
        "/var/lib/systemd/pstore/176000000/001/dmesg.txt",
    ]
    assert "/sys/fs/pstore/mce-erst-8" in kept_files(system)


def test_a_unit_exists_only_while_a_run_wants_it(tmp_path: Path) -> None:
    units, entries_ = tmp_path / "units", tmp_path / "autostart"
    units.mkdir()
    restart = LiveRestart(units, entries_, root=True)
    words = restart.install(Path("/jobs/one job.thresher"))
    text = (units / UNIT).read_text()
    assert str(units / UNIT) in words
    assert '"go-on" "/jobs/one job.thresher"' in text
    assert "ConditionPathExists=/jobs/one job.thresher" in text
    assert (units / "multi-user.target.wants" / UNIT).resolve() == units / UNIT
    assert restart.install(Path("/jobs/two.thresher"))  # in place of the one before
    assert "/jobs/two.thresher" in (units / UNIT).read_text()
    assert restart.remove()
    assert list(units.rglob("thresher*")) == []
    assert restart.remove() == ""


def test_without_root_it_is_an_entry_of_the_desktop(tmp_path: Path) -> None:
    restart = LiveRestart(tmp_path / "no units", tmp_path / "autostart", root=False)
    assert "with more rights it would start without one" in restart.install(Path("/jobs/a.thresher"))
    text = (tmp_path / "autostart" / ENTRY).read_text()
    assert text.startswith("[Desktop Entry]\n")
    assert '"--job" "/jobs/a.thresher"' in text
    assert restart.remove()
    assert not (tmp_path / "autostart" / ENTRY).exists()


@pytest.mark.parametrize("name", ['/jobs/50 % "done" $HOME.thresher', "/jobs/back\\slash.thresher"])
def test_names_are_quoted_for_both(name: str) -> None:
    # systemd.service(5): % and $ doubled, quotes and backslashes escaped in a quoted word
    quoted = name.replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%").replace("$", "$$")
    assert f'"{quoted}"' in unit_text(["/usr/bin/python3", name], name, None, "/root")
    assert "%%" in entry_text(Path(name)) or "%" not in name


def test_the_unit_is_one_that_the_manager_takes(tmp_path: Path) -> None:
    (tmp_path / UNIT).write_text(unit_text(own_command("thresher.cli", "go-on"), "/jobs/a.thresher", None, "/root"))
    try:
        done = subprocess.run(
            ["systemd-analyze", "verify", "--man=no", str(tmp_path / UNIT)], capture_output=True, text=True, check=False
        )
    except FileNotFoundError:
        pytest.skip("systemd-analyze is not installed")
    assert "Unknown" not in done.stderr


def test_the_watchdog_is_fed_and_switched_off_when_the_program_dies(tmp_path: Path) -> None:
    device = tmp_path / "watchdog"
    device.touch()
    process = subprocess.Popen(
        own_command("thresher.machine.watchdog_worker", str(device), "30"),
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    )
    assert process.stdin is not None
    assert process.stdout is not None
    assert process.stdout.readline() == "armed 30\n"
    process.send_signal(signal.SIGTERM)  # what ends everything else at a shutdown does not end it
    process.stdin.write("feed\nfeed\n")
    process.stdin.flush()
    process.stdin.close()  # so it is when whoever holds it is killed
    assert process.stdout.read() == "off\n"
    assert process.wait(10) == 0
    process.stdout.close()
    # two feeds, then the letter that switches it off (kernel document watchdog/watchdog-api)
    assert device.read_bytes() == b"\0\0V"


def test_a_watchdog_that_cannot_be_had_says_why() -> None:
    with pytest.raises(SourceUnavailable) as raised:
        LiveSystem().open_watchdog(60.0).close()
    assert raised.value.reason


def test_a_watchdog_that_takes_nothing_any_more_holds_up_nobody(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    device = tmp_path / "watchdog0"
    device.touch()
    (tmp_path / "class" / "watchdog0").mkdir(parents=True)
    (tmp_path / "class" / "watchdog0" / "identity").write_text("bench watchdog\n")
    monkeypatch.setattr(watchdog, "_CLASS", str(tmp_path / "class"))
    monkeypatch.setattr(
        watchdog, "own_command", lambda module, _device, timeout: own_command(module, str(device), timeout)
    )
    dog = watchdog.LiveWatchdog(60.0)
    assert (dog.name, dog.timeout_s) == ("bench watchdog", 60.0)
    assert dog.feed() == ""
    dog._process.send_signal(signal.SIGSTOP)  # as one that waits for the device for ever
    trouble = next(said for _ in range(100_000) if (said := dog.feed()))
    assert "does not answer" in trouble
    dog._process.send_signal(signal.SIGCONT)
    assert dog.close() == ""
    assert device.read_bytes().endswith(b"\0V")


def all_answers(awake: LiveAwake) -> list[HeldOff]:
    """Wait until everything that is held off has been answered."""
    found: list[HeldOff] = []
    deadline = time.monotonic() + 20
    while len(found) < 4:
        assert time.monotonic() < deadline
        found += awake.news()
        time.sleep(0.05)
    return found


def test_what_cannot_be_held_off_is_said_and_the_rest_is_held(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", f"unix:path={tmp_path}/none")
    monkeypatch.setenv("DBUS_SYSTEM_BUS_ADDRESS", f"unix:path={tmp_path}/none")
    awake = LiveAwake("a test run")
    found = all_answers(awake)
    awake.close()
    assert {each.by for each in found} == {"the login manager", "the screen saver", "the desktop portal"}
    assert all("no bus answers" in each.why_not for each in found)


def test_what_is_held_off_is_given_back_with_the_end_of_its_process(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    asked: list[tuple[str, tuple[object, ...]]] = []

    def reply(message: Message) -> Message:
        asked.append((message.header.fields[HeaderFields.interface], message.body))
        return new_method_return(message, "u", (7,))

    for name in ("SESSION", "SYSTEM"):
        monkeypatch.setenv(f"DBUS_{name}_BUS_ADDRESS", f"unix:path={tmp_path}/{name}")
    with bus(tmp_path / "SESSION", reply), bus(tmp_path / "SYSTEM", reply):
        awake = LiveAwake("a test run")
        assert [each.why_not for each in all_answers(awake)] == ["", "", "", ""]
        assert awake._process.poll() is None
        awake.close()
        assert awake._process.poll() == 0
    assert [body[0] for interface, body in asked if "login1" in interface] == ["sleep:idle", "handle-lid-switch"]
    assert any("ScreenSaver" in interface for interface, _ in asked)


def test_any_key_is_heard_once_and_the_terminal_is_given_back(monkeypatch: pytest.MonkeyPatch) -> None:
    here, there = pty.openpty()
    monkeypatch.setattr("sys.stdin", os.fdopen(there, "r", closefd=False))
    pressed: list[int] = []
    with any_key(lambda: pressed.append(1)):
        os.write(here, b"xyz")
        deadline = time.monotonic() + 10
        while not pressed:
            assert time.monotonic() < deadline
            time.sleep(0.02)
    assert pressed == [1]
    os.close(here)
    os.close(there)


def test_without_a_terminal_no_key_is_watched() -> None:
    with any_key(lambda: pytest.fail("no key was pressed")):
        pass
