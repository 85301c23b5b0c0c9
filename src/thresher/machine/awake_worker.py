"""The process that holds off sleep, idle, lid and screen blanking. Usage: python -m thresher.machine.awake_worker WHY

It asks the login manager (org.freedesktop.login1.Manager.Inhibit), the screen saver (org.freedesktop.ScreenSaver) and
the desktop portal (org.freedesktop.portal.Inhibit), keeps their answers until its input ends, and prints a line of JSON
for each: what, by whom, and why not. What it holds ends with it, however it dies: the login manager watches a pipe, the
others watch the connection.
"""

import json
import signal
import sys
from typing import Any

from jeepney import DBusAddress, MessageType, new_method_call
from jeepney.io.blocking import DBusConnection, open_dbus_connection

_WAIT_S = 5.0
_LOGIN = DBusAddress("/org/freedesktop/login1", "org.freedesktop.login1", "org.freedesktop.login1.Manager")
_SAVER = DBusAddress("/org/freedesktop/ScreenSaver", "org.freedesktop.ScreenSaver", "org.freedesktop.ScreenSaver")
_PORTAL = DBusAddress(
    "/org/freedesktop/portal/desktop", "org.freedesktop.portal.Desktop", "org.freedesktop.portal.Inhibit"
)
_IDLE_AND_SUSPEND = 4 | 8


def main(why: str) -> int:
    """Hold everything off until the input ends."""
    for each in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(each, signal.SIG_IGN)  # it ends by its input
    held: list[Any] = []
    for what in ("sleep:idle", "handle-lid-switch"):
        body = (what, "Thresher", why, "block")
        _ask(held, "SYSTEM", what.replace(":", " and "), "the login manager", _LOGIN, "Inhibit", "ssss", body)
    _ask(held, "SESSION", "screen blanking", "the screen saver", _SAVER, "Inhibit", "ss", ("Thresher", why))
    options = ("", _IDLE_AND_SUSPEND, {"reason": ("s", why)})
    _ask(held, "SESSION", "idle and sleep", "the desktop portal", _PORTAL, "Inhibit", "sua{sv}", options)
    sys.stdin.read()
    return 0


def _ask(
    held: list[Any], bus: str, what: str, by: str, address: DBusAddress, method: str, form: str, body: tuple[Any, ...]
) -> None:
    why_not = ""
    try:
        connection: DBusConnection = open_dbus_connection(bus, enable_fds=bus == "SYSTEM")
        reply = connection.send_and_get_reply(new_method_call(address, method, form, body), timeout=_WAIT_S)
        if reply.header.message_type is MessageType.error:
            why_not = str(reply.body[0]) if reply.body else "refused"
        held += [connection, reply]  # the descriptor of the login manager is in the reply
    except (OSError, KeyError, ValueError, TimeoutError) as error:
        why_not = f"no bus answers ({error})"
    print(json.dumps([what, by, why_not]), flush=True)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1]))
