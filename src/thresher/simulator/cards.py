"""Simulated graphics cards: they take commands, draw frames, get hot, and show the faults that are in them.

Chains, frames and patterns are worked out here on their own: nothing is shared with what compares them. Lines of the
kernel log are in the forms of drivers/gpu/drm/amd/amdgpu and drivers/pci/pcie/aer.c.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np

from thresher.model.card_port import CardLoss, CardLost, CardPort, CardUse
from thresher.simulator.card_picture import FRAMES, picture
from thresher.simulator.drive_faults import Line
from thresher.simulator.fault_kinds import Fault, FaultKind
from thresher.simulator.logged_faults import hang_line, link_line
from thresher.simulator.scenario import GraphicsSpec

_GIB = 1 << 30
_ERROR = 3
_WORDS = 1 << 14
_WIDE, _HIGH = 384, 216

_HEAT = {CardUse.COMPUTE: 0.95, CardUse.RASTER: 1.0, CardUse.MEMORY: 0.7, CardUse.TRANSFER: 0.35}
"""Power that each use draws, as a share of the card's most."""

_CORE_J_PER_K, _IDLE_W, _FULL_FAN_RPM = 160.0, 11.0, 2600.0
_RESTING_FAN_C = 50.0
_THROTTLE_K = 4.0
"""The card lowers its clock this many kelvin before the temperature at which it would switch off."""
_STEP_S = 0.5


@dataclass(frozen=True, slots=True)
class _Rule:
    """How a fault shows: how hard each use strains the place, the share of its signs that hang or drop the card.

    `heat_k` more kelvin make it e times as frequent (0: heat does not matter), `edges` says how much more often it
    comes for each time a second that work comes on from nothing."""

    strains: dict[CardUse, float]
    hangs: float = 0.0
    drops: float = 0.0
    heat_k: float = 0.0
    edges: float = 0.0


_WORKED_HARD = 6.0
"""How much more a card is used at full load than by a person at the machine."""
RULES: dict[FaultKind, _Rule] = {
    FaultKind.CARD_CORE: _Rule(
        {CardUse.COMPUTE: 1.0, CardUse.RASTER: 0.8, CardUse.MEMORY: 0.05, CardUse.TRANSFER: 0.02}, 0.12, heat_k=12.0
    ),
    FaultKind.CARD_MEMORY: _Rule(
        {CardUse.COMPUTE: 0.04, CardUse.RASTER: 0.12, CardUse.MEMORY: 1.0, CardUse.TRANSFER: 0.15}, 0.02
    ),
    FaultKind.CARD_CLOCKS: _Rule(
        {CardUse.COMPUTE: 1.0, CardUse.RASTER: 1.0, CardUse.MEMORY: 0.4, CardUse.TRANSFER: 0.1}, 0.3, heat_k=25.0
    ),
    FaultKind.CARD_DRIVER: _Rule(
        {CardUse.COMPUTE: 0.6, CardUse.RASTER: 1.0, CardUse.MEMORY: 0.5, CardUse.TRANSFER: 0.6}, 1.0
    ),
    FaultKind.GRAPHICS_HANGS: _Rule(dict.fromkeys(CardUse, _WORKED_HARD), 1.0),
    FaultKind.CARD_PLUG: _Rule(
        {CardUse.COMPUTE: 0.95, CardUse.RASTER: 1.0, CardUse.MEMORY: 0.5, CardUse.TRANSFER: 0.1}, 0.15, 0.85, edges=1.0
    ),
    FaultKind.SLOT_LINK: _Rule(
        {CardUse.COMPUTE: 0.02, CardUse.RASTER: 0.3, CardUse.MEMORY: 0.05, CardUse.TRANSFER: 6.0}, 0.0, 0.03
    ),
}
"""Faults that show while a card is worked."""

CARD_FAULTS = (*RULES, FaultKind.CARD_COOLER, FaultKind.CARD_FAN, FaultKind.DISPLAY_CABLE)


@dataclass(slots=True)
class _ActiveFault:
    fault: Fault
    rng: np.random.Generator
    due: int = 0


def card_address(index: int) -> str:
    """Return the PCI address of a card of the scenario."""
    return f"0000:0{index + 1}:00.0"


