"""What a simulated machine has beside its parts: displays, a backlight, sound, a disc drive, ports and a card reader.

Files by the kernel documents ABI/stable/sysfs-block, ABI/stable/sysfs-class-backlight, ABI/testing/sysfs-bus-usb and
the layout of `/proc/bus/input/devices`; EDID by VESA E-EDID 1.4; the disc by MMC-6 and ECMA-119.
"""

import struct
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from thresher.model.drive_commands import DISC_BLOCK, OpticalCommand, Refused, disc_read
from thresher.model.errors import SourceUnavailable
from thresher.model.network_port import BluetoothState
from thresher.model.parts import BuiltInKind
from thresher.simulator.fault_kinds import Fault, FaultKind
from thresher.simulator.files import FileTable
from thresher.simulator.scenario import DisplaySpec, Scenario

Samples = NDArray[np.float32]

_BACKLIGHT = "panel0"
_BRIGHTEST = 400
_DISC_BLOCKS = 333_000
_DISC_PROFILE = 0x10
"""DVD-ROM (MMC-6, table 91)."""
_NOISE = 10 ** (-72 / 20)
_VOICE = 10 ** (-24 / 20)
_SPOKEN_S, _QUIET_S = 3.5, 1.5
_STICK_MBIT = 5000
_CARD_SECTORS = 62_333_952


