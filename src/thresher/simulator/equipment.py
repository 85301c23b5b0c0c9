"""Batteries, network, driven fans and the board's clock of a simulated machine, as files and as a network port.

Files by the kernel documents ABI/testing/sysfs-class-power, ABI/testing/sysfs-class-net, hwmon/sysfs-interface and
ABI/testing/sysfs-class-rtc.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np

from thresher.model.errors import SourceUnavailable
from thresher.model.network_port import Address, BluetoothState, Fetched, Gateway, LookedUp, Neighbour, WirelessState
from thresher.simulator.fault_kinds import FaultKind
from thresher.simulator.files import Content, FileTable
from thresher.simulator.physics import Physics
from thresher.simulator.scenario import BatterySpec, InterfaceSpec, Scenario

_REST_W = 14.0
"""Display, board and drives of a notebook."""
_CHARGE_RATE = 0.5
"""Of its capacity an hour."""
_ROUTER, _SERVER = "192.168.7.1", "192.168.7.1"
_PORTAL = "http://sign-in.harbour.example/"
_ANSWER = "192.0.2.80"
"""TEST-NET-1 (RFC 5737)."""


def _strength(scenario: Scenario, kind: FaultKind) -> float | None:
    return next((fault.strength for fault in scenario.faults if fault.kind is kind), None)


@dataclass(slots=True)
class BatteryModel:
    """A battery with what it holds now, in Wh; positive `flow_w` charges it. `gauge` is how much of it is counted."""

    spec: BatterySpec
    full_wh: float
    now_wh: float
    gauge: float = 1.0
    counted_wh: float = 0.0
    flow_w: float = 0.0
    status: str = "Full"


class Equipment:
    """What hangs on a simulated machine beside its loaded parts."""

    def __init__(self, scenario: Scenario, physics: Physics, seed: int, wall: Callable[[], float]) -> None:
        """Build it as the scenario has it, with its faults."""
        self._scenario, self._physics, self._wall = scenario, physics, wall
        worn = _strength(scenario, FaultKind.BATTERY_WORN)
        gauge = _strength(scenario, FaultKind.BATTERY_GAUGE)
        weak = _strength(scenario, FaultKind.WEAK_ADAPTER)
        self.adapter_w = scenario.adapter_w if weak is None else weak
        self.batteries: list[BatteryModel] = []
        for spec in scenario.batteries:
            full = spec.design_wh * (spec.held - (worn or 0.0))
            model = BatteryModel(spec, full, full * spec.charge, 1.0 if gauge is None else 1.0 - gauge)
            model.counted_wh = model.now_wh
            self.batteries.append(model)
        self.network = SimulatedNetwork(scenario, np.random.default_rng([seed, 19]))
        self.step(0.0)

    def step(self, seconds: float) -> None:
        """Let the batteries live on for some seconds."""
        if not self.batteries:
            return
        needed = self._physics.state.package_w + _REST_W
        spare = self.adapter_w - needed
        for battery in self.batteries:
            top = battery.full_wh * battery.spec.stops_at
            if self.adapter_w > 0 and spare >= 0:
                room = battery.now_wh < top - 0.01
                battery.flow_w = min(spare, _CHARGE_RATE * battery.full_wh) if room else 0.0
                battery.status = "Charging" if room else "Full" if battery.spec.stops_at >= 1.0 else "Not charging"
            else:
                battery.flow_w = (spare if self.adapter_w > 0 else -needed) / len(self.batteries)
                battery.status = "Discharging"
            moved = battery.flow_w * seconds / 3600.0
            battery.now_wh = min(battery.full_wh, max(0.0, battery.now_wh + moved))
            battery.counted_wh = min(battery.full_wh, max(0.0, battery.counted_wh + moved * battery.gauge))

    def add_files(self, table: FileTable) -> None:
        """Add all files."""
        for battery in self.batteries:
            _add_battery(table, battery)
        if self._scenario.adapter_w or self.batteries:
            folder = "/sys/class/power_supply/AC0"
            table.add(f"{folder}/type", "Mains")
            table.add(f"{folder}/online", "1" if self.adapter_w > 0 else "0")
        for number, interface in enumerate(self._scenario.interfaces):
            _add_interface(table, number, interface, self.network)
        if self._scenario.interfaces:
            table.add("/etc/resolv.conf", f"nameserver {_SERVER}")
        self._add_clock(table)
        if self._scenario.driven_fans:
            self._add_duties(table)

    def _add_clock(self, table: FileTable) -> None:
        lost = _strength(self._scenario, FaultKind.CLOCK_BATTERY)

        def epoch() -> str:
            # a clock without current starts at its first day again, as long ago as the machine is up
            return f"{int(self._wall() if lost is None else 946684800.0 + 1800.0)}\n"

        table.add("/sys/class/rtc/rtc0/since_epoch", epoch)

    def _add_duties(self, table: FileTable) -> None:
        state = self._physics.state
        real = table.links["/sys/class/hwmon/hwmon1"]
        table.add(f"{real}/pwm1", lambda: _duty(state.cpu_fan_rpm))
        table.add(f"{real}/pwm2", lambda: _duty(state.case_fan_rpm))
        for number in (1, 2):
            table.add(f"{real}/pwm{number}_enable", "5")

    def open_fan(self, folder: str, number: int) -> "SimulatedFan":
        """Take control of a fan. Raises SourceUnavailable."""
        if not self._scenario.driven_fans or number not in (1, 2):
            raise SourceUnavailable(f"{folder}/pwm{number}", "not there")
        deaf = _strength(self._scenario, FaultKind.FAN_DEAF) == number
        return SimulatedFan(self._physics, number, deaf)


def _duty(rpm: float) -> str:
    return f"{max(0, min(255, int((rpm - 300.0) / 1700.0 * 255)))}\n"


class SimulatedFan:
    """A fan under control."""

    def __init__(self, physics: Physics, number: int, deaf: bool) -> None:
        """Take control of it."""
        self._physics, self._number, self._deaf = physics, number, deaf

    def drive(self, duty: int) -> None:
        """Drive it with a duty of 0 to 255."""
        if not self._deaf:
            self._physics.driven_rpm[self._number] = 300.0 + duty / 255.0 * 1700.0

    def close(self) -> None:
        """Put back how it was."""
        self._physics.driven_rpm.pop(self._number, None)

    def let_go(self) -> None:
        """Put back how it was."""
        self.close()


def _add_battery(table: FileTable, battery: BatteryModel) -> None:
    spec, folder = battery.spec, f"/sys/class/power_supply/{battery.spec.name}"
    contents: dict[str, Content | str] = {
        "type": "Battery",
        "present": "1",
        "technology": "Li-ion",
        "manufacturer": spec.maker,
        "model_name": spec.model,
        "serial_number": spec.serial,
        "cycle_count": str(spec.cycles),
        "status": lambda: f"{battery.status}\n",
        "capacity": lambda: f"{100 * battery.counted_wh / battery.full_wh:.0f}\n",
        "energy_full_design": str(int(spec.design_wh * 1e6)),
        "energy_full": str(int(battery.full_wh * 1e6)),
        "energy_now": lambda: f"{int(battery.counted_wh * 1e6)}\n",
        "power_now": lambda: f"{int(abs(battery.flow_w) * 1e6)}\n",
        "voltage_min_design": "11400000",
        "voltage_now": lambda: f"{int((10.8 + 1.8 * battery.now_wh / battery.full_wh) * 1e6)}\n",
        "temp": "312",
    }
    if spec.stops_at < 1.0:
        contents["charge_control_end_threshold"] = str(int(spec.stops_at * 100))
    for name, content in contents.items():
        table.add(f"{folder}/{name}", content)


def _add_interface(table: FileTable, number: int, spec: InterfaceSpec, network: "SimulatedNetwork") -> None:
    folder, device = f"/sys/class/net/{spec.name}", f"/sys/devices/pci0000:00/0000:00:1f.{6 + number}"
    linked = bool(spec.address) and not network.silent
    table.add(f"{device}/class", "0x028000" if spec.wireless else "0x020000")
    table.add(f"{device}/vendor", "0x1f4e")
    table.link(f"{folder}/device", device)
    table.add(f"{folder}/operstate", "up" if linked else "down")
    table.add(f"{folder}/carrier", "1" if linked else "0")
    table.add(f"{folder}/address", f"02:00:5e:00:07:{10 + number:02x}")
    if spec.wireless:
        table.add(f"{folder}/wireless/retries", "0")
    else:
        table.add(f"{folder}/speed", str(network.speed(spec)) if linked else "-1")
        table.add(f"{folder}/duplex", "full")
    for name in ("rx_errors", "rx_crc_errors"):
        table.add(f"{folder}/statistics/{name}", lambda: f"{network.errors}\n")
    for name in ("tx_errors", "rx_dropped", "tx_dropped", "collisions"):
        table.add(f"{folder}/statistics/{name}", "0")
    for name in ("rx_packets", "tx_packets"):
        table.add(f"{folder}/statistics/{name}", lambda: f"{network.packets}\n")


@dataclass(slots=True)
class SimulatedNetwork:
    """The network of a simulated machine, with what is wrong in it."""

    scenario: Scenario
    rng: np.random.Generator
    packets: int = 48210
    errors: int = 0
    loss: float = field(init=False)
    silent: bool = field(init=False)
    wrong_names: bool = field(init=False)
    portal: bool = field(init=False)
    provider_down: bool = field(init=False)
    weak_dbm: float | None = field(init=False)
    adapter: Callable[[], BluetoothState | None] = field(init=False, default=lambda: None)

    def __post_init__(self) -> None:
        """Take over the faults of the scenario."""
        self.loss = _strength(self.scenario, FaultKind.NETWORK_CABLE) or 0.0
        self.silent = _strength(self.scenario, FaultKind.NETWORK_PORT) is not None
        self.wrong_names = _strength(self.scenario, FaultKind.WRONG_NAMES) is not None
        self.portal = _strength(self.scenario, FaultKind.SIGN_IN) is not None
        self.provider_down = _strength(self.scenario, FaultKind.PROVIDER_DOWN) is not None
        self.weak_dbm = _strength(self.scenario, FaultKind.WEAK_RADIO)

    def speed(self, spec: InterfaceSpec) -> int:
        """Return the speed of a wired link in Mbit/s: a cable that loses much negotiates less."""
        return 100 if self.loss > 0.15 else spec.speed_mbit

    def _usable(self) -> Sequence[InterfaceSpec]:
        return [] if self.silent else [each for each in self.scenario.interfaces if each.address]

    def addresses(self) -> tuple[Address, ...]:
        """Return all addresses."""
        return tuple(Address(each.name, each.address, 24) for each in self._usable())

    def gateways(self) -> tuple[Gateway, ...]:
        """Return the default routes."""
        return tuple(Gateway(each.name, _ROUTER) for each in self._usable())

    def ping(self, address: str, seconds: float, size: int = 56) -> float | None:
        """Send one echo request; large packets meet a bad cable more often."""
        del seconds
        self.packets += 1
        wired = any(not each.wireless for each in self._usable())
        lost = self.loss * (1.0 if size > 500 else 0.6) if wired else 0.0
        if address != _ROUTER or not self._usable():
            return None
        if self.rng.random() < lost:
            self.errors += 1
            return None
        return 0.35 + float(self.rng.exponential(0.08)) + (0.0 if wired else 1.8)

    def look_up(self, server: str, name: str, seconds: float) -> LookedUp | None:
        """Ask a name server."""
        del seconds
        if server != _SERVER or not self._usable():
            return None
        if self.wrong_names:
            return LookedUp(("198.51.100.9",), "NOERROR", 9.0)  # TEST-NET-2: a server that makes answers up
        if name.endswith(".invalid"):
            return LookedUp((), "NXDOMAIN", 14.0)
        if self.provider_down:
            return LookedUp((), "SERVFAIL", 2800.0)
        return LookedUp((_ANSWER,), "NOERROR", 14.0)

    def fetch(self, url: str, seconds: float) -> Fetched | None:
        """Fetch a page."""
        del url, seconds
        if not self._usable() or self.provider_down or self.wrong_names:
            return None
        if self.portal:
            return Fetched(302, _PORTAL, "")
        return Fetched(200, "", "<title>Example Domain</title>")

    def bluetooth(self, adapter: str) -> BluetoothState | None:
        """Return the state of the Bluetooth adapter."""
        return self.adapter() if adapter == "hci0" else None

    def wireless(self, interface: str) -> WirelessState | None:
        """Return what a wireless interface is connected to."""
        if not any(each.name == interface and each.wireless and each.address for each in self.scenario.interfaces):
            return None
        dbm = self.weak_dbm if self.weak_dbm is not None else -52.0
        near = (Neighbour("harbour-office", 2437, -61.0), Neighbour("ferry-guests", 2462, -66.0))
        return WirelessState(interface, "quay-7", 5180, dbm, 433.3 if dbm > -75 else 13.0, near)
