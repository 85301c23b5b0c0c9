"""Heat, power and clocks of a simulated machine, stepped in fixed slices of its own time.

The thermal network has one node a core die, then heat spreader, heatsink and case air, against a constant
ambient. Heat flows through conductances (W/K) into capacities (J/K):

    C dT/dt = P - G (T - T_neighbour)

Dynamic power of a core goes with activity times voltage squared times clock, leakage grows with
temperature. Firmware lowers the clock in steps at the temperature limit and at the power limit. All
constants are chosen to resemble a desktop machine with a tower cooler; they describe no product.
"""

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from thresher.simulator.fault_kinds import FaultKind
from thresher.simulator.scenario import Scenario

STEP_S = 0.1
_HOTTEST_C = 400.0
"""Where leakage grows no further: silicon conducts by itself long before."""

_DIE_CAPACITY = 1.6
_SPREADER_CAPACITY = 55.0
_SINK_CAPACITY = 190.0
_CASE_CAPACITY = 60.0
_DIE_TO_SPREADER = 1.15
_SPREADER_TO_SINK = 12.0
_SINK_TO_AIR_FULL_FAN = 5.6
_CASE_TO_AMBIENT = 24.0
_CLOCK_STEP_MHZ = 25.0
_IDLE_MHZ = 800.0
_AWAKE_AT_IDLE = 0.02
_COOLS_OVER_S = 240.0

Floats = npt.NDArray[np.float64]


@dataclass(slots=True)
class PhysicsState:
    """Everything that changes: temperatures in °C, clocks in MHz, energies in J, counters."""

    die_c: Floats
    spreader_c: float
    sink_c: float
    case_c: float
    clock_mhz: Floats
    cap_mhz: float
    core_power_w: Floats
    package_w: float = 0.0
    average_w: float = 0.0
    energy_j: float = 0.0
    cpu_fan_rpm: float = 700.0  # as they turn while the machine idles
    case_fan_rpm: float = 875.0
    throttling: bool = False
    throttle_count: int = 0
    throttle_ms: float = 0.0
    aperf: Floats = field(default_factory=lambda: np.zeros(1))
    mperf: Floats = field(default_factory=lambda: np.zeros(1))
    tsc: float = 0.0


