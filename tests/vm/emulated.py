"""A whole PC in an emulator that starts from the stick's image: its keys, its screen, its serial port, its plug."""

import contextlib
import re
import socket
import subprocess
import time
from pathlib import Path

from PIL import Image

FIRMWARE = Path("/usr/share/OVMF")
_UEFI = {
    "uefi": ("OVMF_CODE_4M.fd", "OVMF_VARS_4M.fd"),
    "secure": ("OVMF_CODE_4M.secboot.fd", "OVMF_VARS_4M.ms.fd"),
}
_BEGIN, _END = "BEGIN-7f3a", "END-7f3a"


def _black_corner(path: Path) -> bool:
    with Image.open(path) as image:
        return image.convert("RGB").getpixel((3, 3)) == (0, 0, 0)


class EmulatedPc:
    """One PC. `stick` is written like a stick would be, `customer` like a drive inside the machine."""

    def __init__(
        self, folder: Path, stick: Path, customer: Path, firmware: str = "bios", memory_mb: int = 3072
    ) -> None:
        """`folder` is for sockets; `firmware` is bios, uefi, or secure, which starts only what is signed."""
        self.folder, self.stick, self.customer, self.memory_mb = folder, stick, customer, memory_mb
        self.firmware = firmware
        self.stick_limits = ""
        self.share: Path | None = None
        """A program that speaks for the server at 10.0.2.100, port 445, on its standard input and output."""
        self._process: subprocess.Popen[bytes] | None = None
        self._serial: socket.socket | None = None

    def _server(self) -> str:
        return f",guestfwd=tcp:10.0.2.100:445-cmd:{self.share}" if self.share is not None else ""

    def switch_on(self) -> None:
        """Start it."""
        monitor, serial = self.folder / "monitor", self.folder / "serial"
        for each in (monitor, serial):
            each.unlink(missing_ok=True)
        command = [
            *(
                "qemu-system-x86_64",
                "-machine",
                f"q35,smm={'on' if self.firmware == 'secure' else 'off'}",
                "-cpu",
                "max",
                "-smp",
                "2",
                "-m",
                str(self.memory_mb),
            ),
            *("-display", "none", "-no-reboot", "-vga", "none"),
            *("-device", "VGA,edid=on,xres=1024,yres=768"),
            *("-monitor", f"unix:{monitor},server,nowait"),
            *("-chardev", f"socket,id=ser,path={serial},server=on,wait=off", "-serial", "chardev:ser"),
            *("-device", "qemu-xhci", "-drive", f"if=none,id=stick,file={self.stick},format=raw{self.stick_limits}"),
            *("-device", "usb-storage,drive=stick,bootindex=1,removable=on"),
            *("-drive", f"if=none,id=inside,file={self.customer},format=raw"),
            *("-device", "ahci,id=sata", "-device", "ide-hd,drive=inside,bus=sata.0"),
            *("-netdev", f"user,id=net,restrict=on{self._server()}", "-device", "e1000,netdev=net"),
        ]
        if self.firmware != "bios":
            code, keys = _UEFI[self.firmware]
            settings = self.folder / "uefi-settings"
            settings.write_bytes((FIRMWARE / keys).read_bytes())
            if self.firmware == "secure":
                command += ["-global", "driver=cfi.pflash01,property=secure,value=on"]
            command += ["-drive", f"if=pflash,format=raw,readonly=on,file={FIRMWARE / code}"]
            command += ["-drive", f"if=pflash,format=raw,file={settings}"]
        self._process = subprocess.Popen(command, stdin=subprocess.DEVNULL)
        until = time.monotonic() + 20.0
        while not (monitor.exists() and serial.exists()):
            if time.monotonic() > until:
                raise TimeoutError("the emulator does not start")
            time.sleep(0.2)
        self._serial = socket.socket(socket.AF_UNIX)
        self._serial.connect(str(serial))

    def pull_the_plug(self) -> None:
        """Cut its power: the emulator is killed."""
        if self._serial is not None:
            self._serial.close()
        if self._process is not None:
            self._process.kill()
            self._process.wait()
        self._process = self._serial = None

    def ask_monitor(self, words: str) -> str:
        """Give one command to the emulator's monitor."""
        with socket.socket(socket.AF_UNIX) as monitor:
            monitor.connect(str(self.folder / "monitor"))
            monitor.settimeout(2.0)
            time.sleep(0.3)
            monitor.recv(65536)
            monitor.sendall(f"{words}\n".encode())
            time.sleep(0.6)
            with contextlib.suppress(TimeoutError):
                return monitor.recv(65536).decode("utf-8", "replace")
        return ""

    def press(self, key: str) -> None:
        """Press a key by the emulator's name for it, such as ret or ctrl-ret."""
        self.ask_monitor(f"sendkey {key}")

    def picture(self, path: Path) -> int:
        """Save what is on its screen as PNG and return how many colours it has."""
        raw = self.folder / "screen.ppm"
        raw.unlink(missing_ok=True)
        self.ask_monitor(f"screendump {raw}")
        until = time.monotonic() + 10.0
        while not raw.exists() or raw.stat().st_size < 100:
            if time.monotonic() > until:
                raise TimeoutError("no picture of the screen")
            time.sleep(0.2)
        time.sleep(0.3)
        with Image.open(raw) as image:
            image.save(path)
            return len(image.convert("RGB").getcolors(1 << 22) or ())

    def wait_for_screen(self, colours: int, seconds: float, path: Path) -> float:
        """Wait until something with so many colours fills the screen; return after how many seconds.

        The firmware shows its mark on black: a screen that is black in its corner does not count.
        """
        began = time.monotonic()
        while self.picture(path) < colours or _black_corner(path):
            if time.monotonic() - began > seconds:
                raise TimeoutError(f"nothing on the screen after {seconds:.0f} s; see {path}")
            time.sleep(4.0)
        return time.monotonic() - began

    def run(self, words: str, seconds: float = 60.0) -> str:
        """Run a command in the shell on the serial port and return what it prints. Raises TimeoutError."""
        assert self._serial is not None
        self._serial.settimeout(1.0)
        self._drain()
        # the shell echoes what is typed, broken at its width: the marks are whole only in what it prints
        begin, end = (f"{mark[:3]}''{mark[3:]}" for mark in (_BEGIN, _END))
        self._serial.sendall(f"echo {begin}; {words}; echo {end}\n".encode())
        heard, until = "", time.monotonic() + seconds
        while _END not in heard:
            if time.monotonic() > until:
                raise TimeoutError(f"{words!r} did not end within {seconds:.0f} s: {heard[-300:]}")
            with contextlib.suppress(TimeoutError):
                heard += self._serial.recv(65536).decode("utf-8", "replace")
        plain = re.sub(r"\x1b\[[?0-9;]*[a-zA-Z]", "", heard).replace("\r", "")
        return plain.partition(_BEGIN)[2].rpartition(_END)[0].lstrip("\n")

    def wait_for_shell(self, seconds: float) -> None:
        """Wait until the shell on the serial port answers."""
        until = time.monotonic() + seconds
        while True:
            try:
                if "ready" in self.run("echo rea''dy", 6.0):
                    return
            except TimeoutError:
                if time.monotonic() > until:
                    raise

    def _drain(self) -> None:
        assert self._serial is not None
        self._serial.settimeout(0.1)
        with contextlib.suppress(TimeoutError):
            while self._serial.recv(65536):
                pass
        self._serial.settimeout(1.0)
