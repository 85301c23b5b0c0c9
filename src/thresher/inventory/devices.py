"""Graphics, drives, batteries, network, sound and displays, as sysfs shows them.

Kernel documents: ABI/testing/sysfs-bus-pci (link width and speed), ABI/stable/sysfs-block,
ABI/testing/sysfs-class-power, ABI/testing/sysfs-class-net, gpu/drm-uapi (connectors).
"""

import re

from thresher.inventory.edid import parse_edid
from thresher.inventory.names import Lookup, database_name, modalias_of
from thresher.model.errors import InputError, SourceUnavailable
from thresher.model.parts import PCI_ADDRESS, Doubt, Fact, Part, PartKind
from thresher.model.port import System, optional_number, optional_text

_PCI = "/sys/bus/pci/devices"
_DRM = "/sys/class/drm"
_BLOCK = "/sys/block"
_SUPPLY = "/sys/class/power_supply"
_HWMON = "/sys/class/hwmon"
_USB_INTERFACES = {
    "00": "USB 1 (UHCI)",
    "10": "USB 1 (OHCI)",
    "20": "USB 2 (EHCI)",
    "30": "USB 3 (xHCI)",
    "40": "USB 4",
}
"""Programming interfaces of PCI class 0c03 (PCI Code and ID Assignment Specification, section 1.13)."""
_GIB = 1 << 30
_MOST_MODES = 6
_SUPPLY_CHIP = re.compile(r"psu|pmbus", re.IGNORECASE)
"""Supplies that report over USB or PMBus have drivers named so (hwmon documents of the psu and pmbus drivers)."""
_TRANSPORTS = (
    ("/nvme/", "NVMe"),
    ("/usb", "USB"),
    ("/ata", "SATA"),
    ("/virtio", "virtio"),
    ("/mmc_host/", "SD or eMMC"),
    ("/host", "SCSI"),
)


def _facts(system: System, folder: str, files: tuple[tuple[str, str], ...]) -> list[Fact]:
    found = ((title, optional_text(system, f"{folder}/{file}"), f"{folder}/{file}") for file, title in files)
    return [Fact(title, value, path) for title, value, path in found if value and not _unknown_link(path, value)]


def _unknown_link(path: str, value: str) -> bool:
    """Whether a link's width or speed says that nothing is known of it."""
    return (path.endswith("_width") and value in ("0", "255")) or (path.endswith("_speed") and value == "Unknown")


def _driver(system: System, folder: str) -> str:
    if "driver" not in system.list(folder):
        return ""
    target = system.resolve(f"{folder}/driver")
    return target.rpartition("/")[2] if target != f"{folder}/driver" else ""


# ---- graphics

_PCI_ADDRESS = re.compile(r"[0-9a-f]{4,8}:[0-9a-f]{2}:[0-9a-f]{2}\.[0-7]")


def read_graphics(system: System, lookup: Lookup) -> tuple[list[Part], list[Doubt]]:
    """Return every display controller on the PCI bus, and every card that has no PCI device."""
    cards = {
        system.resolve(f"{_DRM}/{card}/device"): card for card in system.list(_DRM) if re.fullmatch(r"card\d+", card)
    }
    parts, doubts = [], []
    for address in system.list(_PCI):
        folder = f"{_PCI}/{address}"
        if optional_text(system, f"{folder}/class").startswith("0x03"):
            card = cards.pop(system.resolve(folder), "")
            part = _graphics_part(system, folder, card or address, lookup)
            parts.append(part)
            doubts += _graphics_doubts(system, folder, part)
    for device, card in cards.items():
        parts.append(_graphics_part(system, device, card, lookup))
    return parts, doubts


def _graphics_part(system: System, folder: str, name: str, lookup: Lookup) -> Part:
    numbers = f"{optional_text(system, f'{folder}/vendor')} {optional_text(system, f'{folder}/device')}".strip()
    facts = [Fact("PCI vendor and device", numbers, folder)] if numbers else []
    facts.append(Fact("driver", _driver(system, folder) or "none", f"{folder}/driver"))
    address = system.resolve(folder).rpartition("/")[2]
    if _PCI_ADDRESS.fullmatch(address):
        facts.append(Fact(PCI_ADDRESS, address, folder))
    facts += _display_facts(system, folder, name)
    facts += _facts(system, folder, _LINK_FILES)
    memory = optional_number(system, f"{folder}/mem_info_vram_total")
    if memory:
        facts.append(Fact("memory", f"{memory / _GIB:g} GiB", f"{folder}/mem_info_vram_total"))
    known = database_name(lookup, modalias_of(system, folder))
    if known:
        facts.append(Fact("by the hardware database", known, f"{folder}/modalias"))
    title = optional_text(system, f"{folder}/product_name") or known or f"Graphics {numbers}".strip()
    return Part(f"graphics {name}", PartKind.GRAPHICS, title, name, tuple(facts))


