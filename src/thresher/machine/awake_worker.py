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

from jeepney import DBusAddress, Message, MessageType, new_method_call
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
    login, session = _Bus("SYSTEM"), _Bus("SESSION")
    for what in ("sleep:idle", "handle-lid-switch"):
        body = (what, "Thresher", why, "block")
        login.ask(what.replace(":", " and "), "the login manager", _LOGIN, "ssss", body)
    session.ask("screen blanking", "the screen saver", _SAVER, "ss", ("Thresher", why))
    options = ("", _IDLE_AND_SUSPEND, {"reason": ("s", why)})
    session.ask("idle and sleep", "the desktop portal", _PORTAL, "sua{sv}", options)
    sys.stdin.read()
    return 0


class _Bus:
    """One connection, which stays open as long as what was asked for is to be held."""

    def __init__(self, name: str) -> None:
        self._connection: DBusConnection | None = None
        self._trouble = ""
        self._held: list[Message] = []
        try:
            self._connection = open_dbus_connection(name, enable_fds=name == "SYSTEM")
        except (OSError, KeyError, ValueError) as error:
            self._trouble = f"no bus answers ({error})"

    def ask(self, what: str, by: str, address: DBusAddress, form: str, body: tuple[Any, ...]) -> None:
        """Ask to hold something off, and print what came of it."""
        why_not = self._trouble
        if self._connection is not None:
            try:
                call = new_method_call(address, "Inhibit", form, body)
                reply = self._connection.send_and_get_reply(call, timeout=_WAIT_S)
                if reply.header.message_type is MessageType.error:
                    why_not = str(reply.body[0]) if reply.body else "refused"
                self._held.append(reply)  # the descriptor of the login manager is in the reply
            except (OSError, TimeoutError) as error:
                why_not = f"no answer ({error})"
        print(json.dumps([what, by, why_not]), flush=True)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1]))
