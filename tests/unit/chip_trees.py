"""Chips of many kinds as files, written from the kernel's documents (hwmon/*, gpu/*, ABI/testing/*)."""

from tests.unit.machine_trees import CPU, Files, cores

Chip = dict[str, str | int]

CHIPS: dict[str, Chip] = {
    "coretemp": {
        "temp1_input": 61000,
        "temp1_label": "Package id 0",
        "temp1_max": 84000,
        "temp1_crit": 100000,
        "temp1_crit_alarm": 0,
        "temp2_input": 58000,
        "temp2_label": "Core 0",
        "temp2_crit": 100000,
    },
    "k10temp": {"temp1_input": 71250, "temp1_label": "Tctl", "temp3_input": 61250, "temp3_label": "Tccd1"},
    "nct6775": {
        "in0_input": 1016,
        "in0_min": 0,
        "in0_max": 1744,
        "in0_alarm": 1,
        "in1_input": 12192,
        "in1_label": "+12V",
        "fan1_input": 1180,
        "fan1_min": 300,
        "fan1_pulses": 2,
        "fan2_input": 0,
        "pwm1": 128,
        "pwm1_enable": 5,
        "temp1_input": 38500,
        "temp1_label": "SYSTIN",
        "temp1_offset": -1000,
        "temp7_input": -62000,
        "temp7_fault": 1,
        "intrusion0_alarm": 1,
    },
    "it87": {"in7_input": 3216, "in7_label": "3VSB", "in8_input": 2928, "in8_label": "Vbat", "fan1_input": 822},
    "drivetemp": {
        "temp1_input": 34000,
        "temp1_max": 55000,
        "temp1_crit": 70000,
        "temp1_lcrit": -40000,
        "temp1_highest": 51000,
    },
    "nvme": {
        "temp1_input": 44850,
        "temp1_label": "Composite",
        "temp1_max": 81850,
        "temp1_crit": 84850,
        "temp1_alarm": 0,
        "temp2_input": 51850,
        "temp2_label": "Sensor 1",
    },
    "jc42": {"temp1_input": 41500, "temp1_crit": 95000, "temp1_crit_hyst": 92000},
    "spd5118": {"temp1_input": 46250, "temp1_max": 55000, "temp1_crit": 85000, "temp1_lcrit": 0},
    "harbourflow": {
        "fan1_input": 2410,
        "fan1_label": "Pump speed",
        "temp1_input": 33800,
        "temp1_label": "Coolant temp",
        "pwm1": 204,
    },
    "harbourpsu": {
        "in1_input": 12080,
        "in1_label": "v_out +12V",
        "curr2_input": 8125,
        "curr2_crit": 62000,
        "power1_input": 141000000,
        "power1_label": "power total",
        "fan1_input": 640,
        "temp1_input": 43500,
        "temp1_crit": 70000,
    },
    "ina226": {"in1_input": 5012, "curr1_input": 1480, "power1_input": 7400000, "energy1_input": 500000000},
    "sht3x": {"temp1_input": 22400, "humidity1_input": 48100},
    "acpitz": {"temp1_input": 27800, "temp1_crit": 119000, "temp2_input": 255000, "temp2_crit": 255000},
    "BAT0": {"in0_input": 11850, "curr1_input": 1420, "power1_input": 16800000},
    "iwlwifi_1": {"temp1_input": 47000},
}


def chips(*names: str) -> Files:
    """The chips named, each with a device of its own."""
    files: Files = {}
    for number, name in enumerate(names):
        folder = f"/sys/class/hwmon/hwmon{number}"
        files[f"{folder}/name"] = f"{name}\n"
        files |= {f"{folder}/{file}": f"{value}\n" for file, value in CHIPS[name].items()}
    return files