@dataclass(slots=True)
class Fittings:
    """All of it, as it is by now. `stick_in` is the number of the USB port with the stick in it, from 1."""

    scenario: Scenario
    table: FileTable
    rng: np.random.Generator
    brightness: int = 240
    stick_in: int = 0
    card_in: bool = False
    disc_in: bool = False
    _fault: dict[FaultKind, Fault] = field(init=False)

    def __post_init__(self) -> None:
        """Take over the faults of the scenario, and add the files."""
        self._fault = {fault.kind: fault for fault in self.scenario.faults}
        spec = self.scenario.fittings
        for index, display in enumerate(self.scenario.displays):
            self._add_display(index, display)
        if spec.sound_outputs or spec.sound_inputs:
            self.table.add("/proc/asound/cards", " 0 [PCH            ]: HDA-Intel - Reed 2 sound\n")
        adders = {
            BuiltInKind.BACKLIGHT: self._add_backlight,
            BuiltInKind.TOUCH: self._add_touch,
            BuiltInKind.CAMERA: self._add_camera,
            BuiltInKind.CARD_READER: self._add_reader,
            BuiltInKind.OPTICAL: self._add_optical,
            BuiltInKind.BLUETOOTH: self._add_bluetooth,
            BuiltInKind.CONTROLLER: self._add_controller,
        }
        for kind in spec.built_in:
            adders[kind]()

    def has(self, kind: FaultKind) -> bool:
        """Whether the machine has a fault of a kind."""
        return kind in self._fault

    def strength(self, kind: FaultKind) -> float:
        """Return the strength of a fault, 0 when the machine does not have it."""
        fault = self._fault.get(kind)
        return fault.strength if fault is not None else 0.0

    # ---- files

    def _add_display(self, index: int, display: DisplaySpec) -> None:
        folder = f"/sys/class/drm/card0-{display.connector}"
        data = _edid(display, index)
        self.table.add(f"{folder}/status", "connected")
        self.table.add(f"{folder}/enabled", "enabled")
        self.table.add(f"{folder}/modes", f"{display.width}x{display.height}")
        self.table.add(f"{folder}/edid", lambda: data)

    def _add_backlight(self) -> None:
        folder = f"/sys/class/backlight/{_BACKLIGHT}"
        self.table.add(f"{folder}/type", "raw")
        self.table.add(f"{folder}/max_brightness", str(_BRIGHTEST))
        self.table.add(f"{folder}/brightness", lambda: f"{self.brightness}\n")
        self.table.add(f"{folder}/actual_brightness", lambda: f"{self.brightness}\n")

    def _add_touch(self) -> None:
        self.table.add(
            "/proc/bus/input/devices",
            'I: Bus=0018 Vendor=1f4e Product=0031 Version=0100\nN: Name="Skerry touch panel"\nP: Phys=i2c-skerry:00\n'
            "S: Sysfs=/devices/pci0000:00/0000:00:15.0/i2c-skerry:00/input/input9\nU: Uniq=\n"
            "H: Handlers=event9 mouse0\n"
            "B: PROP=2\nB: EV=1b\nB: KEY=400 0 0 0 0 0\nB: ABS=260800000000003\nB: MSC=20\n",
        )

    def _add_camera(self) -> None:
        self.table.add("/sys/class/video4linux/video0/name", "Lookout 720: Lookout 720")
        self.table.add("/sys/class/video4linux/video0/index", "0")

    def _add_reader(self) -> None:
        self.table.add("/sys/class/mmc_host/mmc0/uevent", "")

    def _add_optical(self) -> None:
        self.table.add("/sys/block/sr0/removable", "1")
        self.table.add("/sys/block/sr0/size", "0")
        self.table.add("/sys/block/sr0/device/model", "Halyard DVD-RW 8")

    def _add_bluetooth(self) -> None:
        self.table.add("/sys/class/bluetooth/hci0/uevent", "DEVTYPE=host")
        self.table.add("/sys/class/rfkill/rfkill1/type", "bluetooth")
        self.table.add("/sys/class/rfkill/rfkill1/soft", "0")
        self.table.add("/sys/class/rfkill/rfkill1/hard", "0")

    def _add_controller(self) -> None:
        self.table.add("/sys/class/ipmi/ipmi0/uevent", "MAJOR=240")

    # ---- what a person moves

    def move_stick(self) -> bool:
        """Move the stick to the next USB port; return whether there is one more."""
        if self.stick_in:
            self.table.remove_below(f"/sys/bus/usb/devices/2-{self.stick_in}")
            self.table.remove_below(f"/sys/bus/usb/devices/2-{self.stick_in}:1.0")
        if self.stick_in >= self.scenario.fittings.usb_ports:
            self.stick_in = 0
            return False
        self.stick_in += 1
        if self.strength(FaultKind.DEAD_PORT) != self.stick_in:
            folder = f"/sys/bus/usb/devices/2-{self.stick_in}"
            self.table.add(f"{folder}/bDeviceClass", "00")
            self.table.add(f"{folder}/speed", str(_STICK_MBIT))
            self.table.add(f"{folder}/version", " 3.20")
            self.table.add(f"{folder}:1.0/bInterfaceClass", "08")
        return True

    def put_card(self, in_: bool) -> None:
        """Put a card into the reader, or take it out."""
        self.card_in = in_
        folder = "/sys/block/mmcblk0"
        self.table.remove_below(folder)
        if in_ and not self.has(FaultKind.DEAD_READER):
            self.table.add(f"{folder}/size", str(_CARD_SECTORS))
            self.table.add(f"{folder}/removable", "0")
            self.table.add(f"{folder}/device/name", "SK32G")
            self.table.add("/dev/mmcblk0", lambda: bytes(8 << 20))

    # ---- ports

    def open_backlight(self, name: str) -> "SimulatedBacklight":
        """Take control of the backlight. Raises SourceUnavailable."""
        if name != _BACKLIGHT or BuiltInKind.BACKLIGHT not in self.scenario.fittings.built_in:
            raise SourceUnavailable(f"/sys/class/backlight/{name}", "not there")
        return SimulatedBacklight(self)

    def bluetooth(self) -> BluetoothState | None:
        """Return the state of the Bluetooth adapter."""
        if BuiltInKind.BLUETOOTH not in self.scenario.fittings.built_in:
            return None
        dead = self.has(FaultKind.BLUETOOTH_DEAD)
        return BluetoothState("00:00:00:00:00:00" if dead else "02:00:5E:00:07:20", not dead, 0)

    def optical(self, command: OpticalCommand) -> bytes:
        """Answer a command to the optical drive. Raises Refused."""
        if not self.disc_in:
            raise Refused("/dev/sr0", command.name.lower(), 0x2, 0x3A, 0x00)
        if command is OpticalCommand.CAPACITY:
            return struct.pack(">II", _DISC_BLOCKS - 1, DISC_BLOCK)
        if command is OpticalCommand.CONFIGURATION:
            return struct.pack(">IHH", 4, 0, _DISC_PROFILE)
        if command is OpticalCommand.CONTENTS:
            first = bytes((0, 0x14, 1, 0)) + struct.pack(">I", 0)
            return struct.pack(">HBB", 18, 1, 1) + first + bytes((0, 0x14, 0xAA, 0)) + struct.pack(">I", _DISC_BLOCKS)
        return b""

    def read_disc(self, block: int, count: int) -> bytes:
        """Return blocks of the disc: a tired laser loses the outer half. Raises Refused."""
        disc_read(block, count)
        if not self.disc_in:
            raise Refused("/dev/sr0", "reading", 0x2, 0x3A, 0x00)
        if block + count > _DISC_BLOCKS:
            raise Refused("/dev/sr0", f"reading block {block}", 0x5, 0x21, 0x00)
        if block >= _DISC_BLOCKS * (1.0 - self.strength(FaultKind.TIRED_LASER)):
            raise Refused("/dev/sr0", f"reading block {block}", 0x3, 0x11, 0x05)
        data = bytearray(count * DISC_BLOCK)
        if block <= 16 < block + count:
            at = (16 - block) * DISC_BLOCK
            data[at : at + 7] = b"\x01CD001\x01"
            data[at + 40 : at + 72] = b"TIDE_TABLES_2026".ljust(32)
        return bytes(data)

    def sound_devices(self, inputs: bool) -> tuple[str, ...]:
        """Return the names of the sound inputs or outputs."""
        spec = self.scenario.fittings
        return spec.sound_inputs if inputs else spec.sound_outputs

    def record(self, played: Samples | None, rate: int) -> Samples:
        """Return what the first input hears: what the first output plays, or somebody who speaks."""
        deaf = self.has(FaultKind.DEAF_MICROPHONE)
        if played is None:
            spoken, quiet = round(_SPOKEN_S * rate), round(_QUIET_S * rate)
            time = np.arange(spoken) / rate
            wave = np.sin(2 * np.pi * 180.0 * time) * (0.5 + 0.5 * np.sin(2 * np.pi * 2.0 * time))
            heard = np.concatenate([_VOICE * wave, np.zeros(quiet)])
            sides = np.stack([heard, heard], axis=1)
        else:
            late = np.zeros((round(0.06 * rate), 2))
            sides = np.concatenate([late, 0.6 * played.astype(np.float64), late])
            lost = int(self.strength(FaultKind.DEAD_SPEAKER))
            if lost in (1, 2):
                sides[:, lost - 1] = 0.0
            if self.has(FaultKind.SPEAKER_RATTLES):
                sides = np.clip(sides, -0.03, 0.03)
            sides = np.repeat(sides.sum(axis=1, keepdims=True), 2, axis=1)  # a microphone hears both sides together
        if deaf:
            sides = np.zeros_like(sides)
        return np.asarray(sides + _NOISE * self.rng.standard_normal(sides.shape), dtype=np.float32)