def _display_facts(system: System, folder: str, name: str) -> list[Fact]:
    """Return which displays hang on a card: connectors, by the kernel; else the card that the firmware started with."""
    connected = [
        entry.removeprefix(f"{name}-")
        for entry in system.list(_DRM)
        if entry.startswith(f"{name}-") and optional_text(system, f"{_DRM}/{entry}/status") == "connected"
    ]
    if connected:
        return [Fact("displays on", ", ".join(connected), f"{_DRM}/{name}-*/status")]
    if optional_text(system, f"{folder}/boot_vga") == "1":
        return [Fact("displays on", "the card that the firmware started with", f"{folder}/boot_vga")]
    return []


def _graphics_doubts(system: System, folder: str, part: Part) -> list[Doubt]:
    doubts = []
    now, most = (optional_number(system, f"{folder}/{end}_link_width") for end in ("current", "max"))
    if now in _WIDTHS and most in _WIDTHS and now < most:
        detail = f"{now} of {most} lanes ({folder}); the slot may be narrow, or the card sits badly"
        doubts.append(Doubt("G-110", part.tag, PartKind.GRAPHICS, "Graphics link narrow", detail))
    if "driver" in {fact.name for fact in part.facts if fact.value == "none"}:
        detail = "no driver is bound to it, so it has no readings and no loads"
        doubts.append(Doubt("G-120", part.tag, PartKind.GRAPHICS, "Graphics without a driver", detail))
    return doubts


# ---- drives


_STICK = "/run/thresher-stick/drive"
"""On the stick: the kernel's name of the drive that Thresher was started from."""


def read_drives(system: System) -> list[Part]:
    """Return every block device that is hardware and keeps data, without optical drives and empty card readers."""
    root = _root_device(system)
    own_stick = optional_text(system, _STICK)
    parts = []
    for name in system.list(_BLOCK):
        folder = f"{_BLOCK}/{name}"
        if "device" not in system.list(folder) and not name.startswith("vd"):
            continue  # loop, ram, dm, md: no hardware behind them
        facts = []
        sectors = optional_number(system, f"{folder}/size")
        if name == own_stick:
            continue  # what Thresher was started from is no part of this machine
        if re.fullmatch(r"sr\d+", name) or (not sectors and optional_text(system, f"{folder}/removable") == "1"):
            continue  # an optical drive or an empty card reader: built in, with checks of their own
        if sectors:
            facts.append(Fact("size", f"{sectors * 512 / 1e9:.0f} GB", f"{folder}/size"))
        path = system.resolve(folder)
        transport = next((word for mark, word in _TRANSPORTS if mark in path), "")
        if transport:
            facts.append(Fact("transport", transport, path))
        rotational = optional_number(system, f"{folder}/queue/rotational")
        if rotational is not None and transport != "virtio":  # a virtual disk says what its host does not know
            facts.append(Fact("kind", "spinning" if rotational else "solid state", f"{folder}/queue/rotational"))
        facts += _facts(
            system,
            f"{folder}/device",
            (("serial", "serial"), ("firmware_rev", "firmware"), ("rev", "firmware"), ("state", "state")),
        )
        if not any(fact.name == "serial" for fact in facts):
            facts += _scsi_serial(system, f"{folder}/device")
        facts += _flash_life(system, f"{folder}/device")
        facts += _drive_link(system, folder, path)
        if root and (root == name or root.startswith(name)):
            facts.append(Fact("holds", "the running system", "/proc/self/mountinfo"))
        model = optional_text(system, f"{folder}/device/model") or "Drive"
        parts.append(Part(f"drive {name}", PartKind.DRIVE, model, name, tuple(facts)))
    return parts


