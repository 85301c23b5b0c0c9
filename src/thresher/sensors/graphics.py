"""Channels of graphics cards beside their hwmon chips: use, memory in use, clocks.

amdgpu: kernel document gpu/amdgpu/thermal and driver-misc. i915: `gt_act_freq_mhz` and `gt/gtN/rps_act_freq_mhz`;
xe: `tileN/gtN/freqN/act_freq`, all in MHz. A driver that offers none of these shows what its hwmon chip has.
"""

import re
from collections.abc import Iterator

from thresher.model.channels import Channel, Quantity
from thresher.model.parts import Fact, PartKind
from thresher.model.port import System
from thresher.sensors.probes import Probe, scaled, try_probe

_DRM = "/sys/class/drm"
_DEVICE_FILES = (
    ("gpu_busy_percent", "use", Quantity.USE, 1.0),
    ("mem_busy_percent", "memory use", Quantity.USE, 1.0),
    ("mem_info_vram_used", "memory in use", Quantity.MEMORY, float(1 << 30)),
)


def find(system: System, unknown: list[Fact]) -> Iterator[Probe]:
    """Yield what the drivers report of each card."""
    for card in system.list(_DRM):
        if not re.fullmatch(r"card\d+", card):
            continue
        folder = f"{_DRM}/{card}"
        device = system.list(f"{folder}/device")
        for file, word, quantity, divisor in _DEVICE_FILES:
            if file in device:
                channel = Channel(
                    f"drm/{card}/{file}", f"{card} {word}", quantity, PartKind.GRAPHICS, f"{folder}/device/{file}"
                )
                yield from try_probe(system, channel, scaled(divisor), unknown)
        yield from _reasons(system, folder, card, unknown)
        for number, path in enumerate(_clock_files(system, folder)):
            name = f"{card} clock" if not number else f"{card} clock {number + 1}"
            channel = Channel(f"drm/{card}/clock{number}", name, Quantity.FREQUENCY, PartKind.GRAPHICS, path)
            yield from try_probe(system, channel, scaled(1.0), unknown)


def _reasons(system: System, folder: str, card: str, unknown: list[Fact]) -> Iterator[Probe]:
    """Yield what an i915 engine says holds its clock down (`gt/gtN/throttle_reason_*`, each 0 or 1)."""
    for gt in system.list(f"{folder}/gt"):
        for file in system.list(f"{folder}/gt/{gt}"):
            word = file.removeprefix("throttle_reason_")
            if word != file and word != "status":
                channel = Channel(
                    f"drm/{card}/{gt}/{word}",
                    f"{card} {gt} held by {word}",
                    Quantity.FLAG,
                    PartKind.GRAPHICS,
                    f"{folder}/gt/{gt}/{file}",
                )
                yield from try_probe(system, channel, scaled(1.0), unknown)


def _clock_files(system: System, folder: str) -> list[str]:
    """Return the files that report what a card's engines really run at: one a tile and engine, else one for all."""
    found = [
        f"{folder}/gt/{gt}/rps_act_freq_mhz"
        for gt in system.list(f"{folder}/gt")
        if "rps_act_freq_mhz" in system.list(f"{folder}/gt/{gt}")
    ]
    for tile in system.list(f"{folder}/device"):
        for gt in system.list(f"{folder}/device/{tile}") if re.fullmatch(r"tile\d+", tile) else []:
            path = f"{folder}/device/{tile}/{gt}/freq0"
            if re.fullmatch(r"gt\d+", gt) and "act_freq" in system.list(path):
                found.append(f"{path}/act_freq")
    if not found and "gt_act_freq_mhz" in system.list(folder):
        found.append(f"{folder}/gt_act_freq_mhz")
    return found
