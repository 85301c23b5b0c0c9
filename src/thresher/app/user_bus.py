"""The user's session bus: the service manager (org.freedesktop.systemd1) and notifications on the desktop."""

from typing import Any

import platformdirs
from jeepney import DBusAddress, MessageType, new_method_call
from jeepney.io.blocking import DBusConnection, open_dbus_connection

from thresher.model.errors import EnvironmentFault

_WAIT_S = 10.0
_MANAGER = DBusAddress("/org/freedesktop/systemd1", "org.freedesktop.systemd1", "org.freedesktop.systemd1.Manager")
_NOTIFICATIONS = DBusAddress(
    "/org/freedesktop/Notifications", "org.freedesktop.Notifications", "org.freedesktop.Notifications"
)


def _connect(doing: str) -> DBusConnection:
    try:
        return open_dbus_connection("SESSION")
    except (OSError, KeyError, ValueError) as error:
        reason = f"no session bus answers ({error})"
        raise EnvironmentFault(doing, reason, "Do it in a desktop session, or with lingering switched on.") from error


def _call(
    connection: DBusConnection, doing: str, address: DBusAddress, method: str, form: str, body: tuple[Any, ...]
) -> None:
    try:
        reply = connection.send_and_get_reply(new_method_call(address, method, form or None, body), timeout=_WAIT_S)
    except (OSError, TimeoutError) as error:
        raise EnvironmentFault(doing, f"the session bus does not answer ({error})", "Try again.") from error
    if reply.header.message_type is MessageType.error:
        reason = str(reply.body[0]) if reply.body else "refused"
        raise EnvironmentFault(doing, reason, "See the journal of the user's service manager.")


class BusManager:
    """The service manager of this user, over the session bus."""

    def _ask(self, doing: str, method: str, form: str = "", body: tuple[Any, ...] = ()) -> None:
        connection = _connect(doing)
        try:
            _call(connection, doing, _MANAGER, method, form, body)
        finally:
            connection.close()

    def reload(self) -> None:
        """Read the units again."""
        self._ask("reading the units again", "Reload")

    def enable(self, unit: str) -> None:
        """Let a timer start with the manager, and now."""
        self._ask(f"enabling {unit}", "EnableUnitFiles", "asbb", ([unit], False, True))
        self._ask(f"starting {unit}", "RestartUnit", "ss", (unit, "replace"))

    def disable(self, unit: str) -> None:
        """Stop a timer, now and for good."""
        self._ask(f"stopping {unit}", "StopUnit", "ss", (unit, "replace"))
        self._ask(f"disabling {unit}", "DisableUnitFiles", "asb", ([unit], False))


def notify(title: str, text: str) -> None:
    """Show a notification on the desktop (Desktop Notifications Specification 1.2). Raises EnvironmentFault."""
    doing = "showing a notification"
    connection = _connect(doing)
    try:
        body: tuple[Any, ...] = ("Thresher", 0, "", title, text, [], {"urgency": ("y", 2)}, 0)
        _call(connection, doing, _NOTIFICATIONS, "Notify", "susssasa{sv}i", body)
    finally:
        connection.close()


def unit_folder() -> str:
    """Return the folder of this user's own units (systemd.unit(5), user unit search path)."""
    return f"{platformdirs.user_config_dir()}/systemd/user"