def _scsi_serial(system: System, folder: str) -> list[Fact]:
    """Return the serial number that a drive gives in vital product data (SPC-5, page 80h), else in its wwid.

    `vpd_pg80` is the page as it came: four bytes of header, of which the last two are the length.
    """
    try:
        page = system.read(f"{folder}/vpd_pg80")
    except SourceUnavailable:
        page = b""
    if len(page) > 4 and page[1] == 0x80:
        serial = page[4 : 4 + int.from_bytes(page[2:4], "big")].decode("ascii", "replace").strip("\0 ")
        if serial:
            return [Fact("serial", serial, f"{folder}/vpd_pg80")]
    name = optional_text(system, f"{folder}/wwid")
    if match := re.match(r"t10\.\S+\s+.*?\s{2,}(\S+)$|t10\.\S+ +(\S+)$", name):
        return [Fact("serial", match[1] or match[2], f"{folder}/wwid")]
    return [Fact("wwid", name, f"{folder}/wwid")] if name else []


_LIFE_WORDS = {1: "normal", 2: "80 % of the reserved blocks used", 3: "90 % of the reserved blocks used"}


def _flash_life(system: System, folder: str) -> list[Fact]:
    """Return how worn soldered flash is (JESD84-B51, DEVICE_LIFE_TIME_EST and PRE_EOL_INFO, in steps of 10 %)."""
    facts = []
    values = [int(word, 16) for word in optional_text(system, f"{folder}/life_time").split() if _HEX.fullmatch(word)]
    used = max((value for value in values if 0 < value <= _LIFE_EXCEEDED), default=0)
    if used:
        words = "more than its life" if used == _LIFE_EXCEEDED else f"{(used - 1) * 10} to {used * 10} % of its life"
        facts.append(Fact("used", words, f"{folder}/life_time"))
    state = optional_text(system, f"{folder}/pre_eol_info")
    if _HEX.fullmatch(state) and (words := _LIFE_WORDS.get(int(state, 16), "")):
        facts.append(Fact("reserve", words, f"{folder}/pre_eol_info"))
    return facts


_HEX = re.compile(r"0x[0-9a-fA-F]{1,4}")
_LIFE_EXCEEDED = 0x0B
_WIDTHS = (1, 2, 4, 8, 12, 16, 32)
"""Widths that a PCI Express link can have; a device that does not answer reads as 0 of 255."""
_LINK_FILES = (
    ("current_link_width", "link width now"),
    ("max_link_width", "link width at most"),
    ("current_link_speed", "link speed now"),
    ("max_link_speed", "link speed at most"),
)


def _drive_link(system: System, folder: str, path: str) -> list[Fact]:
    """Return how a drive is connected: PCI link of an NVMe drive, SATA speed, and the driver.

    Kernel documents ABI/testing/sysfs-bus-pci and ABI/testing/sysfs-ata (`ata_link`).
    """
    facts = []
    bus = f"{folder}/device/device"
    if "/nvme/" in path:
        facts += _facts(system, bus, _LINK_FILES)
    port = re.search(r"/ata(\d+)/", path)
    if port:
        spd = f"/sys/class/ata_link/link{port[1]}/sata_spd"
        facts += _facts(system, spd.rpartition("/")[0], (("sata_spd", "link speed now"),))
    for here in (bus, f"{folder}/device"):
        driver = _driver(system, here)
        if driver:
            facts.append(Fact("driver", driver, f"{here}/driver"))
            break
    return facts


def drive_doubts(parts: list[Part]) -> list[Doubt]:
    """Return the drives whose PCI link is narrower than they and their slot could have."""
    doubts = []
    for part in parts:
        now, most = part.fact("link width now"), part.fact("link width at most")
        widths = [int(each) if each.isdigit() else 0 for each in (now, most)]
        if part.kind is PartKind.DRIVE and all(each in _WIDTHS for each in widths) and widths[0] < widths[1]:
            detail = f"{now} of {most} lanes; the slot may be narrow, or the drive sits badly"
            doubts.append(Doubt("D-130", part.tag, PartKind.DRIVE, "Drive link narrow", detail))
        used = part.fact("used")
        worn = used.startswith(("more", "90"))
        if used and (worn or used.startswith("80") or part.fact("reserve").endswith("used")):
            reserve = f", {part.fact('reserve')}" if part.fact("reserve") else ""
            doubts.append(Doubt("D-140", part.tag, PartKind.DRIVE, "Flash worn", f"{used} used{reserve}"))
    return doubts


WORN_SHARE, _MANY_CYCLES = 0.70, 800
"""A battery below this share of its design is due to be replaced; makers rate 300 to 1000 full cycles to 80 %."""


