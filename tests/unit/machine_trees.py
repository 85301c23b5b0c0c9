"""Directory trees of machines of six kinds, written from the standards and the kernel's documents."""

import struct

Files = dict[str, str | bytes]
CPU = "/sys/devices/system/cpu"


def structure(kind: int, area: dict[int, bytes], length: int, *strings: str) -> bytes:
    """One SMBIOS structure: fields by their offset in the formatted area."""
    body = bytearray(length)
    struct.pack_into("<BBH", body, 0, kind, length, kind << 8)
    for offset, value in area.items():
        body[offset : offset + len(value)] = value
    text = b"".join(string.encode() + b"\0" for string in strings) or b"\0"
    return bytes(body) + text + b"\0"


def module(
    slot: str, gib: int, rated: int = 3200, configured: int = 3200, part: str = "MB-8D4", ecc: bool = False
) -> bytes:
    """A memory device (type 17) of version 2.8; 0 GiB is an empty slot."""
    area = {
        0x08: struct.pack("<HH", (72 if ecc else 64) if gib else 0, 64 if gib else 0),
        0x0C: struct.pack("<H", gib * 1024 if gib < 32 else 0x7FFF),
        0x0E: bytes([9]),
        0x10: bytes([1]),
        0x12: bytes([0x1A]),
        0x15: struct.pack("<H", 3200 if gib else 0),
        0x17: bytes([2, 0, 0, 3]),
        0x1C: struct.pack("<I", gib * 1024),
        0x20: struct.pack("<H", configured if gib else 0),
    }
    return structure(17, area, 40, slot, "Mussel Bank", part)


def firmware(date: str = "03/02/2022") -> bytes:
    """Firmware and board (types 0 and 2)."""
    first = structure(0, {4: bytes([1, 2, 0, 0, 3])}, 24, "Quayside Boards", "F3", *([date] if date else []))
    return first + structure(2, {4: bytes([1, 2])}, 15, "Quayside Boards", "QB-40 Mooring")


END = structure(127, {}, 4)


def chip(number: int, name: str, device: str = "", **attributes: str | int) -> Files:
    """A hwmon chip with its attributes."""
    folder = f"/sys/class/hwmon/hwmon{number}"
    files: Files = {f"{folder}/{key}": f"{value}\n" for key, value in attributes.items()}
    return files | {f"{folder}/name": f"{name}\n"} | ({f"{folder}/device/x": ""} if device else {})


def cores(topology: list[tuple[int, int]], **shared: str) -> Files:
    """Topology of logical CPUs as (core, package), with cpufreq files for all of them."""
    files: Files = {}
    for cpu, (core, package) in enumerate(topology):
        files[f"{CPU}/cpu{cpu}/topology/core_id"] = f"{core}\n"
        files[f"{CPU}/cpu{cpu}/topology/physical_package_id"] = f"{package}\n"
        for name, value in shared.items():
            files[f"{CPU}/cpu{cpu}/cpufreq/{name}"] = f"{value}\n"
    return files


def edid(name: str = "Pier 24", width: int = 1920, height: int = 1080) -> bytes:
    """A base block: maker TRN, made 2020, 53 x 30 cm, one detailed timing at 60 Hz."""
    block = bytearray(128)
    block[:8] = bytes.fromhex("00ffffffffffff00")
    letters = [ord(letter) - 64 for letter in "TRN"]
    struct.pack_into(">H", block, 8, letters[0] << 10 | letters[1] << 5 | letters[2])
    struct.pack_into("<H", block, 10, 0x1234)
    block[17], block[18], block[19], block[21], block[22] = 30, 1, 4, 53, 30
    clock = (width + 280) * (height + 45) * 60 // 10_000
    struct.pack_into("<H", block, 54, clock)
    block[56], block[57], block[58] = width & 0xFF, 280 & 0xFF, (width >> 8) << 4 | 280 >> 8
    block[59], block[60], block[61] = height & 0xFF, 45, (height >> 8) << 4
    block[72:90] = b"\0\0\0\xfc\0" + name.encode().ljust(13, b"\n")[:13]
    block[127] = -sum(block) % 256
    return bytes(block)


