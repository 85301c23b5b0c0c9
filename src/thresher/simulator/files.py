"""The files of a simulated machine: path to content, in the formats of the kernel's own documents.

Formats: hwmon/sysfs-interface, ABI/testing/sysfs-devices-system-cpu, ABI/stable/sysfs-block,
power/powercap, filesystems/proc. Temperatures are millidegrees, voltages millivolts, power microwatts.
"""

from collections.abc import Callable, Mapping, Sequence
from functools import partial

from thresher.model.errors import SourceUnavailable
from thresher.simulator.cards import CardState, card_address
from thresher.simulator.firmware_tables import smbios_table
from thresher.simulator.physics import Physics
from thresher.simulator.scenario import Scenario

Content = Callable[[], str | bytes]
GIB = 1 << 30


class FileTable:
    """Path to content, with symbolic links for the class directories."""

    def __init__(self) -> None:
        """Start empty."""
        self.contents: dict[str, Content] = {}
        self.links: dict[str, str] = {}
        self._names: dict[str, set[str]] = {}

    def add(self, path: str, content: Content | str) -> None:
        """Add a file; text content gets its line end, as the kernel writes it."""
        fixed = content
        self.contents[path] = (lambda: f"{fixed}\n") if isinstance(fixed, str) else fixed
        self._note(path)

    def link(self, path: str, target: str) -> None:
        """Add a symbolic link to a directory."""
        self.links[path] = target
        self._note(path)

    def remove(self, path: str) -> None:
        """Take a file away, as when a device is unplugged."""
        self.contents.pop(path, None)
        parent, _, name = path.rpartition("/")
        self._names.get(parent, set()).discard(name)

    def remove_below(self, folder: str) -> None:
        """Take a directory away with all that is in it."""
        for path in [each for each in self.contents if each.startswith(f"{folder}/")]:
            self.remove(path)
        for name in [each for each in self._names if each == folder or each.startswith(f"{folder}/")]:
            del self._names[name]
        parent, _, name = folder.rpartition("/")
        self._names.get(parent, set()).discard(name)

    def names(self, path: str) -> list[str]:
        """Return the names in a directory, sorted."""
        return sorted(self._names.get(path, set()))

    def _note(self, path: str) -> None:
        while path:
            parent, _, name = path.rpartition("/")
            self._names.setdefault(parent or "/", set()).add(name)
            path = parent


def _clock(physics: Physics, core: int) -> Content:
    return lambda: f"{int(physics.state.clock_mhz[core]) * 1000}\n"


def _die(physics: Physics, core: int) -> Content:
    return lambda: f"{int(physics.state.die_c[core]) * 1000}\n"


def add_processor(table: FileTable, scenario: Scenario, physics: Physics) -> None:
    """Add topology, cpufreq, throttle counters and `/proc/cpuinfo`."""
    processor, state = scenario.processor, physics.state
    count = processor.cores * processor.threads_per_core
    for cpu in range(count):
        core = cpu % processor.cores
        base = f"/sys/devices/system/cpu/cpu{cpu}"
        siblings = ",".join(str(core + thread * processor.cores) for thread in range(processor.threads_per_core))
        table.add(f"{base}/topology/core_id", str(core))
        table.add(f"{base}/topology/physical_package_id", "0")
        table.add(f"{base}/topology/thread_siblings_list", siblings)
        table.add(f"{base}/cpufreq/scaling_cur_freq", _clock(physics, core))
        table.add(f"{base}/cpufreq/base_frequency", str(processor.base_mhz * 1000))
        table.add(f"{base}/cpufreq/cpuinfo_max_freq", str(processor.boost_mhz * 1000))
        table.add(f"{base}/cpufreq/scaling_governor", "performance")
        table.add(f"{base}/thermal_throttle/package_throttle_count", lambda: f"{state.throttle_count}\n")
        table.add(f"{base}/thermal_throttle/package_throttle_total_time_ms", lambda: f"{int(state.throttle_ms)}\n")
        for index, (level, kind, size) in enumerate(
            ((1, "Data", "48K"), (2, "Unified", "2048K"), (3, "Unified", "32768K"))
        ):
            table.add(f"{base}/cache/index{index}/level", str(level))
            table.add(f"{base}/cache/index{index}/type", kind)
            table.add(f"{base}/cache/index{index}/size", size)
    table.add("/sys/devices/system/cpu/online", f"0-{count - 1}")
    table.add(
        "/proc/cpuinfo",
        "\n\n".join(
            f"processor\t: {cpu}\nvendor_id\t: TernHarbour8\ncpu family\t: 6\nmodel\t\t: 183\n"
            f"model name\t: {processor.name}\nstepping\t: 1\nmicrocode\t: 0x12b\nphysical id\t: 0\n"
            f"core id\t\t: {cpu % processor.cores}\ncpu cores\t: {processor.cores}"
            for cpu in range(count)
        ),
    )


