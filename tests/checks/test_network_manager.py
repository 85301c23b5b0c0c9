"""What a network manager knows of a wireless link, from a bus of the test's own."""

from pathlib import Path

import pytest
from jeepney import HeaderFields, new_error, new_method_return
from jeepney.low_level import Message

from tests.bus import bus
from thresher.machine.network import LiveNetwork
from thresher.machine.network_manager import read_wireless, signal_dbm
from thresher.model.network_port import Neighbour, WirelessState

POINTS = {
    "/ap/1": {
        "Ssid": ("ay", b"quay-7"),
        "Frequency": ("u", 5180),
        "Strength": ("y", 84),
        "MaxBitrate": ("u", 433300),
    },
    "/ap/2": {"Ssid": ("ay", b"ferry-guests"), "Frequency": ("u", 2462), "Strength": ("y", 40)},
}


def manager(message: Message, active: str = "/ap/1") -> Message:
    """Answer as the manager's own interface description has it."""
    method, body = message.header.fields[HeaderFields.member], message.body
    if method == "GetDeviceByIpIface":
        if body != ("wlan7",):
            return new_error(message, "org.freedesktop.NetworkManager.UnknownDevice", "s", ("no such device",))
        return new_method_return(message, "o", ("/device/3",))
    if method == "Get":
        assert message.header.fields[HeaderFields.path] == "/device/3"
        value = ("o", active) if body[1] == "ActiveAccessPoint" else ("ao", list(POINTS))
        return new_method_return(message, "v", (value,))
    assert method == "GetAll"
    return new_method_return(message, "a{sv}", (POINTS[message.header.fields[HeaderFields.path]],))


@pytest.fixture
def system_bus(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("DBUS_SYSTEM_BUS_ADDRESS", f"unix:path={tmp_path}/bus")
    return tmp_path / "bus"


def test_network_signal_channel_rate_and_neighbours(system_bus: Path) -> None:
    with bus(system_bus, manager):
        found = read_wireless("wlan7")
    # 84 per cent are -58 dBm, 40 are -80
    assert found == WirelessState("wlan7", "quay-7", 5180, -58.0, 433.3, (Neighbour("ferry-guests", 2462, -80.0),))


def test_an_interface_that_is_not_connected_or_not_the_managers_is_left_to_the_kernel(system_bus: Path) -> None:
    with bus(system_bus, lambda message: manager(message, active="/")):
        assert read_wireless("wlan7") is None
        assert read_wireless("eth0") is None


def test_without_a_manager_nothing_is_missing_but_what_it_knows(system_bus: Path) -> None:
    assert not system_bus.exists()
    assert read_wireless("wlan7") is None
    assert LiveNetwork().wireless("wlan7") is None


def test_where_the_kernel_knows_nothing_the_managers_word_counts(system_bus: Path) -> None:
    with bus(system_bus, manager):
        found = LiveNetwork().wireless("wlan7")
    assert found is not None
    assert (found.network, found.dbm) == ("quay-7", -58.0)


@pytest.mark.parametrize(("strength", "dbm"), [(0, -100.0), (100, -50.0), (66, -67.0), (None, None)])
def test_per_cent_become_dbm(strength: int | None, dbm: float | None) -> None:
    assert signal_dbm(strength) == dbm
