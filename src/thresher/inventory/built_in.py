"""What a machine has beside its parts that can be tested: touch screen, cameras, card readers, optical drives, light.

Sources: kernel documents ABI/testing/sysfs-class-backlight, ABI/stable/sysfs-block, input/event-codes, and the layout
of `/proc/bus/input/devices`.
"""

import re
from collections.abc import Iterator

from thresher.model.parts import BuiltIn, BuiltInKind
from thresher.model.port import System, optional_number, optional_text

_INPUT = "/proc/bus/input/devices"
_DIRECT = 1
"""`INPUT_PROP_DIRECT`: what is touched is what is shown there (kernel document input/event-codes)."""
_TOUCH_AXES = (0x00, 0x35)
"""`ABS_X` and `ABS_MT_POSITION_X`."""
_KEY_TOUCH = 0x14A
"""`BTN_TOUCH`."""
_KEY_PEN = 0x140
"""`BTN_TOOL_PEN`."""


def read_built_in(system: System) -> tuple[BuiltIn, ...]:
    """Return all of it, by kind."""
    return (
        *_touch_screens(system),
        *_cameras(system),
        *_card_readers(system),
        *_optical_drives(system),
        *(BuiltIn(BuiltInKind.BACKLIGHT, name, f"{_BACKLIGHT}/{name}") for name in system.list(_BACKLIGHT)),
        *_bluetooth(system),
        *(BuiltIn(BuiltInKind.CONTROLLER, name, f"{_IPMI}/{name}") for name in system.list(_IPMI)),
    )


_IPMI = "/sys/class/ipmi"
_BACKLIGHT, _VIDEO, _HOSTS, _BLOCK, _BLUETOOTH = (
    "/sys/class/backlight",
    "/sys/class/video4linux",
    "/sys/class/mmc_host",
    "/sys/block",
    "/sys/class/bluetooth",
)


def bits_of(words: str, word_bits: int = 64) -> frozenset[int]:
    """Return the bits that are set in a list of hexadecimal words, the highest word first."""
    found = set()
    for place, word in enumerate(reversed(words.split())):
        value = int(word, 16)
        found |= {place * word_bits + bit for bit in range(word_bits) if value >> bit & 1}
    return frozenset(found)


def _touch_screens(system: System) -> Iterator[BuiltIn]:
    for block in optional_text(system, _INPUT).split("\n\n"):
        name = re.search(r'^N: Name="(.*)"', block, re.MULTILINE)
        maps = {key: bits_of(words) for key, words in re.findall(r"^B: (\w+)=([0-9a-f ]+)$", block, re.MULTILINE)}
        keys = maps.get("KEY", frozenset())
        touched = any(axis in maps.get("ABS", frozenset()) for axis in _TOUCH_AXES) and _KEY_TOUCH in keys
        if name and touched and _DIRECT in maps.get("PROP", frozenset()) and _KEY_PEN not in keys:
            yield BuiltIn(BuiltInKind.TOUCH, name[1], _INPUT)


def _cameras(system: System) -> Iterator[BuiltIn]:
    for node in system.list(_VIDEO):
        # a camera has more nodes than one; the first carries the picture
        if optional_text(system, f"{_VIDEO}/{node}/index") in ("", "0") and node.startswith("video"):
            yield BuiltIn(
                BuiltInKind.CAMERA, optional_text(system, f"{_VIDEO}/{node}/name") or node, f"{_VIDEO}/{node}"
            )


def _card_readers(system: System) -> Iterator[BuiltIn]:
    for host in system.list(_HOSTS):
        cards = [each for each in system.list(f"{_HOSTS}/{host}") if each.startswith(f"{host}:")]
        kinds = {optional_text(system, f"{_HOSTS}/{host}/{card}/type") for card in cards}
        if not kinds & {"MMC", "SDIO"}:  # soldered flash, or a wireless card
            yield BuiltIn(BuiltInKind.CARD_READER, host, f"{_HOSTS}/{host}")
    for disk in system.list(_BLOCK):
        here = f"{_BLOCK}/{disk}"
        if re.fullmatch(r"sd[a-z]+", disk) and optional_text(system, f"{here}/removable") == "1":
            empty = not optional_number(system, f"{here}/size")
            model = optional_text(system, f"{here}/device/model")
            if empty or re.search(r"\b(SD|MMC|CF|card|reader)\b", model, re.IGNORECASE):
                yield BuiltIn(BuiltInKind.CARD_READER, model or disk, here)


def _optical_drives(system: System) -> Iterator[BuiltIn]:
    for disk in system.list(_BLOCK):
        if re.fullmatch(r"sr\d+", disk):
            model = optional_text(system, f"{_BLOCK}/{disk}/device/model")
            yield BuiltIn(BuiltInKind.OPTICAL, model or disk, f"{_BLOCK}/{disk}")


def _bluetooth(system: System) -> Iterator[BuiltIn]:
    for name in system.list(_BLUETOOTH):
        if name.startswith("hci") and ":" not in name:
            yield BuiltIn(BuiltInKind.BLUETOOTH, name, f"{_BLUETOOTH}/{name}")
