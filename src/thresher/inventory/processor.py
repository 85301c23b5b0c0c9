"""The processor: identity, topology, caches, clocks, limits.

Kernel documents: ABI/testing/sysfs-devices-system-cpu, admin-guide/pm/cpufreq, admin-guide/pm/intel_pstate,
admin-guide/cputopology, power/powercap; `/proc/cpuinfo` as arch/x86 and arch/arm64 print it.
"""

import re

from thresher.model.parts import Doubt, Fact, Inventory, LogicalCpu, Part, PartKind
from thresher.model.port import System, optional_number, optional_text

CPU = "/sys/devices/system/cpu"
_CPUINFO = "/proc/cpuinfo"
_FLAGS_THAT_MATTER = (
    "sse4_2",
    "avx",
    "avx2",
    "fma",
    "avx512f",
    "avx512dq",
    "aes",
    "sha_ni",
    "asimd",
    "sve",
    "hypervisor",
)
_NAMES = {
    "vendor_id": "maker",
    "cpu family": "family",
    "model": "model",
    "stepping": "stepping",
    "microcode": "microcode",
    "CPU implementer": "implementer",
    "CPU part": "part number",
    "CPU revision": "revision",
}


def read_cpus(system: System, unknown: list[Fact]) -> tuple[LogicalCpu, ...]:
    """Return the logical CPUs that the kernel runs, with core and package."""
    found = []
    for name in system.list(CPU):
        match = re.fullmatch(r"cpu(\d+)", name)
        core = optional_number(system, f"{CPU}/{name}/topology/core_id") if match else None
        if match and core is not None:
            package = optional_number(system, f"{CPU}/{name}/topology/physical_package_id")
            found.append(LogicalCpu(int(match[1]), core, max(0, package or 0)))
    if not found:
        unknown.append(Fact("cores and threads", "the kernel gives no topology; each CPU is taken for a core", CPU))
        numbers = re.findall(r"^processor\s*:\s*(\d+)", optional_text(system, _CPUINFO), re.MULTILINE)
        found = [LogicalCpu(int(number), int(number), 0) for number in numbers]
    return _unique_cores(sorted(found, key=lambda cpu: cpu.cpu))


def _unique_cores(cpus: list[LogicalCpu]) -> tuple[LogicalCpu, ...]:
    """Number the cores through all packages, since the kernel starts over in each."""
    if len({cpu.package for cpu in cpus}) <= 1:
        return tuple(cpus)
    order = sorted({(cpu.package, cpu.core) for cpu in cpus})
    number = {place: index for index, place in enumerate(order)}
    return tuple(LogicalCpu(cpu.cpu, number[cpu.package, cpu.core], cpu.package, cpu.core) for cpu in cpus)


def read_processor(system: System, cpus: tuple[LogicalCpu, ...], unknown: list[Fact]) -> Part:
    """Return the processor with everything that is reported about it."""
    text = optional_text(system, _CPUINFO)
    if not text:
        unknown.append(Fact("processor", "not there", _CPUINFO))
    facts = [Fact(title, value, _CPUINFO) for key, title in _NAMES.items() if (value := _field(text, key))]
    cores = len({(cpu.package, cpu.core) for cpu in cpus})
    packages = len({cpu.package for cpu in cpus})
    sockets = f" in {packages} sockets" if packages > 1 else ""
    facts.append(Fact("cores and threads", f"{cores} cores, {len(cpus)} threads{sockets}", f"{CPU}/cpu*/topology"))
    facts += _kinds_of_cores(system)
    facts += _clocks(system, cpus)
    facts += _clocks_of_groups(system)
    facts += _caches(system, f"{CPU}/cpu{cpus[0].cpu if cpus else 0}")
    flags = (_field(text, "flags") or _field(text, "Features")).split()
    known = [flag for flag in _FLAGS_THAT_MATTER if flag in flags]
    if known:
        facts.append(Fact("instruction sets", ", ".join(known), _CPUINFO))
    facts += _power_limits(system)
    name = _field(text, "model name") or _arm_names(text)
    if not name and not _field(text, "CPU implementer"):
        name = _field(text, "cpu model") or _field(text, "cpu")
    return Part("processor", PartKind.PROCESSOR, name.strip("\0 ") or "Processor", "socket", tuple(facts))


