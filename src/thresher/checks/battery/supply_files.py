"""What the kernel reports of batteries and adapters (kernel document ABI/testing/sysfs-class-power).

Energy in µWh or charge in µAh, power in µW or current in µA, voltages in µV, temperature in tenths of a degree.
"""

from dataclasses import dataclass

from thresher.model.port import System, optional_number, optional_text

_SUPPLY = "/sys/class/power_supply"


@dataclass(frozen=True, slots=True)
class BatteryState:
    """A battery now: Wh, W (always positive), V, °C; None where it is not reported. `charge` is a share of full."""

    name: str
    status: str
    charge: float | None
    now_wh: float | None
    full_wh: float | None
    design_wh: float | None
    power_w: float | None
    voltage_v: float | None
    temperature_c: float | None
    cycles: int | None
    stops_at: float | None


@dataclass(frozen=True, slots=True)
class AdapterState:
    """An adapter: whether it is plugged in, and what it may give in W where it says so."""

    name: str
    kind: str
    online: bool
    power_w: float | None


def batteries(system: System) -> list[BatteryState]:
    """Return the machine's own batteries, not those of a mouse."""
    found = []
    for name in system.list(_SUPPLY):
        here = f"{_SUPPLY}/{name}"
        own = optional_text(system, f"{here}/type") == "Battery" and optional_text(system, f"{here}/scope") != "Device"
        if own and optional_number(system, f"{here}/present") != 0:
            found.append(_battery(system, here, name))
    return found


def _battery(system: System, here: str, name: str) -> BatteryState:
    def number(stem: str, divisor: float = 1e6) -> float | None:
        value = optional_number(system, f"{here}/{stem}")
        return None if value is None else value / divisor

    volts = number("voltage_now")
    nominal = number("voltage_min_design") or volts

    def energy(which: str) -> float | None:
        direct = number(f"energy_{which}")
        if direct is not None:
            return direct
        charge = number(f"charge_{which}")
        return charge * nominal if charge is not None and nominal else None

    now, full = energy("now"), energy("full")
    power, amperes = number("power_now"), number("current_now")
    if power is None and amperes is not None and volts is not None:
        power = amperes * volts
    percent = optional_number(system, f"{here}/capacity")
    charge = percent / 100.0 if percent is not None else now / full if now is not None and full else None
    cycles = optional_number(system, f"{here}/cycle_count")
    stops_at = optional_number(system, f"{here}/charge_control_end_threshold")
    return BatteryState(
        name,
        optional_text(system, f"{here}/status"),
        charge,
        now,
        full,
        energy("full_design"),
        abs(power) if power is not None else None,
        volts,
        number("temp", 10.0),
        cycles or None,
        stops_at / 100.0 if stops_at else None,
    )


def adapters(system: System) -> list[AdapterState]:
    """Return the adapters that the kernel knows of, plugged in or not."""
    found = []
    for name in system.list(_SUPPLY):
        here = f"{_SUPPLY}/{name}"
        kind = optional_text(system, f"{here}/type")
        if kind in ("Mains", "USB", "UPS", "Wireless") and optional_text(system, f"{here}/scope") != "Device":
            volts, amperes = (optional_number(system, f"{here}/{stem}_max") for stem in ("voltage", "current"))
            watts = volts * amperes / 1e12 if volts and amperes else None
            found.append(AdapterState(name, kind, optional_number(system, f"{here}/online") == 1, watts))
    return found
