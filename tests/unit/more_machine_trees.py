"""Directory trees of eleven more machines, small ones and large ones, with what firmware and drivers really leave."""

import struct

from tests.unit.machine_trees import CPU, END, Files, chip, cores, firmware, structure

SUPPLY = "/sys/class/power_supply"


def named_module(slot: str, bank: str, gib: int, maker: str, serial: str, part: str) -> bytes:
    """A memory device (type 17): strings 1 to 5 are locator, bank, maker, serial and part number."""
    area = {
        0x08: struct.pack("<HH", 64, 64),
        0x0C: struct.pack("<H", gib * 1024),
        0x0E: bytes([9]),
        0x10: bytes([1, 2]),
        0x12: bytes([0x22]),
        0x15: struct.pack("<H", 5600),
        0x17: bytes([3, 4, 0, 5]),
        0x20: struct.pack("<H", 5600),
    }
    return structure(17, area, 40, slot, bank, maker, serial, part)


def small_desktop() -> Files:
    """A small-form desktop: both slots are called DIMM 1, told apart by the bank only; two modules on one channel."""
    table = firmware()
    for bank in ("P0 CHANNEL A", "P0 CHANNEL A"):
        table += named_module("DIMM 1", bank, 8, "Manufacturer00", "SerNum00", "ModulePartNumber00")
    table += structure(17, {0x10: bytes([1, 2])}, 40, "DIMM 0", "P0 CHANNEL B")
    table += structure(3, {4: bytes([1, 3, 2, 3, 4])}, 21, "Chassis Manufacturer", "Chassis Version", "PIER-77-0042")
    return cores([(n, 0) for n in range(6)]) | {
        "/proc/cpuinfo": "vendor_id : TernHarbour8\nmodel name : Tern 6-510T\n",
        "/proc/meminfo": "MemTotal: 16200000 kB\nMemAvailable: 15000000 kB\n",
        "/sys/firmware/dmi/tables/DMI": table + END,
    }


