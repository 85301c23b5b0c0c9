"""Channels of the kernel's hardware monitoring chips (kernel document hwmon/sysfs-interface).

Readings are `temp`, `in`, `curr`, `power`, `energy`, `humidity`, `fan`, `pwm` and, by graphics drivers, `freq`. Of the
limits those count that say where the part stops being healthy: `crit`, `emergency`, `lcrit`, `cap`, for fans `min`, for
drives `max` too, and `min` and `max` of voltages where somebody has set them for the board.
"""

import re
from collections.abc import Iterator
from dataclasses import dataclass

from thresher.model.channels import Channel, Limit, LimitSide, Quantity
from thresher.model.parts import Fact, Inventory, PartKind
from thresher.model.port import System, is_virtual, optional_number, optional_text
from thresher.sensors.limits import rail_limits
from thresher.sensors.probes import Parse, Probe, energy_to_power, scaled, try_probe
from thresher.sensors.zones import kind_of_zone

FOLDER = "/sys/class/hwmon"

_CHIP_KINDS: dict[PartKind, frozenset[str]] = {
    PartKind.PROCESSOR: frozenset({"coretemp", "k10temp", "k8temp", "fam15h_power", "zenpower"}),
    PartKind.GRAPHICS: frozenset({"amdgpu", "radeon", "nouveau", "i915", "xe"}),
    PartKind.DRIVE: frozenset({"nvme", "drivetemp"}),
    PartKind.MEMORY: frozenset({"jc42", "spd5118"}),
    PartKind.NETWORK: frozenset({"iwlwifi_1", "ath10k_hwmon", "mt7921_phy0", "r8169"}),
}
_SUPPLY = re.compile(r"psu|pmbus", re.IGNORECASE)
_COOLER = re.compile(r"coolant|liquid|pump|water", re.IGNORECASE)

ATTRIBUTES: dict[str, tuple[Quantity, float]] = {
    "temp": (Quantity.TEMPERATURE, 1000.0),
    "in": (Quantity.VOLTAGE, 1000.0),
    "curr": (Quantity.CURRENT, 1000.0),
    "power": (Quantity.POWER, 1e6),
    "energy": (Quantity.POWER, 1e6),
    "humidity": (Quantity.HUMIDITY, 1000.0),
    "fan": (Quantity.FAN, 1.0),
    "pwm": (Quantity.DUTY, 2.55),
    "freq": (Quantity.FREQUENCY, 1e6),
}
_READING = re.compile(r"(temp|in|curr|power|energy|humidity|fan|freq)(\d+)_(input|average)|(pwm)(\d+)")
_LIMITS: dict[str, tuple[tuple[str, LimitSide], ...]] = {
    "temp": (("crit", LimitSide.BELOW), ("emergency", LimitSide.BELOW), ("lcrit", LimitSide.ABOVE)),
    "in": (("crit", LimitSide.BELOW), ("lcrit", LimitSide.ABOVE)),
    "curr": (("crit", LimitSide.BELOW), ("lcrit", LimitSide.ABOVE)),
    "power": (("crit", LimitSide.BELOW), ("cap", LimitSide.BELOW)),
    "fan": (("min", LimitSide.ABOVE),),
}
_NO_LIMIT_BEYOND_C = 200.0
"""Converters that hold no limit answer with the end of their range, 255 °C or more."""


def find(system: System, inventory: Inventory, unknown: list[Fact]) -> Iterator[Probe]:
    """Yield the probes of every chip."""
    chips = system.list(FOLDER)
    if not chips:
        unknown.append(Fact("temperatures, voltages, fans", _no_sensors_reason(system), FOLDER))
    for chip in chips:
        yield from _chip(system, inventory, f"{FOLDER}/{chip}", chip, unknown)


def _chip(system: System, inventory: Inventory, folder: str, number: str, unknown: list[Fact]) -> Iterator[Probe]:
    name = optional_text(system, f"{folder}/name") or number
    device = system.resolve(f"{folder}/device").rpartition("/")[2]
    files = system.list(folder)
    labels = [optional_text(system, f"{folder}/{file}") for file in files if file.endswith("_label")]
    own = _kind_of(name, labels)
    chip = _Chip(folder, name, device, own, _place_of(system, folder, own))
    for file in sorted(files, key=_natural):
        match = _READING.fullmatch(file)
        if match is None or (file.startswith("power") and file.endswith("input") and f"{file[:-5]}average" in files):
            continue
        kind = match[1] or match[4]
        stem = f"{kind}{match[2] or match[5]}"
        # graphics drivers use the fan's switch for who drives it, not for whether it is measured (gpu/amdgpu/thermal)
        switched = kind not in ("pwm", "fan") or own is not PartKind.GRAPHICS
        if switched and kind != "pwm" and optional_number(system, f"{folder}/{stem}_enable") == 0:
            unknown.append(Fact(f"{name} {stem}", "switched off in the chip", f"{folder}/{stem}_enable"))
            continue
        channel = _channel(system, inventory, chip, kind, stem, file)
        parse: Parse = energy_to_power(None) if kind == "energy" else scaled(ATTRIBUTES[kind][1])
        yield from try_probe(system, channel, parse, unknown, f"{folder}/{file}")


def _kind_of(name: str, labels: list[str]) -> PartKind:
    found = next((kind for kind, chips in _CHIP_KINDS.items() if name in chips), None)
    if found is not None:
        return found
    if name.endswith("_thermal"):  # a thermal zone as a chip
        return kind_of_zone(name)
    if _SUPPLY.search(name):
        return PartKind.POWER
    return PartKind.COOLING if any(_COOLER.search(label) for label in labels) else PartKind.BOARD