def desktop() -> Files:
    """Two of four slots filled, both on one channel and below their speed; the graphics link at half width."""
    table = firmware() + b"".join(module(slot, 8, configured=2133) for slot in ("DIMM_A1", "DIMM_A2"))
    table += module("DIMM_B1", 0) + module("DIMM_B2", 0)
    card = "/sys/bus/pci/devices/0000:01:00.0"
    return (
        cores([(c % 4, 0) for c in range(8)], base_frequency="3600000", cpuinfo_max_freq="4400000")
        | {
            "/proc/cpuinfo": "vendor_id : TernHarbour8\nmodel name : Tern 4-360\nflags : fpu avx avx2 fma aes\n",
            "/proc/meminfo": "MemTotal: 16100000 kB\nMemAvailable: 15000000 kB\n",
            "/sys/firmware/dmi/tables/DMI": table + END,
            f"{card}/class": "0x030000\n",
            f"{card}/vendor": "0x1f4d\n",
            f"{card}/device": "0x4c40\n",
            f"{card}/current_link_width": "8\n",
            f"{card}/max_link_width": "16\n",
            "/sys/block/sda/size": "976773168\n",
            "/sys/block/sda/device/model": "Barge 500\n",
            "/sys/block/sda/queue/rotational": "1\n",
            "/proc/self/mountinfo": "22 1 8:2 / / rw,relatime shared:1 - ext4 /dev/sda2 rw\n",
            "/sys/bus/pci/devices/0000:00:14.0/class": "0x0c0330\n",
        }
        | chip(0, "coretemp", temp1_input=34000, temp1_label="Package id 0", temp1_crit=100000)
        | chip(
            1,
            "boardmon",
            in1_input=12090,
            in1_label="+12V",
            in8_input=2480,
            in8_label="Vbat",
            fan1_input=810,
            fan1_label="CPU fan",
            pwm1=102,
            fan2_input=0,
        )
        | chip(2, "drivetemp", temp1_input=33000)
    )


def laptop() -> Files:
    """A hybrid processor, a worn battery, a panel and a second display whose EDID is broken."""
    topology = [(0, 0), (0, 0), (4, 0), (4, 0), (8, 0), (9, 0), (10, 0), (11, 0)]
    supply = "/sys/class/power_supply/BAT0"
    return cores(topology, cpuinfo_max_freq="4700000", scaling_max_freq="2400000") | {
        "/proc/cpuinfo": "vendor_id : TernHarbour8\nmodel name : Tern mobile 6\nflags : fpu avx2\n",
        "/proc/meminfo": "MemTotal: 15800000 kB\nMemAvailable: 12000000 kB\n",
        "/sys/devices/cpu_core/cpus": "0-3\n",
        "/sys/devices/cpu_atom/cpus": "4-7\n",
        f"{CPU}/intel_pstate/no_turbo": "1\n",
        f"{supply}/type": "Battery\n",
        f"{supply}/energy_full": "31000000\n",
        f"{supply}/energy_full_design": "50000000\n",
        f"{supply}/cycle_count": "612\n",
        f"{supply}/model_name": "Keel 50\n",
        f"{supply}/status": "Discharging\n",
        "/sys/class/power_supply/hidpp_battery_0/type": "Battery\n",
        "/sys/class/power_supply/hidpp_battery_0/scope": "Device\n",
        "/sys/class/drm/card1-eDP-1/status": "connected\n",
        "/sys/class/drm/card1-eDP-1/edid": edid("Cabin 15"),
        "/sys/class/drm/card1-HDMI-A-1/status": "connected\n",
        "/sys/class/drm/card1-HDMI-A-1/edid": b"\0" * 128,
        "/sys/class/drm/card1-DP-1/status": "disconnected\n",
        "/sys/class/net/wlan0/device/uevent": "\n",
        "/sys/class/net/wlan0/wireless/x": "\n",
        "/sys/class/net/wlan0/operstate": "up\n",
        "/sys/class/net/lo/operstate": "unknown\n",
        "/proc/asound/cards": " 0 [PCH            ]: HDA-Codec - Harbour Audio\n                      irq 145\n",
        "/sys/class/power_supply/AC/type": "Mains\n",
        "/sys/class/power_supply/AC/online": "0\n",
        **chip(0, "coretemp", temp1_input=51000, temp1_label="Package id 0"),
        **chip(1, "nvme", temp1_input=41850),
    }


