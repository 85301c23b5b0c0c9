"""Rounds on a schedule: units as the service manager takes them, and what comes of a failure."""

import configparser
import json
import shlex
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from jeepney import HeaderFields, MessageType, new_error, new_method_return
from jeepney.low_level import Message

from tests.bus import bus
from thresher.app.schedule import Scheduled, add, calendar, listed, remove, units
from thresher.app.user_bus import BusManager, notify, unit_folder
from thresher.cli.app import main
from thresher.model.checks import Round
from thresher.model.errors import EnvironmentFault, InputError


@pytest.mark.parametrize(
    ("when", "expected"),
    [
        ("07:30", "*-*-* 07:30:00"),
        ("7:05", "*-*-* 07:05:00"),
        ("Mon 18:00", "Mon *-*-* 18:00:00"),
        ("mon..fri 07:30", "Mon..Fri *-*-* 07:30:00"),
        ("Tue,Sat 23:59", "Tue,Sat *-*-* 23:59:00"),
    ],
)
def test_times_become_the_managers_own(when: str, expected: str) -> None:
    assert calendar(when) == expected


@pytest.mark.parametrize("when", ["", "24:00", "7:60", "Monday 7:30", "Mon", "Mon-Fri 7:30", "07:30\nExecStart=/bin/x"])
def test_other_times_are_refused(when: str) -> None:
    with pytest.raises(InputError, match="expected a time such as"):
        calendar(when)


def read(text: str) -> configparser.ConfigParser:
    parser = configparser.ConfigParser(interpolation=None, strict=False)
    parser.optionxform = str  # type: ignore[assignment,method-assign]
    parser.read_string(text)
    return parser


def test_the_units_say_when_what_and_that_missed_times_are_caught_up() -> None:
    files = units(Scheduled("evening", "Mon..Fri 18:00", Round.SHORT), ["/opt/my shop/python", "-m", "x", "50%"])
    assert set(files) == {"thresher-round-evening.service", "thresher-round-evening.timer"}
    timer, service = read(files["thresher-round-evening.timer"]), read(files["thresher-round-evening.service"])
    assert timer["Timer"]["OnCalendar"] == "Mon..Fri *-*-* 18:00:00"
    assert timer["Timer"]["Persistent"] == "true"
    assert timer["Install"]["WantedBy"] == "timers.target"
    assert service["Service"]["Type"] == "oneshot"
    assert shlex.split(service["Service"]["ExecStart"]) == ["/opt/my shop/python", "-m", "x", "50%%"]


class Manager:
    """Notes what it is asked."""

    def __init__(self) -> None:
        self.asked: list[str] = []

    def reload(self) -> None:
        self.asked.append("reload")

    def enable(self, unit: str) -> None:
        self.asked.append(f"enable {unit}")

    def disable(self, unit: str) -> None:
        self.asked.append(f"disable {unit}")


def test_a_round_is_put_on_the_schedule_listed_and_taken_off(tmp_path: Path) -> None:
    folder, manager = tmp_path / "systemd/user", Manager()
    first, second = (
        Scheduled("evening", "Mon..Fri 18:00", Round.SHORT),
        Scheduled("monthly", "Sat 03:00", Round.THOROUGH),
    )
    for each in (first, second):
        add(folder, manager, each, ["true"])
    assert listed(folder) == (first, second)
    (folder / "other.timer").write_text("[Timer]\nOnCalendar=daily\n")
    remove(folder, manager, "evening")
    assert listed(folder) == (second,)
    assert sorted(path.name for path in folder.iterdir()) == [
        "other.timer",
        "thresher-round-monthly.service",
        "thresher-round-monthly.timer",
    ]
    assert manager.asked == [
        "reload",
        "enable thresher-round-evening.timer",
        "reload",
        "enable thresher-round-monthly.timer",
        "disable thresher-round-evening.timer",
        "reload",
    ]
    with pytest.raises(InputError, match="'evening' is not on the schedule; on it: monthly"):
        remove(folder, manager, "evening")


@pytest.mark.parametrize("name", ["../up", "", "Big", "a" * 40, "a b"])
def test_names_that_could_lead_elsewhere_are_refused(tmp_path: Path, name: str) -> None:
    with pytest.raises(InputError, match="name"):
        add(tmp_path, Manager(), Scheduled(name, "07:30", Round.SHORT), ["true"])
    with pytest.raises(InputError, match="not on the schedule"):
        remove(tmp_path, Manager(), name)
    assert list(tmp_path.iterdir()) == []