_ARM_PARTS = {
    0xD03: "Cortex-A53",
    0xD04: "Cortex-A35",
    0xD05: "Cortex-A55",
    0xD07: "Cortex-A57",
    0xD08: "Cortex-A72",
    0xD09: "Cortex-A73",
    0xD0A: "Cortex-A75",
    0xD0B: "Cortex-A76",
    0xD0C: "Neoverse N1",
    0xD0D: "Cortex-A77",
    0xD40: "Neoverse V1",
    0xD41: "Cortex-A78",
    0xD44: "Cortex-X1",
    0xD46: "Cortex-A510",
    0xD47: "Cortex-A710",
    0xD48: "Cortex-X2",
    0xD49: "Neoverse N2",
    0xD4D: "Cortex-A715",
    0xD4E: "Cortex-X3",
    0xD80: "Cortex-A520",
    0xD81: "Cortex-A720",
}
"""Part numbers in MIDR_EL1 of implementer 41h (technical reference manuals of the cores)."""


def _arm_names(text: str) -> str:
    """Return the kinds of cores of an ARM processor, the most numerous first; empty for other processors."""
    kinds = re.findall(r"^CPU implementer\s*:\s*(0x[0-9a-f]+)[\s\S]*?^CPU part\s*:\s*(0x[0-9a-f]+)", text, re.MULTILINE)
    counts: dict[str, int] = {}
    for implementer, part in kinds:
        known = _ARM_PARTS.get(int(part, 16)) if int(implementer, 16) == 0x41 else None
        name = known or f"ARM core {implementer}/{part}"
        counts[name] = counts.get(name, 0) + 1
    return " + ".join(f"{count} x {name}" for name, count in sorted(counts.items(), key=lambda each: -each[1]))


def _field(text: str, key: str) -> str:
    match = re.search(rf"^{re.escape(key)}\s*:\s*(.+)$", text, re.MULTILINE)
    return match[1].strip() if match else ""


def _kinds_of_cores(system: System) -> list[Fact]:
    """Hybrid processors list the CPUs of each kind under a device of that kind's counters."""
    facts = []
    for device, title in (("cpu_core", "performance threads"), ("cpu_atom", "efficiency threads")):
        listed = optional_text(system, f"/sys/devices/{device}/cpus")
        if listed:
            facts.append(Fact(title, listed, f"/sys/devices/{device}/cpus"))
    return facts


def _clocks(system: System, cpus: tuple[LogicalCpu, ...]) -> list[Fact]:
    folder = f"{CPU}/cpu{cpus[0].cpu if cpus else 0}/cpufreq"
    facts = []
    for file, title in (
        ("base_frequency", "base clock"),
        ("amd_pstate_max_freq", "highest boost clock"),
        ("cpuinfo_max_freq", "highest clock"),
        ("scaling_max_freq", "highest clock allowed"),
    ):
        khz = optional_number(system, f"{folder}/{file}")
        if khz:
            facts.append(Fact(title, f"{khz / 1e6:.2f} GHz", f"{folder}/{file}"))
    for path, title in (
        (f"{folder}/scaling_governor", "governor"),
        (f"{folder}/scaling_driver", "clock driver"),
        (f"{CPU}/intel_pstate/status", "clock driver's mode"),
        (f"{CPU}/amd_pstate/status", "clock driver's mode"),
    ):
        word = optional_text(system, path)
        if word:
            facts.append(Fact(title, word, path))
    off = boost_switched_off(system)
    if off is not None:
        facts.append(Fact("boost", "switched off" if off[0] else "on", off[1]))
    return facts


def _clocks_of_groups(system: System) -> list[Fact]:
    """Return the highest clock of every group of cores, where their highest clocks differ."""
    groups = []
    for folder in clock_policies(system):
        highest = optional_number(system, f"{folder}/cpuinfo_max_freq")
        cpus = optional_text(system, f"{folder}/related_cpus").replace(" ", ", ")
        if highest and cpus:
            groups.append(Fact(f"highest clock of CPUs {cpus}", f"{highest / 1e6:.2f} GHz", folder))
    return groups if len({fact.value for fact in groups}) > 1 else []