def battery_doubts(system: System) -> list[Doubt]:
    """Return the batteries that hold much less than they were made for."""
    doubts = []
    for part in _batteries(system):
        folder = f"{_SUPPLY}/{part.place}"
        for stem in ("energy", "charge"):
            full, design = (optional_number(system, f"{folder}/{stem}_{end}") for end in ("full", "full_design"))
            if full and design and full < design * WORN_SHARE:
                cycles = optional_number(system, f"{folder}/cycle_count")
                after = f" after {cycles} cycles" if cycles else ""
                detail = f"holds {100 * full / design:.0f} % of what it was made for{after}"
                doubts.append(Doubt("A-110", part.tag, PartKind.BATTERY, "Battery worn", detail))
                break
    return doubts


def _root_device(system: System) -> str:
    """Return the block device that `/` is mounted from (filesystems/proc, section 3.5), empty when not known."""
    for line in optional_text(system, "/proc/self/mountinfo").splitlines():
        fields = line.split()
        if len(fields) > 9 and fields[4] == "/" and "-" in fields:
            source = fields[fields.index("-") + 2]
            return source.rpartition("/")[2] if source.startswith("/dev/") else ""
    return ""


# ---- the rest


def read_others(system: System, unknown: list[Fact], lookup: Lookup) -> list[Part]:
    """Return batteries, network interfaces, sound cards and displays."""
    return [*_batteries(system), *_network(system, lookup), *_sound(system), *_displays(system, unknown)]


def read_usb_controllers(system: System, lookup: Lookup) -> list[Fact]:
    """Return the USB host controllers on the PCI bus (class 0c03) with what they are and their driver."""
    facts = []
    for address in system.list(_PCI):
        folder = f"{_PCI}/{address}"
        code = optional_text(system, f"{folder}/class")
        if not code.startswith("0x0c03"):
            continue
        kind = _USB_INTERFACES.get(code[6:8], "USB")
        name = database_name(lookup, modalias_of(system, folder))
        driver = _driver(system, folder) or "no driver"
        facts.append(Fact(f"{kind} controller", ", ".join(filter(None, (address, name, driver))), folder))
    return facts


def read_fans(system: System) -> list[Fact]:
    """Return the fans that chips report by name, and the pumps among them (hwmon/sysfs-interface)."""
    facts = []
    for chip in system.list(_HWMON):
        folder = f"{_HWMON}/{chip}"
        names = system.list(folder)
        for file in names:
            match = re.fullmatch(r"fan(\d+)_input", file)
            if match:
                label = optional_text(system, f"{folder}/fan{match[1]}_label") or f"fan {match[1]}"
                speed = optional_number(system, f"{folder}/{file}")
                reported = "does not answer" if speed is None else f"{speed} rpm"
                driven = f", driven at {duty} %" if (duty := _duty(system, folder, match[1], names)) is not None else ""
                facts.append(Fact(label, reported + driven, f"{folder}/{file}"))
    return facts


def _duty(system: System, folder: str, number: str, names: list[str]) -> int | None:
    duty = optional_number(system, f"{folder}/pwm{number}") if f"pwm{number}" in names else None
    return None if duty is None else round(duty * 100 / 255)


def read_supplies(system: System) -> list[Fact]:
    """Return what the kernel reports of mains and other supplies (ABI/testing/sysfs-class-power)."""
    facts = []
    for name in system.list(_SUPPLY):
        here = f"{_SUPPLY}/{name}"
        kind = optional_text(system, f"{here}/type")
        if kind and kind != "Battery" and optional_text(system, f"{here}/scope") != "Device":
            online = optional_number(system, f"{here}/online")
            state = {None: "state unknown", 0: "not connected", 1: "connected"}.get(online, "connected")
            facts.append(Fact(f"{kind} {name}", state, here))
    for chip in system.list(_HWMON):
        name = optional_text(system, f"{_HWMON}/{chip}/name")
        if _SUPPLY_CHIP.search(name):
            facts.append(Fact("reports by itself", f"as {name}", f"{_HWMON}/{chip}"))
    return facts