@dataclass(slots=True)
class SimulatedBacklight:
    """The backlight under control."""

    fittings: Fittings
    _before: int = field(init=False)

    def __post_init__(self) -> None:
        """Remember how it was."""
        self._before = self.fittings.brightness

    def drive(self, value: int) -> None:
        """Set it."""
        self.fittings.brightness = value

    def close(self) -> None:
        """Put back how it was."""
        self.fittings.brightness = self._before

    def let_go(self) -> None:
        """Put back how it was."""
        self.close()


def _edid(display: DisplaySpec, number: int) -> bytes:
    """Return the base block of a display's EDID: header, maker, sizes, one detailed timing, its name, the checksum."""
    letters = [ord(letter) - ord("A") + 1 for letter in "SKY"]
    maker = letters[0] << 10 | letters[1] << 5 | letters[2]
    head = bytes.fromhex("00ffffffffffff00") + struct.pack(">H", maker) + struct.pack("<HI", 0x4100 + number, 0)
    head += bytes((12, 34, 1, 4, 0xA5, display.wide_cm, display.high_cm, 0x78, 0x02)) + bytes(10) + bytes(3)
    head += b"\x01\x01" * 8
    blank_x, blank_y = 160, 45
    clock = round((display.width + blank_x) * (display.height + blank_y) * 60 / 10_000)
    timing = struct.pack("<H", clock)
    for active, blank in ((display.width, blank_x), (display.height, blank_y)):
        timing += bytes((active & 0xFF, blank & 0xFF, active >> 8 << 4 | blank >> 8))
    timing += bytes((48, 32, 0x35, 0)) + bytes((0, 0, 0, 0, 0, 0x1A))
    name = b"\0\0\0\xfc\0" + (display.name.encode("ascii", "replace")[:13].ljust(13, b"\n"))
    unused = b"\0\0\0\x10\0" + bytes(13)
    block = head + timing + name + unused + unused + b"\0"
    return block + bytes((-sum(block) % 256,))
