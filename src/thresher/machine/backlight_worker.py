"""The process that sets one backlight: takes values from its input, and puts the old one back when the input ends.

Usage: python -m thresher.machine.backlight_worker NAME. It answers each line with "done" or a reason. Where the file
may not be written, the login manager is asked, which lets whoever sits at the machine do it (org.freedesktop.login1).
"""

import os
import signal
import sys
from pathlib import Path

from thresher.model.errors import EnvironmentFault

_FOLDER = "/sys/class/backlight"
_WAIT_S = 3.0


def set_brightness(folder: Path, value: int) -> None:
    """Set a backlight (kernel document ABI/stable/sysfs-class-backlight). Raises OSError or EnvironmentFault."""
    try:
        (folder / "brightness").write_text(f"{value}\n")
    except PermissionError:
        _ask_login_manager(folder.name, value)


def _ask_login_manager(name: str, value: int) -> None:
    from jeepney import DBusAddress, MessageType, new_method_call
    from jeepney.io.blocking import open_dbus_connection

    session = DBusAddress(
        "/org/freedesktop/login1/session/auto", "org.freedesktop.login1", "org.freedesktop.login1.Session"
    )
    doing, hint = f"setting the backlight {name}", "Start Thresher as root, or from the desktop of this machine."
    try:
        with open_dbus_connection("SYSTEM") as connection:
            call = new_method_call(session, "SetBrightness", "ssu", ("backlight", name, value))
            reply = connection.send_and_get_reply(call, timeout=_WAIT_S)
    except (OSError, KeyError, ValueError, TimeoutError) as error:
        raise EnvironmentFault(doing, f"permission denied, and no login manager answers ({error})", hint) from error
    if reply.header.message_type is MessageType.error:
        reason = str(reply.body[0]) if reply.body else "refused"
        raise EnvironmentFault(doing, f"permission denied, and the login manager refuses it: {reason}", hint)


def main(name: str, root: str = _FOLDER) -> int:
    """Set the backlight until the input ends."""
    for each in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(each, signal.SIG_IGN)  # it ends by its input, with the backlight put back
    folder = Path(root, name)
    try:
        before = int((folder / "brightness").read_text())
        set_brightness(folder, before)
    except (OSError, ValueError, EnvironmentFault) as error:
        print(_reason(error), flush=True)
        return 1
    print("done", flush=True)
    try:
        for line in sys.stdin:
            try:
                set_brightness(folder, int(line))
            except (OSError, EnvironmentFault) as error:
                print(_reason(error), flush=True)
            else:
                print("done", flush=True)
    finally:
        set_brightness(folder, before)
    return 0


def _reason(error: Exception) -> str:
    words = os.strerror(error.errno or 0) if isinstance(error, OSError) else str(error)
    return " ".join(words.split())


if __name__ == "__main__":
    sys.exit(main(*sys.argv[1:]))
