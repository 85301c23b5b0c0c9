"""Clocks that the kernel reports of a logical CPU (kernel document admin-guide/pm/cpufreq), in MHz."""

from thresher.model.port import System, optional_number

_CPU = "/sys/devices/system/cpu"


def fastest_mhz(system: System, cpu: int) -> float | None:
    """Return the highest clock that a CPU may have, None where that is not reported."""
    khz = optional_number(system, f"{_CPU}/cpu{cpu}/cpufreq/cpuinfo_max_freq")
    return khz / 1000.0 if khz else None


def base_mhz(system: System, cpu: int) -> float | None:
    """Return the clock that a CPU holds with all cores at work, None where that is not reported."""
    khz = optional_number(system, f"{_CPU}/cpu{cpu}/cpufreq/base_frequency")
    if khz:
        return khz / 1000.0
    mhz = optional_number(system, f"{_CPU}/cpu{cpu}/acpi_cppc/nominal_freq")
    return float(mhz) if mhz else None