def _no_sensors_reason(system: System) -> str:
    if is_virtual(system):
        return "this virtual machine has no temperature, voltage or fan sensors; loads and the kernel log still work"
    return "no sensor driver is loaded; the board's or processor's hwmon module would change that"


def _natural(name: str) -> list[str | int]:
    return [int(piece) if piece.isdigit() else piece for piece in re.split(r"(\d+)", name)]


@dataclass(frozen=True, slots=True)
class _Chip:
    """A monitoring chip: its folder, name, device, the kind of part it is in, and which of several (`place`)."""

    folder: str
    name: str
    device: str
    kind: PartKind
    place: str


def _place_of(system: System, folder: str, kind: PartKind) -> str:
    """Return the block device or card that a chip measures, empty for others."""
    if kind is PartKind.DRIVE:
        inside = system.list(f"{folder}/device")
        named = [name for name in inside if re.fullmatch(r"nvme\d+(c\d+)?n\d+", name)]
        blocks = system.list(f"{folder}/device/block")
        found = [re.sub(r"c\d+(?=n)", "", name) for name in named] or blocks
        return found[0] if found else ""
    if kind is PartKind.GRAPHICS:
        cards = [name for name in system.list(f"{folder}/device/drm") if re.fullmatch(r"card\d+", name)]
        return cards[0] if cards else system.resolve(f"{folder}/device").rpartition("/")[2]
    return ""


_CARD_WORDS = {
    "junction": "hottest spot",
    "mem": "memory",
    "sclk": "core clock",
    "mclk": "memory clock",
    "vddgfx": "core voltage",
    "PPT": "power",
}
"""Labels of amdgpu (kernel document gpu/amdgpu/thermal) in the words of the trade; others stay as they are."""


def _named(chip: _Chip, stem: str, label: str) -> str:
    """Return a channel's name; that of a drive or a card begins with it."""
    if chip.kind is PartKind.GRAPHICS and re.fullmatch(r"card\d+", chip.place):
        return f"{chip.place} {_CARD_WORDS.get(label, label or stem)}"
    if chip.kind is not PartKind.DRIVE or not chip.place:
        return label or f"{chip.name} {stem}"
    return f"drive {chip.place}" if label in ("", "Composite") else f"drive {chip.place} {label}"


def _channel(system: System, inventory: Inventory, chip: _Chip, word: str, stem: str, file: str) -> Channel:
    folder, device, own = chip.folder, chip.device, chip.kind
    quantity, divisor = ATTRIBUTES[word]
    label = optional_text(system, f"{folder}/{stem}_label")
    core = _core_of(inventory, device, label) if own is PartKind.PROCESSOR else None
    limits = list(_limits(system, folder, word, stem, divisor, own))
    rail = rail_limits(label) if quantity is Quantity.VOLTAGE else ()
    kind = PartKind.POWER if rail else own
    limits += rail
    if quantity in (Quantity.FAN, Quantity.DUTY) and kind in (PartKind.BOARD, PartKind.PROCESSOR):
        kind = PartKind.COOLING
    return Channel(
        key=f"{chip.name}/{device}/{stem}",
        name=_named(chip, stem, label),
        quantity=quantity,
        kind=kind,
        source=f"{folder}/{file}" + _offset(system, folder, word, stem, divisor),
        limits=tuple(limits),
        core=core,
        place=chip.place,
    )


def _offset(system: System, folder: str, word: str, stem: str, divisor: float) -> str:
    """Say what the chip adds to a temperature by itself, empty for nothing."""
    added = optional_number(system, f"{folder}/{stem}_offset") if word == "temp" else None
    return f" (the chip adds {added / divisor:+g} K, {stem}_offset)" if added else ""


def _core_of(inventory: Inventory, device: str, label: str) -> int | None:
    """Return the core that a label names; with several packages the device reports which (hwmon/coretemp)."""
    named = re.fullmatch(r"Core (\d+)", label)
    if not named:
        return None
    packages = {cpu.package for cpu in inventory.cpus}
    if len(packages) <= 1:
        return int(named[1])
    package = re.fullmatch(r"coretemp\.(\d+)", device)
    return inventory.core_at(int(package[1]), int(named[1])) if package else None


_WIDEST_RAIL = 1.6
"""Limits further apart than this, highest by lowest, are a chip's defaults and not a rail's tolerance."""


def voltage_limits_set(system: System, stem: str) -> bool:
    """Whether somebody has set a voltage's `min` and `max` for the board: both, in order, and near each other."""
    low, high = optional_number(system, f"{stem}_min"), optional_number(system, f"{stem}_max")
    return low is not None and high is not None and 0 < low < high <= low * _WIDEST_RAIL


def _limits(system: System, folder: str, word: str, stem: str, divisor: float, own: PartKind) -> Iterator[Limit]:
    sides = list(_LIMITS.get(word, ()))
    if word == "temp" and own is PartKind.DRIVE:
        sides.insert(0, ("max", LimitSide.BELOW))  # the warning temperature of a drive, below its critical one
    elif word == "temp" and optional_number(system, f"{folder}/{stem}_crit") is None:
        sides.append(("max", LimitSide.BELOW))
    if word == "in" and voltage_limits_set(system, f"{folder}/{stem}"):
        sides += [("max", LimitSide.BELOW), ("min", LimitSide.ABOVE)]
    for suffix, side in sides:
        value = optional_number(system, f"{folder}/{stem}_{suffix}")
        # drivers write 0 where the chip holds no limit
        if value and not (word == "temp" and value / divisor >= _NO_LIMIT_BEYOND_C):
            yield Limit(value / divisor, side, f"read from the chip ({stem}_{suffix})")
