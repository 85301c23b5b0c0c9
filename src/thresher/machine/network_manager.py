"""What a network manager knows of a wireless link, over the system bus (org.freedesktop.NetworkManager).

The kernel reports less to a user without rights: the neighbours come from the manager's own scans.
"""

from typing import Any

from jeepney import DBusAddress, MessageType, new_method_call
from jeepney.io.blocking import DBusConnection, open_dbus_connection

from thresher.model.network_port import Neighbour, WirelessState

_NAME = "org.freedesktop.NetworkManager"
_DEVICE = f"{_NAME}.Device.Wireless"
_POINT = f"{_NAME}.AccessPoint"
_WAIT_S = 3.0
_MOST_NEIGHBOURS = 40
_NONE = "/"


class _Refused(Exception):
    """The manager answered with an error: it does not know the interface, or may not say."""


def read_wireless(interface: str) -> WirelessState | None:
    """Return what the manager knows of an interface, None where none runs or it does not look after the interface."""
    try:
        with open_dbus_connection("SYSTEM") as connection:
            (device,) = _call(connection, "/org/freedesktop/NetworkManager", _NAME, "GetDeviceByIpIface", interface)
            active = _get(connection, device, _DEVICE, "ActiveAccessPoint")
            if active == _NONE:
                return None
            point = _all(connection, active, _POINT)
            paths = _get(connection, device, _DEVICE, "AccessPoints")
            others = [_all(connection, path, _POINT) for path in paths[:_MOST_NEIGHBOURS] if path != active]
    except (OSError, KeyError, ValueError, TimeoutError, TypeError, _Refused):
        return None
    rate = point.get("MaxBitrate")
    neighbours = [(each, signal_dbm(each.get("Strength"))) for each in others]
    return WirelessState(
        interface,
        _text(point.get("Ssid")),
        point.get("Frequency"),
        signal_dbm(point.get("Strength")),
        rate / 1000.0 if isinstance(rate, int) else None,
        tuple(
            Neighbour(_text(each.get("Ssid")), int(each.get("Frequency", 0)), dbm)
            for each, dbm in neighbours
            if dbm is not None
        ),
    )


def signal_dbm(strength: object) -> float | None:
    """Return a signal in dBm from the manager's per cent: 0 is -100 dBm or less, 100 is -50 dBm or more."""
    return strength / 2.0 - 100.0 if isinstance(strength, int) else None


def _text(ssid: object) -> str:
    return bytes(ssid).decode("utf-8", "replace") if isinstance(ssid, bytes | bytearray | list) else ""


def _call(connection: DBusConnection, path: str, interface: str, method: str, *texts: str) -> tuple[Any, ...]:
    address = DBusAddress(path, _NAME, interface)
    message = new_method_call(address, method, "s" * len(texts) or None, texts)
    reply = connection.send_and_get_reply(message, timeout=_WAIT_S)
    if reply.header.message_type is MessageType.error:
        raise _Refused(str(reply.body))
    return tuple(reply.body)


def _get(connection: DBusConnection, path: str, interface: str, name: str) -> Any:
    return _call(connection, path, "org.freedesktop.DBus.Properties", "Get", interface, name)[0][1]


def _all(connection: DBusConnection, path: str, interface: str) -> dict[str, Any]:
    (found,) = _call(connection, path, "org.freedesktop.DBus.Properties", "GetAll", interface)
    return {name: value for name, (_form, value) in found.items()}