CARDS: dict[str, Files] = {
    "amdgpu": {
        "/sys/class/drm/card0/device/gpu_busy_percent": "37\n",
        "/sys/class/drm/card0/device/mem_busy_percent": "9\n",
        "/sys/class/drm/card0/device/mem_info_vram_used": f"{3 << 30}\n",
        "/sys/class/hwmon/hwmon0/name": "amdgpu\n",
        "/sys/class/hwmon/hwmon0/temp1_input": "54000\n",
        "/sys/class/hwmon/hwmon0/temp1_label": "edge\n",
        "/sys/class/hwmon/hwmon0/temp1_crit": "100000\n",
        "/sys/class/hwmon/hwmon0/temp1_emergency": "105000\n",
        "/sys/class/hwmon/hwmon0/temp2_input": "61000\n",
        "/sys/class/hwmon/hwmon0/temp2_label": "junction\n",
        "/sys/class/hwmon/hwmon0/temp3_input": "58000\n",
        "/sys/class/hwmon/hwmon0/temp3_label": "mem\n",
        "/sys/class/hwmon/hwmon0/in0_input": "806\n",
        "/sys/class/hwmon/hwmon0/in0_label": "vddgfx\n",
        "/sys/class/hwmon/hwmon0/power1_average": "31000000\n",
        "/sys/class/hwmon/hwmon0/power1_cap": "190000000\n",
        "/sys/class/hwmon/hwmon0/freq1_input": "1480000000\n",
        "/sys/class/hwmon/hwmon0/freq1_label": "sclk\n",
        "/sys/class/hwmon/hwmon0/freq2_input": "1000000000\n",
        "/sys/class/hwmon/hwmon0/freq2_label": "mclk\n",
        "/sys/class/hwmon/hwmon0/fan1_input": "640\n",
    },
    "i915": {
        "/sys/class/drm/card1/gt/gt0/rps_act_freq_mhz": "1150\n",
        "/sys/class/drm/card1/gt/gt1/rps_act_freq_mhz": "0\n",
        "/sys/class/drm/card1/gt_act_freq_mhz": "1150\n",
        "/sys/class/drm/card1/gt/gt0/throttle_reason_status": "1\n",
        "/sys/class/drm/card1/gt/gt0/throttle_reason_pl1": "1\n",
        "/sys/class/drm/card1/gt/gt0/throttle_reason_thermal": "0\n",
        "/sys/class/hwmon/hwmon0/name": "i915\n",
        "/sys/class/hwmon/hwmon0/energy1_input": "90000000\n",
        "/sys/class/hwmon/hwmon0/power1_crit": "225000000\n",
        "/sys/class/hwmon/hwmon0/in0_input": "712\n",
    },
    "xe": {
        "/sys/class/drm/card0/device/tile0/gt0/freq0/act_freq": "2050\n",
        "/sys/class/drm/card0/device/tile0/gt1/freq0/act_freq": "0\n",
        "/sys/class/hwmon/hwmon0/name": "xe\n",
        "/sys/class/hwmon/hwmon0/energy1_input": "120000000\n",
        "/sys/class/hwmon/hwmon0/in1_input": "690\n",
    },
    "old i915": {"/sys/class/drm/card0/gt_act_freq_mhz": "350\n"},
}

THROTTLE: Files = {
    f"{CPU}/cpu0/thermal_throttle/package_throttle_count": "4\n",
    f"{CPU}/cpu0/thermal_throttle/package_throttle_total_time_ms": "1250\n",
    f"{CPU}/cpu0/thermal_throttle/core_throttle_count": "1\n",
    f"{CPU}/cpu0/thermal_throttle/core_power_limit_count": "9\n",
    f"{CPU}/cpu1/thermal_throttle/package_throttle_count": "4\n",
    f"{CPU}/cpu1/thermal_throttle/core_throttle_count": "0\n",
}

ENERGY: Files = {
    "/sys/class/powercap/intel-rapl:0/name": "package-0\n",
    "/sys/class/powercap/intel-rapl:0/energy_uj": "1\n",
    "/sys/class/powercap/intel-rapl:1/name": "package-1\n",
    "/sys/class/powercap/intel-rapl:1/energy_uj": "1\n",
    "/sys/class/powercap/intel-rapl:0:0/name": "core\n",
    "/sys/class/powercap/intel-rapl:0:0/energy_uj": "1\n",
    "/sys/class/powercap/intel-rapl:0:1/name": "dram\n",
    "/sys/class/powercap/intel-rapl:0:1/energy_uj": "1\n",
    "/sys/class/powercap/intel-rapl:2/name": "psys\n",
    "/sys/class/powercap/intel-rapl:2/energy_uj": "1\n",
}

BATTERY: Files = {
    "/sys/class/power_supply/BAT0/type": "Battery\n",
    "/sys/class/power_supply/BAT0/capacity": "81\n",
    "/sys/class/power_supply/BAT0/power_now": "16800000\n",
    "/sys/class/power_supply/BAT0/voltage_now": "11850000\n",
    "/sys/class/power_supply/BAT0/temp": "314\n",
}

HOST: Files = {
    "/proc/stat": "cpu  10 0 10 80 0 0 0 0\ncpu0 5 0 5 40 0 0 0 0\ncpu1 5 0 5 40 0 0 0 0\n",
    "/proc/meminfo": "MemTotal: 16777216 kB\nMemAvailable: 8388608 kB\n",
    "/proc/pressure/memory": "some avg10=3.25 avg60=1.00 avg300=0.20 total=9\nfull avg10=1.50 avg60=0.1\n",
    "/proc/diskstats": "   8       0 sda 100 0 2048 50 10 0 4096 150 0 100 200\n",
    "/sys/block/sda/size": "976773168\n",
    "/sys/block/sda/device/model": "Barge 500\n",
}


def everything() -> Files:
    """A machine that has it all."""
    files = cores([(0, 0), (1, 0)], base_frequency="3600000", scaling_cur_freq="3900000")
    return (
        files
        | chips(*CHIPS)
        | THROTTLE
        | ENERGY
        | BATTERY
        | HOST
        | CARDS["xe"]
        | {
            "/sys/class/hwmon/hwmon0/name": "coretemp\n",
        }
    )