def workstation() -> Files:
    """Two sockets, ECC with its controllers watched, two graphics cards of which one has no driver."""
    topology = [(core, package) for package in range(2) for core in range(16)]
    table = firmware() + b"".join(module(f"CPU{n // 4}_DIMM_{'ABCD'[n % 4]}1", 32, ecc=True) for n in range(8))
    files = cores(topology, base_frequency="2800000") | {
        "/proc/cpuinfo": "vendor_id : TernHarbour8\nmodel name : Tern 16-280W\nflags : avx2 avx512f\n",
        "/proc/meminfo": "MemTotal: 263000000 kB\nMemAvailable: 260000000 kB\n",
        "/sys/firmware/dmi/tables/DMI": table + END,
        "/sys/devices/system/edac/mc/mc0/mc_name": "Tern_Memory#0\n",
        "/sys/devices/system/edac/mc/mc1/mc_name": "Tern_Memory#1\n",
        "/sys/devices/system/edac/mc/mc0/ce_count": "0\n",
        "/sys/devices/system/edac/mc/mc1/ce_count": "7\n",
    }
    for bus, name in ((0x21, "Lumen W9"), (0x41, "Lumen W9")):
        card = f"/sys/bus/pci/devices/0000:{bus:02x}:00.0"
        files |= {f"{card}/class": "0x030000\n", f"{card}/product_name": f"{name}\n", f"{card}/vendor": "0x1f4d\n"}
    files |= chip(5, "spd5118", temp1_input=44000) | chip(6, "amdgpu", temp3_input=62000, temp3_label="mem")
    return files


def old_machine() -> Files:
    """Firmware that fills in nothing, gives no date, and a table that breaks off."""
    table = structure(0, {4: bytes([1, 2])}, 24, "To be filled by O.E.M.", "1.0")
    table += structure(2, {4: bytes([1, 2])}, 15, "Default string", "   ")
    table += module("", 2, part="Not Specified") + b"\x11\x05\x00"
    return cores([(0, 0), (1, 0)]) | {
        "/proc/cpuinfo": "vendor_id : TernHarbour8\nmodel name : Dunlin 2\n",
        "/proc/meminfo": "MemTotal: 2000000 kB\nMemAvailable: 900000 kB\n",
        "/sys/firmware/dmi/tables/DMI": table,
        "/sys/block/sdb/size": "312581808\n",
        "/sys/block/sdb/device/model": "Barge 160\n",
    }


def virtual_machine() -> Files:
    """No firmware tables, no sensors, virtio drives."""
    return cores([(0, 0), (1, 0)]) | {
        "/proc/cpuinfo": "vendor_id : TernHarbour8\nmodel name : Virtual\nflags : fpu hypervisor\n",
        "/proc/meminfo": "MemTotal: 4000000 kB\nMemAvailable: 3500000 kB\n",
        "/sys/block/vda/size": "41943040\n",
        "/sys/block/loop0/size": "8\n",
    }


def arm_board() -> Files:
    """No SMBIOS; the device tree names the board."""
    return (
        cores([(n, 0) for n in range(4)], cpuinfo_max_freq="1800000")
        | {
            "/proc/cpuinfo": "processor : 0\nFeatures : fp asimd aes crc32\nCPU implementer : 0x41\nCPU part : 0xd08\n",
            "/proc/device-tree/model": b"Harbour Light Board 4\0",
            "/proc/meminfo": "MemTotal: 3900000 kB\nMemAvailable: 3500000 kB\n",
            "/sys/block/mmcblk0/size": "62333952\n",
            "/sys/block/mmcblk0/device/name": "SD32G\n",
        }
        | chip(0, "cpu_thermal", temp1_input=47000, temp1_crit=110000)
    )


ALL = {
    "desktop": desktop,
    "laptop": laptop,
    "workstation": workstation,
    "old machine": old_machine,
    "virtual machine": virtual_machine,
    "ARM board": arm_board,
}