class Physics:
    """The machine's heat and power; `step` advances them by `STEP_S`."""

    def __init__(self, scenario: Scenario, rng: np.random.Generator, step_s: float = STEP_S) -> None:
        """Start cool and idle; small differences between cores and sensors come from `rng`.

        `step_s` is the length of a slice, at most half a second: the dies are slower than that by three times only.
        """
        self._scenario = scenario
        self._step_s = step_s
        cores = scenario.processor.cores
        lost = (FaultKind.CLOGGED_HEATSINK, FaultKind.OVERHEATS)
        clogged = [fault.strength for fault in scenario.faults if fault.kind in lost]
        self._throttles = not any(fault.kind is FaultKind.OVERHEATS for fault in scenario.faults)
        self._sink_share = scenario.cooler_share * (1.0 - max(clogged, default=0.0))
        dry = [fault.strength for fault in scenario.faults if fault.kind is FaultKind.DRY_PASTE]
        self._paste_share = 1.0 - max(dry, default=0.0)
        self._fan_works = not any(fault.kind is FaultKind.DEAD_FAN for fault in scenario.faults)
        sags = [fault.strength for fault in scenario.faults if fault.kind is FaultKind.SAGGING_SUPPLY]
        self._supply_ohm = 0.006 + max(sags, default=0.0)
        self._core_scale = 1.0 + 0.03 * rng.standard_normal(cores)
        self._watts_per_v2_ghz = 0.78 * scenario.processor.power_limit_w / 142.0 * 8 / cores * 2.2
        self.busy = np.zeros(cores)
        self.edges = 0.0
        """How often a second the load comes on from nothing."""
        self.cards_w = 0.0
        """What the graphics cards draw above what they draw idle."""
        self.driven_rpm: dict[int, float] = {}
        """Speeds of fans that somebody drives: 1 the processor's, 2 the case's."""
        start = scenario.ambient_c
        self.state = PhysicsState(
            die_c=np.full(cores, start + 12.0),
            spreader_c=start + 11.0,
            sink_c=start + 10.0,
            case_c=start + 2.0,
            clock_mhz=np.full(cores, _IDLE_MHZ),
            cap_mhz=float(scenario.processor.boost_mhz),
            core_power_w=np.zeros(cores),
            aperf=np.zeros(cores),
            mperf=np.zeros(cores),
        )

    def voltage(self, clock_mhz: Floats | float) -> Floats:
        """Return core voltage in V at a clock in MHz: a straight line above a floor."""
        return np.maximum(0.75, 0.62 + 0.000137 * np.asarray(clock_mhz))

    def rail_12v(self) -> float:
        """Return the 12 V rail in V under the present power."""
        return 12.11 - self._supply_ohm * (self.state.package_w + self.cards_w + 38.0) / 12.0

    def fan_rpm(self) -> float:
        """Return what the processor fan's speed signal says: nothing when the fan stops."""
        return self.state.cpu_fan_rpm if self._fan_works else 0.0

    def step(self) -> None:
        """Advance by one slice."""
        self._set_clocks()
        self._set_powers()
        self._flow_heat()
        self._turn_fans()
        self._limit_clock()
        self._count()

    def rest(self, seconds: float) -> None:
        """Cool down for so long without power; what is left above the room falls with the heatsink's time constant."""
        state, ambient = self.state, self._scenario.ambient_c
        left = float(np.exp(-seconds / _COOLS_OVER_S))
        self.busy = np.zeros_like(self.busy)
        state.die_c = ambient + (state.die_c - ambient) * left
        for name in ("spreader_c", "sink_c", "case_c"):
            setattr(state, name, ambient + (getattr(state, name) - ambient) * left)
        state.average_w = 0.0

    def _count(self) -> None:
        """The clock counters: mperf at the base clock and aperf at the actual one, both only while awake."""
        state, base_hz = self.state, self._scenario.processor.base_mhz * 1e6
        awake = np.maximum(self.busy, _AWAKE_AT_IDLE)
        state.tsc += base_hz * self._step_s
        state.mperf += base_hz * self._step_s * awake
        state.aperf += state.clock_mhz * 1e6 * self._step_s * awake

    def _set_clocks(self) -> None:
        state, processor = self.state, self._scenario.processor
        active = int(np.count_nonzero(self.busy > 0.05))
        span = processor.boost_mhz - processor.all_core_mhz
        wanted = processor.boost_mhz - span * max(0, active - 2) / max(1, processor.cores - 2)
        state.clock_mhz = np.where(self.busy > 0.05, min(wanted, state.cap_mhz), _IDLE_MHZ)

    def _set_powers(self) -> None:
        state = self.state
        volts = self.voltage(state.clock_mhz)
        dynamic = self._watts_per_v2_ghz * self._core_scale * (0.04 + self.busy) * volts**2 * state.clock_mhz / 1000
        leakage = 0.9 * volts * np.exp((np.minimum(state.die_c, _HOTTEST_C) - 60.0) / 45.0)
        state.core_power_w = dynamic + leakage
        state.package_w = float(state.core_power_w.sum()) + 7.0
        state.average_w += (state.package_w - state.average_w) * self._step_s / 8.0
        state.energy_j += state.package_w * self._step_s

    def _flow_heat(self) -> None:
        state = self.state
        air_share = (0.25 + 0.75 * state.cpu_fan_rpm / 2000.0) if self._fan_works else 0.16
        sink_to_air = _SINK_TO_AIR_FULL_FAN * self._sink_share * air_share
        out_of_dies = _DIE_TO_SPREADER * (state.die_c - state.spreader_c)
        into_sink = _SPREADER_TO_SINK * self._paste_share * (state.spreader_c - state.sink_c)
        into_case = sink_to_air * (state.sink_c - state.case_c)
        out = _CASE_TO_AMBIENT * (state.case_c - self._scenario.ambient_c)
        uncore_w = state.package_w - float(state.core_power_w.sum())
        state.die_c = state.die_c + (state.core_power_w - out_of_dies) * self._step_s / _DIE_CAPACITY
        state.spreader_c += (float(out_of_dies.sum()) + uncore_w - into_sink) * self._step_s / _SPREADER_CAPACITY
        state.sink_c += (into_sink - into_case) * self._step_s / _SINK_CAPACITY
        state.case_c += (into_case + 30.0 + self.cards_w - out) * self._step_s / _CASE_CAPACITY

    def _turn_fans(self) -> None:
        state = self.state
        wanted = min(1.0, max(0.0, (float(state.die_c.max()) - 40.0) / 45.0)) * 1300.0 + 700.0
        processor, case = self.driven_rpm.get(1, wanted), self.driven_rpm.get(2, 700.0 + wanted * 0.25)
        state.cpu_fan_rpm += (processor - state.cpu_fan_rpm) * self._step_s / 4.0
        state.case_fan_rpm += (case - state.case_fan_rpm) * self._step_s / 6.0

    def _limit_clock(self) -> None:
        state, processor = self.state, self._scenario.processor
        clock_step = _CLOCK_STEP_MHZ * self._step_s / STEP_S
        hottest = float(state.die_c.max())
        too_hot = hottest >= processor.limit_c - 0.5 and self._throttles
        if too_hot and not state.throttling:
            state.throttle_count += 1
        if too_hot or hottest < processor.limit_c - 3.0:
            state.throttling = too_hot
        if state.throttling:
            state.throttle_ms += self._step_s * 1000
        if too_hot or state.average_w > processor.power_limit_w:
            state.cap_mhz = max(_IDLE_MHZ, state.cap_mhz - clock_step)
        elif (
            hottest < processor.limit_c - 1.5 or not self._throttles
        ) and state.average_w < processor.power_limit_w * 0.98:
            state.cap_mhz = min(float(processor.boost_mhz), state.cap_mhz + clock_step / 5)