class CardState:
    """One card of a simulated machine: what it does, how warm it is, what is wrong with it."""

    def __init__(self, spec: GraphicsSpec, pci: str, faults: Sequence[tuple[Fault, np.random.Generator]]) -> None:
        """Cold and idle."""
        self.spec, self.pci = spec, pci
        self._active = [_ActiveFault(fault, rng) for fault, rng in faults if fault.kind in CARD_FAULTS]
        kinds = [each.fault for each in self._active]
        blocked = [each.strength for each in kinds if each.kind is FaultKind.CARD_COOLER]
        self._flow = 1.0 - max(blocked, default=0.0)
        self._fan_works = not any(each.kind is FaultKind.CARD_FAN for each in kinds)
        self._use, self._share, self._edges = CardUse.COMPUTE, 0.0, 0.0
        self.loss: CardLoss | None = None
        self.core_c = spec.idle_c
        self.power_w = _IDLE_W
        self.clock_mhz = float(spec.idle_mhz)
        self._cap_mhz = float(spec.boost_mhz)
        self.fan_rpm = 0.0
        self.memory_used = 0.3 * _GIB
        self.width = 16
        self.throttled = False
        self.memory = np.zeros(_WORDS, dtype=np.uint32)
        self._seen: list[str] = []
        self._noise = np.random.default_rng(5)

    # ---- what it reports

    @property
    def idle_w(self) -> float:
        """What it draws while it does nothing."""
        return _IDLE_W

    @property
    def busy(self) -> float:
        """The share of its time that it works, 0 to 1."""
        return 0.0 if self.loss is not None else self._share

    @property
    def edges(self) -> float:
        """How often a second its work comes on from nothing."""
        return self._edges if self.busy else 0.0

    @property
    def hot_c(self) -> float:
        """The hottest spot of the die: further above the rest the more it draws."""
        return self.core_c + 3.0 + 14.0 * (self.power_w - _IDLE_W) / max(1.0, self.spec.power_w - _IDLE_W)

    @property
    def memory_c(self) -> float:
        """The temperature of its memory chips."""
        work = self.busy * (1.0 if self._use is CardUse.MEMORY else 0.5)
        return self.core_c - 2.0 + 14.0 * work

    @property
    def gone(self) -> bool:
        """Whether it is off the bus."""
        return self.loss is CardLoss.GONE

    # ---- commands

    def keep_busy(self, use: CardUse, share: float, edges: float) -> None:
        """Work on commands of this use for this share of the time from now on."""
        self._use, self._share, self._edges = use, share, edges

    def check(self) -> None:
        """Raise CardLost when it does not answer."""
        if self.loss is not None:
            raise CardLost(self.loss)

    def open(self) -> None:
        """A driver begins with it again: one that hung has been reset by then, one off the bus stays away."""
        if self.loss is CardLoss.GONE:
            raise CardLost(CardLoss.GONE)
        self.loss = None

    def take_due(self, *kinds: FaultKind) -> list[Fault]:
        """Return the faults of these kinds that have to show in the next result, each as often as it is due."""
        found: list[Fault] = []
        for each in self._active:
            if each.fault.kind in kinds:
                found += [each.fault] * min(each.due, 8)
                each.due = 0
        return found

    def spoil(self, content: np.ndarray, faults: list[Fault]) -> None:
        """Turn a bit of a random word over for each fault."""
        for fault in faults:
            rng = self.chance_of(fault)
            words = content.view(np.uint32).reshape(-1)
            words[int(rng.integers(0, len(words)))] ^= np.uint32(1 << int(rng.integers(0, 32)))

    def spoil_frame(self, frame: np.ndarray, faults: list[Fault]) -> None:
        """Draw some pixels wrong for each fault: a small tile for the core, one bit of one pixel for the memory."""
        for fault in faults:
            rng = self.chance_of(fault)
            high, wide = frame.shape[:2]
            top, left = int(rng.integers(0, high - 9)), int(rng.integers(0, wide - 9))
            if fault.kind is FaultKind.CARD_MEMORY:
                frame[top, left, int(rng.integers(0, 3))] ^= np.uint8(1 << (fault.bit % 8))
                continue
            tall, broad = int(rng.integers(1, 9)), int(rng.integers(2, 9))
            frame[top : top + tall, left : left + broad, :3] ^= np.uint8(0x5B)
            self._seen.append("dots")

    def chance_of(self, fault: Fault) -> np.random.Generator:
        """Return the source of chance of a fault."""
        return next(each.rng for each in self._active if each.fault is fault)

    def take_seen(self) -> list[str]:
        """Return what somebody who watches its display has seen since the last call."""
        seen, self._seen = self._seen, []
        return seen

    def noise(self) -> float:
        """Return a small number around 1: frames are never quite as long as each other."""
        return 1.0 + 0.04 * float(self._noise.standard_normal())

    # ---- time passing

    def step_heat(self, seconds: float, case_c: float) -> None:
        """Live for so long in air of this temperature."""
        while seconds > 1e-9:
            slice_s = min(_STEP_S, seconds)
            self._heat(slice_s, case_c)
            seconds -= slice_s

    def _heat(self, seconds: float, case_c: float) -> None:
        spec, busy = self.spec, self.busy
        limit = spec.limit_c - _THROTTLE_K
        self.throttled = busy > 0.05 and self.hot_c >= limit - 0.5
        if self.hot_c >= limit:
            self._cap_mhz = max(spec.idle_mhz, self._cap_mhz - 60.0 * seconds)
        elif self.hot_c < limit - 3.0:
            self._cap_mhz = min(spec.boost_mhz, self._cap_mhz + 20.0 * seconds)
        self.clock_mhz = self._cap_mhz if busy > 0.02 else float(spec.idle_mhz)
        at_clock = (self.clock_mhz / spec.boost_mhz) ** 2
        self.power_w = _IDLE_W + (spec.power_w - _IDLE_W) * busy * _HEAT[self._use] * at_clock
        if self.gone:
            self.power_w = 0.0
        wanted = float(np.clip((self.core_c - _RESTING_FAN_C) / 30.0, 0.0, 1.0))
        target = 0.0 if not self._fan_works or self.core_c < _RESTING_FAN_C else 700.0 + wanted * (_FULL_FAN_RPM - 700)
        self.fan_rpm += (target - self.fan_rpm) * min(1.0, seconds / 3.0)
        if not target and self.fan_rpm < 60:
            self.fan_rpm = 0.0
        # at full power and a full fan a clean card is some 45 K above the air in the case
        air = (0.22 + 0.78 * self.fan_rpm / _FULL_FAN_RPM) * self._flow
        conductance = air * spec.power_w / 45.0 + _IDLE_W / max(6.0, spec.idle_c - 24.0) * 0.25
        self.core_c += (self.power_w - conductance * (self.core_c - case_c)) * seconds / _CORE_J_PER_K
        self.memory_used = (0.3 + (0.9 * spec.memory_gib if self._use is CardUse.MEMORY else 1.4) * (busy > 0)) * _GIB

    def step_faults(self, seconds: float) -> list[Line]:
        """Let the faults live through so many seconds; return what the kernel logs of them."""
        lines: list[Line] = []
        for each in self._active:
            if each.fault.kind is FaultKind.DISPLAY_CABLE:
                if self.busy and self._use is CardUse.RASTER:
                    count = int(each.rng.poisson(each.fault.strength * seconds / 3600.0))
                    self._seen += [str(each.rng.choice(["flicker", "dots", "black", "stripes"])) for _ in range(count)]
                continue
            rule = RULES.get(each.fault.kind)
            if rule is not None and self.busy and self.loss is None:
                lines += self._show(each, rule, seconds)
        return lines

    def _show(self, each: _ActiveFault, rule: _Rule, seconds: float) -> list[Line]:
        per_hour = each.fault.strength * rule.strains[self._use] * self.busy * (1.0 + rule.edges * self._edges)
        if rule.heat_k:
            per_hour *= float(np.exp(np.clip((self.hot_c - 80.0) / rule.heat_k, -5.0, 3.0)))
        lines: list[Line] = []
        for _ in range(min(50, int(each.rng.poisson(per_hour * seconds / 3600.0)))):
            sort = each.rng.random()
            if sort < rule.hangs:
                self.loss = CardLoss.HUNG
                lines.append(hang_line(each.rng))
                break
            if sort < rule.hangs + rule.drops:
                self.loss = CardLoss.GONE
                lines += _gone(self.pci)
                break
            each.due += 1
            if each.fault.kind is FaultKind.SLOT_LINK:
                self.width = 8 if each.rng.random() < 0.3 else self.width
                lines.append(link_line(each.rng))
        return lines

    def restart(self) -> None:
        """The machine has been started again."""
        self.loss, self.width, self._share = None, 16, 0.0