def _batteries(system: System) -> list[Part]:
    parts = []
    for name in system.list(_SUPPLY):
        here = f"{_SUPPLY}/{name}"
        if optional_text(system, f"{here}/type") != "Battery" or optional_text(system, f"{here}/scope") == "Device":
            continue  # a mouse's battery is no part of the machine
        files = (
            ("manufacturer", "maker"),
            ("serial_number", "serial"),
            ("technology", "technology"),
            ("status", "status"),
            ("cycle_count", "cycles"),
            ("capacity", "charge, %"),
        )
        facts = _facts(system, here, files)
        for stem, unit, divisor in (("energy", "Wh", 1e6), ("charge", "Ah", 1e6)):
            full, design = (optional_number(system, f"{here}/{stem}_{end}") for end in ("full", "full_design"))
            if full and design:
                text = f"{full / divisor:.1f} of {design / divisor:.1f} {unit} ({100 * full / design:.0f} %)"
                facts.append(Fact("full charge left", text, f"{here}/{stem}_full"))
        model = optional_text(system, f"{here}/model_name") or "Battery"
        parts.append(Part(f"battery {name}", PartKind.BATTERY, model, name, tuple(facts)))
    return parts


WIRED, WIRELESS = "wired", "wireless"
"""What the fact `kind` of a network adapter says."""


def _network(system: System, lookup: Lookup) -> list[Part]:
    parts = []
    folder = "/sys/class/net"
    for name in system.list(folder):
        here = f"{folder}/{name}"
        if "device" not in system.list(here):
            continue
        facts = _facts(system, here, (("operstate", "state"), ("address", "address")))
        speed = optional_number(system, f"{here}/speed")
        if speed and speed > 0:
            facts.append(Fact("speed", f"{speed} Mbit/s", f"{here}/speed"))
        kind = WIRELESS if "wireless" in system.list(here) or "phy80211" in system.list(here) else WIRED
        facts.append(Fact("kind", kind, here))
        driver = _driver(system, f"{here}/device")
        if driver:
            facts.append(Fact("driver", driver, f"{here}/device/driver"))
        known = database_name(lookup, modalias_of(system, f"{here}/device"))
        parts.append(
            Part(f"network {name}", PartKind.NETWORK, known or f"{kind.capitalize()} network", name, tuple(facts))
        )
    return parts


def _sound(system: System) -> list[Part]:
    listed = optional_text(system, "/proc/asound/cards")
    found = re.findall(r"^\s*(\d+) \[(\S+)\s*\]: (.+)$", listed, re.MULTILINE)
    return [
        Part(
            f"sound {number}",
            PartKind.SOUND,
            name.partition(" - ")[2] or name,
            short,
            (Fact("driver", name.partition(" - ")[0], "/proc/asound/cards"),),
        )
        for number, short, name in found
    ]


def _displays(system: System, unknown: list[Fact]) -> list[Part]:
    parts = []
    for connector in system.list(_DRM):
        folder = f"{_DRM}/{connector}"
        if optional_text(system, f"{folder}/status") != "connected":
            continue
        try:
            data = system.read(f"{folder}/edid")
            edid = parse_edid(data, f"{folder}/edid")
        except (SourceUnavailable, InputError) as error:
            unknown.append(Fact(f"display at {connector}", str(error).replace("\n", " "), f"{folder}/edid"))
            continue
        facts = [Fact("maker", edid.maker or "unknown", f"{folder}/edid")]
        if edid.preferred:
            mode = edid.preferred
            facts.append(Fact("preferred mode", f"{mode.width}x{mode.height} at {mode.rate_hz:g} Hz", f"{folder}/edid"))
        if edid.modes:
            shown = ", ".join(f"{mode.width}x{mode.height}@{mode.rate_hz:.0f}" for mode in edid.modes[:_MOST_MODES])
            more = f" and {len(edid.modes) - _MOST_MODES} more" if len(edid.modes) > _MOST_MODES else ""
            facts.append(Fact("modes", shown + more, f"{folder}/edid"))
        if edid.size_cm:
            facts.append(Fact("size", f"{edid.size_cm[0]} x {edid.size_cm[1]} cm", f"{folder}/edid"))
        if edid.year:
            facts.append(Fact("year", str(edid.year), f"{folder}/edid"))
        if edid.serial:
            facts.append(Fact("serial", edid.serial, f"{folder}/edid"))
        if not edid.checksum_right:
            facts.append(Fact("doubt", "its EDID has a wrong checksum", f"{folder}/edid"))
        place = connector.partition("-")[2]
        parts.append(
            Part(f"display {place}", PartKind.DISPLAY, edid.name or f"{edid.maker} display", place, tuple(facts))
        )
    return parts