def _drive_temperature(physics: Physics, scenario: Scenario, own_c: Callable[[], float]) -> Content:
    """A drive warmed by its work and by the air in the case."""
    return lambda: f"{int(own_c() + (physics.state.case_c - scenario.ambient_c) * 0.5) * 1000}\n"


def _drive_device(index: int, name: str) -> str:
    """Return the folder of a drive's device: of the SCSI device for ATA, of the controller for NVMe."""
    if name.startswith("sd"):
        port = f"/sys/devices/pci0000:00/0000:00:17.0/ata{index + 1}/host{index}/target{index}:0:0"
        return f"{port}/{index}:0:0:0"
    return f"/sys/devices/pci0000:00/0000:0{index + 2}:00.0/nvme/nvme{index}"


def add_sensors(
    table: FileTable,
    scenario: Scenario,
    physics: Physics,
    drive_c: Mapping[str, Callable[[], float]],
    cards: Sequence[CardState],
) -> None:
    """Add the hwmon chips: core temperatures, board monitor, drives, graphics. `drive_c` is how warm drives are."""
    state, processor = physics.state, scenario.processor
    limit = str(int(processor.limit_c * 1000))
    core_chip: dict[str, Content | str] = {
        "name": "coretemp",
        "temp1_input": lambda: f"{int(state.die_c.max()) * 1000}\n",
        "temp1_label": "Package id 0",
        "temp1_max": str(int(processor.limit_c * 1000) - 20000),
        "temp1_crit": limit,
    }
    for core in range(processor.cores):
        core_chip[f"temp{core + 2}_input"] = _die(physics, core)
        core_chip[f"temp{core + 2}_label"] = f"Core {core}"
        core_chip[f"temp{core + 2}_crit"] = limit
    _add_chip(table, 0, "/sys/devices/platform/coretemp.0", core_chip)
    board_chip: dict[str, Content | str] = {
        "name": "boardmon",
        "in0_input": lambda: f"{physics.voltage(state.clock_mhz).max() * 1000:.0f}\n",
        "in0_label": "Vcore",
        "in1_input": lambda: f"{physics.rail_12v() * 1000:.0f}\n",
        "in1_label": "+12V",
        "in2_input": lambda: f"{5041 - state.package_w * 0.04:.0f}\n",
        "in2_label": "+5V",
        "in3_input": lambda: f"{3318 - state.package_w * 0.02:.0f}\n",
        "in3_label": "+3.3V",
        "fan1_input": lambda: f"{physics.fan_rpm():.0f}\n",
        "fan1_label": "CPU fan",
        "fan2_input": lambda: f"{state.case_fan_rpm:.0f}\n",
        "fan2_label": "Case fan",
        "temp1_input": lambda: f"{int(state.case_c * 2) * 500}\n",
        "temp1_label": "Board",
        # the board's own view of the processor: a sensor under the socket, between die and air
        "temp2_input": lambda: f"{int((state.die_c.mean() * 0.85 + state.case_c * 0.15) * 2) * 500}\n",
        "temp2_label": "CPU",
    }
    _add_chip(table, 1, "/sys/devices/platform/boardmon.656", board_chip)
    number = 2
    for index, drive in enumerate(scenario.drives):
        if drive.bridge:  # its temperature is behind the bridge
            continue
        warm = _drive_temperature(physics, scenario, drive_c[drive.name])
        drive_chip: dict[str, Content | str]
        if drive.name.startswith("sd"):
            drive_chip = {"name": "drivetemp", "temp1_input": warm, "temp1_max": "55000", "temp1_crit": "60000"}
        else:
            drive_chip = {"name": "nvme", "temp1_input": warm, "temp1_label": "Composite"}
            drive_chip |= {"temp1_max": "81850", "temp1_crit": "84850"}
        _add_chip(table, number, _drive_device(index, drive.name), drive_chip)
        number += 1
    for index, card in enumerate(cards):
        _add_chip(table, number + index, _card_device(index), _card_chip(card))


def _card_device(index: int) -> str:
    return f"/sys/devices/pci0000:00/{card_address(index)}"


def _card_chip(card: CardState) -> dict[str, Content | str]:
    """Return the files of a card's hwmon chip (kernel document gpu/amdgpu/thermal)."""
    limit = int(card.spec.limit_c * 1000)

    def answer(value: Callable[[], float]) -> Content:
        def content() -> str:
            if card.gone:
                raise SourceUnavailable(card.pci, "No such device")
            return f"{int(value())}\n"

        return content

    return {
        "name": "amdgpu",
        "temp1_input": answer(lambda: card.core_c * 1000),
        "temp1_label": "edge",
        "temp1_crit": str(limit),
        "temp2_input": answer(lambda: card.hot_c * 1000),
        "temp2_label": "junction",
        "temp2_crit": str(limit),
        "temp3_input": answer(lambda: card.memory_c * 1000),
        "temp3_label": "mem",
        "temp3_crit": "105000",
        "power1_average": answer(lambda: card.power_w * 1e6),
        "power1_cap": str(int(card.spec.power_w * 1e6)),
        "fan1_input": answer(lambda: card.fan_rpm),
        "freq1_input": answer(lambda: card.clock_mhz * 1e6),
        "freq1_label": "sclk",
    }