def _gone(pci: str) -> list[Line]:
    return [(_ERROR, f"amdgpu {pci}: amdgpu: device lost from bus!")]


@lru_cache(maxsize=16)
def _chains(seed: int, lanes: int, turns: int) -> bytes:
    """Work the chains out lane by lane in whole numbers of Python, cut to 32 bits after each step."""
    mask = 0xFFFFFFFF
    out = bytearray()
    for lane in range(lanes):
        x = lane ^ seed
        x = ((x ^ x >> 16) * 0x7FEB352D) & mask
        x = ((x ^ x >> 15) * 0x846CA68B) & mask
        x ^= x >> 16
        for _ in range(turns):
            x = (x * 1664525 + 1013904223) & mask
            x ^= x << 13 & mask
            x ^= x >> 17
            x ^= x << 5 & mask
        out += x.to_bytes(4, "little")
    return bytes(out)


@dataclass(slots=True)
class SimulatedCard(CardPort):
    """The commands of a simulated card."""

    state: CardState
    frame_size: tuple[int, int] = (_WIDE, _HIGH)
    words: int = _WORDS
    memory_bytes: int = field(init=False)

    def __post_init__(self) -> None:
        """Take what the card has."""
        self.memory_bytes = self.state.spec.memory_gib * _GIB

    def keep_busy(self, use: CardUse, share: float, edges_per_s: float = 0.0) -> None:
        """Send commands of one use for this share of the time from now on."""
        self.state.keep_busy(use, share, edges_per_s)

    def chains(self, seed: int, lanes: int, turns: int) -> bytes:
        """Return what the chains come to."""
        self.state.check()
        found = np.frombuffer(_chains(seed, lanes, turns), dtype=np.uint32).copy()
        self.state.spoil(found, self.state.take_due(FaultKind.CARD_CORE, FaultKind.CARD_CLOCKS, FaultKind.CARD_MEMORY))
        return found.tobytes()

    def draw(self, number: int) -> bytes:
        """Draw a frame."""
        self.state.check()
        frame = picture(number % FRAMES, *self.frame_size).copy()
        kinds = (FaultKind.CARD_CORE, FaultKind.CARD_CLOCKS, FaultKind.CARD_MEMORY)
        self.state.spoil_frame(frame, self.state.take_due(*kinds))
        return frame.tobytes()

    def write(self, begin: int, content: bytes) -> None:
        """Write words."""
        self.state.check()
        words = np.frombuffer(content, dtype=np.uint32)
        self.state.memory[begin : begin + len(words)] = words

    def read(self, begin: int, words: int) -> bytes:
        """Read words; a bad region of the memory has lost bits of one lane by then."""
        self.state.check()
        found = self.state.memory[begin : begin + words].copy()
        for fault in self.state.take_due(FaultKind.CARD_MEMORY):
            at = int(fault.at * self.words) + int(self.state.chance_of(fault).integers(0, 24)) - begin
            if 0 <= at < words:
                found[at] ^= np.uint32(1 << (fault.bit % 32))
        self.state.spoil(found, self.state.take_due(FaultKind.CARD_CORE, FaultKind.CARD_CLOCKS))
        return found.tobytes()

    def send_back(self, content: bytes) -> bytes:
        """Send data over the link and back."""
        self.state.check()
        found = np.frombuffer(content, dtype=np.uint32).copy()
        damaged = [
            each for each in self.state.take_due(FaultKind.SLOT_LINK) if self.state.chance_of(each).random() < 0.05
        ]
        self.state.spoil(found, damaged)
        self.state.spoil(found, self.state.take_due(FaultKind.CARD_MEMORY, FaultKind.CARD_CLOCKS, FaultKind.CARD_CORE))
        return found.tobytes()

    def frame_ms(self) -> float:
        """Return how long the next frame takes."""
        clock = max(100.0, self.state.clock_mhz)
        return 6.2 * self.state.spec.boost_mhz / clock * self.state.noise()

    def bytes_per_s(self) -> float:
        """Return how fast its link is: 1.97 GB/s a lane at 16 GT/s, 128b/130b."""
        return 1.97e9 * self.state.width