def boost_switched_off(system: System) -> tuple[bool, str] | None:
    """Return whether boost is switched off and which file says so; None when none does."""
    path = f"{CPU}/intel_pstate/no_turbo"
    no_turbo = optional_number(system, path)
    if no_turbo is not None:
        return no_turbo == 1, path
    path = f"{CPU}/cpufreq/boost"
    boost = optional_number(system, path)
    return None if boost is None else (boost == 0, path)


def _caches(system: System, cpu_folder: str) -> list[Fact]:
    facts = []
    for index in system.list(f"{cpu_folder}/cache"):
        folder = f"{cpu_folder}/cache/{index}"
        level, size = optional_text(system, f"{folder}/level"), optional_text(system, f"{folder}/size")
        if level and size and optional_text(system, f"{folder}/type") != "Instruction":
            facts.append(Fact(f"level {level} cache", size, folder))
            shared = optional_text(system, f"{folder}/shared_cpu_list")
            if shared:
                facts.append(Fact(f"level {level} cache shared by CPUs", shared, f"{folder}/shared_cpu_list"))
    return facts


def _power_limits(system: System) -> list[Fact]:
    facts = []
    folder = "/sys/class/powercap"
    for zone in system.list(folder):
        if not re.fullmatch(r"[a-z-]+:\d+", zone) or not optional_text(system, f"{folder}/{zone}/name").startswith(
            "package"
        ):
            continue
        for number in range(3):
            stem = f"{folder}/{zone}/constraint_{number}"
            microwatts = optional_number(system, f"{stem}_power_limit_uw")
            name = optional_text(system, f"{stem}_name").replace("_", " ")
            if microwatts:
                facts.append(
                    Fact(f"power limit, {name or number}", f"{microwatts / 1e6:g} W", f"{stem}_power_limit_uw")
                )
    return facts


def cache_bytes(inventory: Inventory, level: int) -> int | None:
    """Return the size of the data or unified cache of a level, or None when the kernel does not report."""
    units = {"K": 1 << 10, "M": 1 << 20, "G": 1 << 30}
    for part in inventory.parts_of(PartKind.PROCESSOR):
        for fact in part.facts:
            match = re.fullmatch(r"(\d+)([KMG])", fact.value)
            if fact.name == f"level {level} cache" and match:
                return int(match[1]) * units[match[2]]
    return None


def allowed_clock_ghz(inventory: Inventory) -> float | None:
    """Return the highest clock that the settings allow in GHz, None when the kernel does not report."""
    for part in inventory.parts_of(PartKind.PROCESSOR):
        match = re.fullmatch(r"([\d.]+) GHz", part.fact("highest clock allowed"))
        if match:
            return float(match[1])
    return None


def processor_doubts(system: System) -> list[Doubt]:
    """Return what is not as it should be: boost switched off, a clock held down."""
    doubts = []
    off = boost_switched_off(system)
    if off is not None and off[0]:
        detail = f"the processor may not go above its base clock ({off[1]})"
        doubts.append(Doubt("P-130", "processor", PartKind.PROCESSOR, "Boost switched off", detail))
    for folder in clock_policies(system):
        allowed = optional_number(system, f"{folder}/scaling_max_freq")
        highest = optional_number(system, f"{folder}/cpuinfo_max_freq")
        if allowed and highest and allowed < highest * 0.95 and not (off and off[0]):
            cpus = optional_text(system, f"{folder}/related_cpus").replace(" ", ", ")
            of = f" for CPUs {cpus}" if "," in cpus else ""
            detail = f"{allowed / 1e6:.2f} of {highest / 1e6:.2f} GHz allowed{of} ({folder}/scaling_max_freq)"
            doubts.append(Doubt("P-131", "processor", PartKind.PROCESSOR, "Clock held down by a setting", detail))
            if not of:
                break  # each core has a policy of its own; one stands for all
    return doubts


def clock_policies(system: System) -> list[str]:
    """Return the folders of the clock policies, one for each group of cores that share a clock (cpufreq, "policy")."""
    policies = [name for name in system.list(f"{CPU}/cpufreq") if re.fullmatch(r"policy\d+", name)]
    ordered = sorted(policies, key=lambda name: int(name.removeprefix("policy")))
    return [f"{CPU}/cpufreq/{name}" for name in ordered] or [f"{CPU}/cpu0/cpufreq"]