@contextmanager
def session_bus(path: Path, refuse: str = "") -> Iterator[list[tuple[str, object]]]:
    """A session bus that answers everything but one method, and notes what it is asked."""
    asked: list[tuple[str, object]] = []
    with bus(path, lambda message: _reply(message, asked, refuse)):
        yield asked


def _reply(message: Message, asked: list[tuple[str, object]], refuse: str) -> Message:
    method = str(message.header.fields[HeaderFields.member])
    assert message.header.message_type is MessageType.method_call
    asked.append((method, message.body))
    if method == refuse:
        return new_error(message, "org.freedesktop.DBus.Error.AccessDenied", "s", ("this user may not",))
    forms: dict[str, tuple[str, tuple[object, ...]]] = {
        "EnableUnitFiles": ("ba(sss)", (True, [])),
        "DisableUnitFiles": ("a(sss)", ([],)),
        "RestartUnit": ("o", ("/org/freedesktop/systemd1/job/1",)),
        "StopUnit": ("o", ("/org/freedesktop/systemd1/job/2",)),
        "Notify": ("u", (3,)),
    }
    form, body = forms.get(method, (None, ()))
    return new_method_return(message, form, body)


def test_the_manager_is_asked_over_the_session_bus(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", f"unix:path={tmp_path}/bus")
    with session_bus(tmp_path / "bus") as asked:
        manager = BusManager()
        manager.reload()
        manager.enable("thresher-round-a.timer")
        manager.disable("thresher-round-a.timer")
        notify("A check failed", "battery wear: worn out")
    assert [method for method, _ in asked] == [
        "Reload",
        "EnableUnitFiles",
        "RestartUnit",
        "StopUnit",
        "DisableUnitFiles",
        "Notify",
    ]
    assert asked[1][1] == (["thresher-round-a.timer"], False, True)
    assert asked[5][1][3:5] == ("A check failed", "battery wear: worn out")  # type: ignore[index]


def test_a_bus_that_refuses_or_is_not_there_is_named(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", f"unix:path={tmp_path}/bus")
    with session_bus(tmp_path / "bus", refuse="Reload"), pytest.raises(EnvironmentFault, match="this user may not"):
        BusManager().reload()
    monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", f"unix:path={tmp_path}/nothing")
    with pytest.raises(EnvironmentFault, match="no session bus answers"):
        notify("x", "y")


def test_the_verbs_put_rounds_on_the_schedule_of_this_user(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", f"unix:path={tmp_path}/bus")
    with session_bus(tmp_path / "bus"):
        assert main(["schedule", "add", "evening", "--at", "Mon..Fri 18:00"]) == 0
        assert unit_folder() == f"{tmp_path}/config/systemd/user"
        service = read(Path(unit_folder(), "thresher-round-evening.service").read_text())
        assert shlex.split(service["Service"]["ExecStart"])[-3:] == ["schedule", "carry-out", "short"]
        capsys.readouterr()
        assert main(["schedule", "list", "--json"]) == 0
        assert json.loads(capsys.readouterr().out) == [{"name": "evening", "when": "Mon..Fri 18:00", "kind": "short"}]
        assert main(["schedule", "remove", "evening"]) == 0
        assert main(["schedule", "list"]) == 0
        assert "Nothing is on the schedule" in capsys.readouterr().out
    assert main(["schedule", "add", "evening", "--at", "soon"]) == 2


def test_a_round_by_itself_is_quiet_unless_something_failed(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "data"))
    monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", f"unix:path={tmp_path}/bus")
    options = ["--speed", "0", "--job", str(tmp_path / "j.thresher"), "--shop", str(tmp_path / "shop")]
    with session_bus(tmp_path / "bus") as asked:
        assert main(["schedule", "carry-out", "short", "--simulate", "harbour-notebook", *options]) == 1
    ((method, body),) = asked
    assert method == "Notify"
    assert body[3] == "A check of Quay round failed"  # type: ignore[index]
    assert "failed: battery wear, BAT0" in body[4]  # type: ignore[index]
    captured = capsys.readouterr()
    assert captured.out == ""
    assert "worn out" in captured.err