def _add_chip(table: FileTable, number: int, device: str, attributes: dict[str, Content | str]) -> None:
    real = f"{device}/hwmon/hwmon{number}"
    for name, content in attributes.items():
        table.add(f"{real}/{name}", content)
    table.link(f"{real}/device", device)
    table.link(f"/sys/class/hwmon/hwmon{number}", real)


def _memory_used(card: CardState) -> str:
    return f"{int(card.memory_used)}\n"


def _card_busy(card: CardState) -> str:
    return f"{card.busy * 100:.0f}\n"


def _link_width(card: CardState) -> str:
    return f"{card.width}\n"


def add_rest(table: FileTable, scenario: Scenario, physics: Physics, cards: Sequence[CardState]) -> None:
    """Add powercap, drives, graphics, firmware tables and memory."""
    state = physics.state
    zone = "/sys/devices/virtual/powercap/intel-rapl/intel-rapl:0"
    table.add(f"{zone}/name", "package-0")
    table.add(f"{zone}/energy_uj", lambda: f"{int(state.energy_j * 1e6) % 262143328850}\n")
    table.add(f"{zone}/max_energy_range_uj", "262143328850")
    table.add(f"{zone}/constraint_0_name", "long_term")
    table.add(f"{zone}/constraint_0_power_limit_uw", str(int(scenario.processor.power_limit_w * 1e6)))
    table.link("/sys/class/powercap/intel-rapl:0", zone)
    for index, drive in enumerate(scenario.drives):
        device = _drive_device(index, drive.name)
        block = f"{device}/block/{drive.name}" if drive.name.startswith("sd") else f"{device}/{drive.name}"
        table.add(f"{block}/size", str(drive.size_bytes // 512))
        table.add(f"{block}/queue/rotational", "0" if drive.rotation == 1 else "1")
        table.add(f"{device}/model", drive.model.ljust(40))
        table.add(f"{device}/serial", drive.serial.ljust(20))
        table.add(f"{device}/firmware_rev", drive.firmware)
        table.link(f"{block}/device", device)
        table.link(f"/sys/block/{drive.name}", block)
    for index, card in enumerate(cards):
        device = _card_device(index)
        table.add(f"{device}/vendor", "0x1f4d")
        table.add(f"{device}/device", f"0x{0x4C40 + index:04x}")
        table.add(f"{device}/class", "0x030000")
        table.add(f"{device}/product_name", card.spec.name)
        table.add(f"{device}/mem_info_vram_total", str(card.spec.memory_gib * GIB))
        table.add(f"{device}/mem_info_vram_used", partial(_memory_used, card))
        table.add(f"{device}/gpu_busy_percent", partial(_card_busy, card))
        table.add(f"{device}/boot_vga", "1" if index == 0 else "0")
        table.add(f"{device}/current_link_width", partial(_link_width, card))
        table.add(f"{device}/max_link_width", "16")
        table.add(f"{device}/current_link_speed", "16.0 GT/s PCIe")
        table.add(f"{device}/max_link_speed", "16.0 GT/s PCIe")
        table.link(f"{device}/driver", "/sys/bus/pci/drivers/amdgpu")
        table.link(f"/sys/bus/pci/devices/{card_address(index)}", device)
        table.link(f"{device}/drm/card{index}/device", device)
        table.link(f"/sys/class/drm/card{index}", f"{device}/drm/card{index}")
    for name in ("cpu", "memory", "io"):  # a load that fits the cores makes nobody wait
        calm = "avg10=0.00 avg60=0.00 avg300=0.00 total=0"
        table.add(f"/proc/pressure/{name}", f"some {calm}\nfull {calm}")
    rows = "".join(
        f" 259 {n} {drive.name} 4021 0 180224 900 2210 0 96256 1400 0 2100 2300\n"
        for n, drive in enumerate(scenario.drives)
    )
    table.add("/proc/diskstats", lambda: rows)
    blob = smbios_table(scenario)
    table.add("/sys/firmware/dmi/tables/DMI", lambda: blob)
    total_kib = sum(module.size_gib for module in scenario.modules) * 1024 * 1024 - 620_000
    table.add(
        "/proc/meminfo",
        f"MemTotal:       {total_kib} kB\nMemFree: {total_kib - 2_400_000} kB\n"
        f"MemAvailable:   {total_kib - 2_100_000} kB",
    )
    table.add("/proc/sys/kernel/random/boot_id", f"00000000-0000-4000-8000-{scenario.seed:012x}")
    table.add("/proc/sys/kernel/hostname", scenario.machine)