def gaming_laptop() -> Files:
    """Two graphics cards, one of which reports nothing; worn battery on the mains."""
    files: Files = {}
    for bus, driver in (("0000:00:02.0", "lantern"), ("0000:01:00.0", "beam")):
        files |= {
            f"/sys/bus/pci/devices/{bus}/class": "0x030000\n",
            f"/sys/bus/pci/devices/{bus}/product_name": f"{driver.capitalize()} graphics\n",
            f"/sys/bus/pci/devices/{bus}/current_link_width": "0\n",
            f"/sys/bus/pci/devices/{bus}/max_link_width": "255\n",
        }
    return (
        cores([(n // 2, 0) for n in range(16)])
        | {
            "/proc/cpuinfo": "vendor_id : TernHarbour8\nmodel name : Tern mobile 8\n",
            "/proc/meminfo": "MemTotal: 32000000 kB\nMemAvailable: 30000000 kB\n",
            f"{SUPPLY}/ADP1/type": "Mains\n",
            f"{SUPPLY}/ADP1/online": "1\n",
            f"{SUPPLY}/BAT1/type": "Battery\n",
            f"{SUPPLY}/BAT1/charge_full": "2700000\n",
            f"{SUPPLY}/BAT1/charge_full_design": "5000000\n",
            f"{SUPPLY}/BAT1/cycle_count": "931\n",
            f"{CPU}/cpu0/thermal_throttle/core_throttle_count": "412\n",
            f"{CPU}/cpu0/thermal_throttle/package_throttle_count": "57\n",
        }
        | files
        | chip(0, "coretemp", temp1_input=46000, temp1_label="Package id 0", temp1_crit=100000)
        | chip(3, "amdgpu", temp1_input=44000, temp1_label="edge", fan1_input=1850, fan1_enable=0, pwm1=80)
    )


def server() -> Files:
    """Two sockets with a management controller: supply rails called by words, one of them low."""
    topology = [(core, package) for package in range(2) for core in range(4)]
    return (
        cores(topology)
        | {
            "/proc/cpuinfo": "vendor_id : TernHarbour8\nmodel name : Tern 4-180S\n",
            "/proc/meminfo": "MemTotal: 131000000 kB\nMemAvailable: 130000000 kB\n",
        }
        | chip(
            0,
            "harbourbmc",
            in0_input=11120,
            in0_label="+12 Voltage",
            in1_input=5040,
            in1_label="+5 Voltage",
            in2_input=3290,
            in2_label="+3.3 Voltage",
            in3_input=1820,
            in3_min=1700,
            in3_max=1900,
        )
        | chip(1, "coretemp", temp1_input=52000, temp1_label="Package id 0")
    )


def mini_pc() -> Files:
    """Soldered flash that is nearly used up, and no drive beside it."""
    return cores([(n, 0) for n in range(4)]) | {
        "/proc/cpuinfo": "vendor_id : TernHarbour8\nmodel name : Dunlin N4\n",
        "/proc/meminfo": "MemTotal: 7900000 kB\nMemAvailable: 7000000 kB\n",
        "/sys/block/mmcblk0/size": "122142720\n",
        "/sys/block/mmcblk0/device/name": "MB64E\n",
        "/sys/block/mmcblk0/device/life_time": "0x02 0x0a\n",
        "/sys/block/mmcblk0/device/pre_eol_info": "0x02\n",
    }


def small_board() -> Files:
    """Two clusters of ARM cores; the second is held down; heat only in thermal zones."""
    files: Files = {"/proc/device-tree/model": b"Breakwater SB-2\0", "/proc/meminfo": "MemTotal: 3900000 kB\n"}
    listed = ""
    for cpu in range(6):
        part = "0xd05" if cpu < 4 else "0xd0b"
        listed += f"processor : {cpu}\nCPU implementer : 0x41\nCPU part : {part}\n\n"
        files |= {f"{CPU}/cpu{cpu}/topology/core_id": f"{cpu}\n", f"{CPU}/cpu{cpu}/topology/physical_package_id": "0\n"}
    for policy, cpus, highest, allowed in ((0, "0 1 2 3", 1800, 1800), (4, "4 5", 2208, 1392)):
        folder = f"{CPU}/cpufreq/policy{policy}"
        files |= {
            f"{folder}/related_cpus": f"{cpus}\n",
            f"{folder}/cpuinfo_max_freq": f"{highest * 1000}\n",
            f"{folder}/scaling_max_freq": f"{allowed * 1000}\n",
        }
    for zone, kind, temp in ((0, "soc-thermal", 51400), (1, "gpu-thermal", 49000), (2, "charger", 33000)):
        folder = f"/sys/class/thermal/thermal_zone{zone}"
        files |= {
            f"{folder}/type": f"{kind}\n",
            f"{folder}/temp": f"{temp}\n",
            f"{folder}/trip_point_0_type": "passive\n",
            f"{folder}/trip_point_0_temp": "82000\n",
            f"{folder}/trip_point_1_type": "critical\n",
            f"{folder}/trip_point_1_temp": "112000\n",
        }
    return files | {"/proc/cpuinfo": listed}


def raid_workstation() -> Files:
    """Eight SATA drives that give their serials in vital product data only."""
    files = cores([(n, 0) for n in range(8)]) | {
        "/proc/cpuinfo": "vendor_id : TernHarbour8\nmodel name : Tern 8-400W\n",
        "/proc/meminfo": "MemTotal: 64000000 kB\nMemAvailable: 60000000 kB\n",
    }
    for number in range(8):
        name = f"sd{'abcdefgh'[number]}"
        serial = f"BRG{number:05}".encode()
        files |= {
            f"/sys/block/{name}/size": "7814037168\n",
            f"/sys/block/{name}/device/model": "Barge 4000\n",
            f"/sys/block/{name}/device/vpd_pg80": b"\x00\x80" + struct.pack(">H", len(serial)) + serial,
        }
    return files


def nothing_readable() -> Files:
    """Only what every kernel gives."""
    return {"/proc/cpuinfo": "processor : 0\n", "/proc/meminfo": "MemTotal: 500000 kB\n"}


def noisy_board() -> Files:
    """A monitoring chip with a dozen limits that nobody set, their alarms on, and one fan that really stands still."""
    attributes: dict[str, str | int] = {}
    for number in range(9):
        attributes |= {
            f"in{number}_input": 900 + number,
            f"in{number}_min": 0,
            f"in{number}_max": 0,
            f"in{number}_alarm": 1,
        }
    attributes |= {"fan3_input": 0, "fan3_min": 450, "fan3_alarm": 1, "fan3_label": "Chassis fan 3", "pwm3": 153}
    attributes |= {"fan4_input": 0, "fan4_min": 0, "pwm4": 153, "fan5_input": 0, "fan5_min": 450, "pwm5": 0}
    return cores([(0, 0), (1, 0)]) | {
        "/proc/cpuinfo": "vendor_id : TernHarbour8\nmodel name : Tern 2\n",
        "/proc/meminfo": "MemTotal: 8000000 kB\n",
        **chip(0, "boardmon", "", **attributes),
    }


def broken_sensors() -> Files:
    """A drive and a thermistor at the end of their ranges, and a rail read with a wrong divider."""
    return cores([(0, 0), (1, 0)]) | {
        "/proc/cpuinfo": "vendor_id : TernHarbour8\nmodel name : Tern 2\n",
        "/proc/meminfo": "MemTotal: 8000000 kB\n",
        **chip(0, "nvme", temp1_input=126850, temp1_max=79850, temp1_crit=84850),
        **chip(1, "boardmon", temp2_input=124500, temp2_max=80000, in1_input=7150, in1_label="+12V"),
        **chip(2, "coretemp", temp1_input=41000, temp1_label="Package id 0", temp1_crit=100000),
    }


def warm_drive() -> Files:
    """A spinning drive two degrees beyond what its maker recommends, far from its critical temperature."""
    return cores([(0, 0)]) | {
        "/proc/cpuinfo": "vendor_id : TernHarbour8\nmodel name : Tern 1\n",
        "/proc/meminfo": "MemTotal: 8000000 kB\n",
        "/sys/block/sdc/size": "7814037168\n",
        "/sys/block/sdc/device/model": "Barge 4000\n",
        **chip(0, "drivetemp", temp1_input=57000, temp1_max=55000, temp1_crit=70000),
        "/sys/class/hwmon/hwmon0/device/block/sdc/size": "7814037168\n",
    }


def old_desktop() -> Files:
    """No powercap, no cpufreq, and no virtual machine either."""
    return cores([(0, 0), (1, 0)]) | {
        "/proc/cpuinfo": "vendor_id : TernHarbour8\nmodel name : Dunlin 2\nflags : fpu sse2\n",
        "/proc/meminfo": "MemTotal: 2000000 kB\n",
    }


ALL = {
    "small desktop": small_desktop,
    "gaming laptop": gaming_laptop,
    "two-socket server": server,
    "mini PC": mini_pc,
    "single-board ARM": small_board,
    "RAID workstation": raid_workstation,
    "nothing readable": nothing_readable,
    "noisy board": noisy_board,
    "broken sensors": broken_sensors,
    "warm drive": warm_drive,
    "old desktop": old_desktop,
}
