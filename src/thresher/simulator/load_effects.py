"""The simulated machine's part in loads: heat from what its cores do, and every fault that loads can meet."""

import math
from collections.abc import Iterator

import numpy as np

from thresher.model.endings import EndingKind
from thresher.model.errors import SourceUnavailable
from thresher.model.port import Beats, BitFlip, CellFault, CellFaultKind, Stress
from thresher.simulator.cards import CardState, card_address
from thresher.simulator.drive_faults import DRIVE_LINES, LINK_FAULTS
from thresher.simulator.drive_work import DriveState
from thresher.simulator.endings import ENDS_AS, way_of
from thresher.simulator.fault_kinds import MEMORY_CELL_FAULTS, Fault, FaultKind
from thresher.simulator.intermittent_faults import (
    ON_THE_WAY,
    RULES,
    BadSlot,
    Interconnect,
    IntermittentFaults,
    LooseContact,
    Moment,
    Pace,
)
from thresher.simulator.kernel_log import LogBuffer
from thresher.simulator.logged_faults import TALKS, Talker
from thresher.simulator.physics import STEP_S, Physics
from thresher.simulator.scenario import Scenario
from thresher.simulator.weak_core import CORRECTED_BANK, CORRECTED_STATUS, WeakCore

_GIB = 1 << 30
_HALF_AGAIN_C = 86.0
_ALL_AGAIN_C = 92.0
_FAR_NS, _NEAR_NS = 148.0, 62.0
_LOCKUP_SAID_AFTER_S = 22.0
"""The kernel's watchdog speaks of a soft lockup after about twice its threshold of 10 s."""

_ENDS_RUNS = (FaultKind.CORE_HANGS, *ENDS_AS)

_CELL_KINDS = {
    FaultKind.CELL_STUCK: CellFaultKind.STUCK,
    FaultKind.CELL_TRANSITION: CellFaultKind.TRANSITION,
    FaultKind.ADDRESS_LINE: CellFaultKind.ADDRESS_LINE,
    FaultKind.RETENTION: CellFaultKind.RETENTION,
}


class LoadEffects:
    """How a simulated machine takes part in loads."""

    beats_per_s = 2.0

    def __init__(self, scenario: Scenario, physics: Physics, streams: list[np.random.SeedSequence]) -> None:
        """`streams` has a source of chance for each fault."""
        self._scenario = scenario
        self._physics = physics
        self._cores = scenario.processor.cores
        self._stress: dict[int, Stress] = {}
        self._loads_relay = False
        self._now = 0.0
        self._hung: dict[int, float] = {}
        self._lockup_reported: set[int] = set()
        self._reset = False
        self.ended: EndingKind | None = None
        """In what way the machine has just come to an end; the machine takes it up."""
        self._weak: list[tuple[Fault, WeakCore]] = []
        self._intermittent: list[IntermittentFaults] = []
        self._links: list[Interconnect] = []
        self._contacts: list[LooseContact] = []
        self._slots: list[BadSlot] = []
        self._paces: dict[Fault, Pace] = {}
        self._talkers: list[Talker] = []
        self.drives: dict[str, DriveState] = {}
        self.cards: tuple[CardState, ...] = _cards(scenario, streams)
        self._endings: list[tuple[Fault, np.random.Generator]] = []
        for fault, stream in zip(scenario.faults, streams, strict=True):
            self._add(fault, np.random.default_rng(stream))

    def _add(self, fault: Fault, rng: np.random.Generator) -> None:
        if fault.spell_s or fault.drift:
            self._paces[fault] = Pace(fault, np.random.default_rng(rng.integers(0, 1 << 62)))
        if fault.kind is FaultKind.WEAK_CORE:
            self._weak.append((fault, WeakCore(fault.core, fault.strength, rng)))
        elif fault.kind in RULES:
            self._intermittent.append(IntermittentFaults(fault, rng))
        elif fault.kind is FaultKind.COHERENCE:
            self._links.append(Interconnect(fault, rng))
        elif fault.kind is FaultKind.SLOT_CONTACT:
            self._contacts.append(LooseContact(fault, rng))
        elif fault.kind is FaultKind.BAD_SLOT:
            self._slots.append(BadSlot(fault, rng))
        elif fault.kind in TALKS or fault.kind in DRIVE_LINES:
            self._talkers.append(Talker(fault, rng, self._drive_of(fault)))
        if fault.kind in _ENDS_RUNS:
            self._endings.append((fault, rng))

    def _drive_of(self, fault: Fault) -> str:
        """Return the drive that a fault is in: the one that it names, else the first that it can be in."""
        names = [drive.name for drive in self._scenario.drives]
        if fault.kind in LINK_FAULTS:
            names = [name for name in names if name.startswith("sd")] or names
        return fault.drive or (names[0] if names else "sda")

    # ---- what the engine says and asks

    def set_stress(self, stress: dict[int, Stress]) -> None:
        """Two threads on one core make it no busier than full."""
        self._stress = stress
        busy = np.zeros(self._cores)
        for cpu, each in stress.items():
            if cpu not in self._hung:
                busy[cpu % self._cores] += each.busy * each.heat * 0.9
        self._physics.busy = np.minimum(busy, 1.0)
        self._physics.edges = max((each.edges * each.heat for each in stress.values()), default=0.0)

    def take_flips(self, cpu: int, beats: Beats) -> list[BitFlip]:
        """Return the slips due on this CPU."""
        core = cpu % self._cores
        self._loads_relay = beats.load == "relay"
        if self._loads_relay:
            return [flip for link in self._links if link.fault.core == core for flip in link.take_flips(beats.count)]
        flips = [
            BitFlip(flip.beat, flip.word, flip.bit, self._again(core))
            for _, weak in self._weak
            if weak.core == core
            for flip in weak.take_flips(beats.count, beats.words)
        ]
        for frail in self._intermittent:
            if frail.fault.kind not in ON_THE_WAY or self._moves_memory(cpu):
                flips += frail.take_flips(core, beats.count, beats.words)
        if beats.load == "memory":
            for contact in self._contacts:
                flips += self._contact_flips(contact, cpu, beats)
        for slot in self._slots if self._moves_memory(cpu) else ():
            share = self._share_of_slot(slot.fault.slot, cpu)
            flips += slot.take_flips(beats.count, beats.words, share) if share is not None else []
        return flips

    def _again(self, core: int) -> int:
        """How many of three repeats are wrong too: a hot core slips again."""
        die_c = float(self._physics.state.die_c[core])
        return 3 if die_c > _ALL_AGAIN_C else 1 if die_c > _HALF_AGAIN_C else 0

    def _moves_memory(self, cpu: int) -> bool:
        return cpu in self._stress and self._stress[cpu].memory > 0

    def _contact_flips(self, contact: LooseContact, cpu: int, beats: Beats) -> list[BitFlip]:
        share = self._share_of_slot(contact.fault.slot, cpu)
        return contact.take_flips(self._now, beats.count, beats.words, share) if share is not None else []

    def _share_of_slot(self, slot: str, cpu: int) -> tuple[float, float] | None:
        """Return which part of a CPU's stretch of memory the module in a slot has, None for none of it."""
        cpus = sorted(self._stress)
        if cpu not in cpus:
            return None
        low, high = self._module_range(slot)
        begin, size = self._share(cpus.index(cpu), len(cpus))
        within = ((max(low, begin) - begin) / size, (min(high, begin + size) - begin) / size)
        return within if within[0] < within[1] else None

    def cell_faults(self, worker: int, workers: int, words: int) -> tuple[CellFault, ...]:
        """Return the cell faults in a worker's share."""
        begin, size = self._share(worker, workers)
        found = []
        for fault in self._scenario.faults:
            if fault.kind not in MEMORY_CELL_FAULTS:
                continue
            low, high = self._module_range(fault.slot)
            if fault.kind is FaultKind.ADDRESS_LINE:
                if low < begin + size and begin < high:
                    found.append(CellFault(CellFaultKind.ADDRESS_LINE, 0, int(fault.strength)))
                continue
            address = low + int((high - low) * fault.at)
            if begin <= address < begin + size:
                found.append(self._cell(fault, int((address - begin) / size * words), words))
        return tuple(found)

    def _cell(self, fault: Fault, word: int, words: int) -> CellFault:
        if fault.kind is FaultKind.CELL_COUPLED:
            neighbour = word - 3 if word >= 3 else word + 3
            kind = CellFaultKind.COUPLED_INVERTING if fault.strength == 2 else CellFaultKind.COUPLED_FORCING
            return CellFault(kind, word, fault.bit, int(fault.strength) % 2, min(neighbour, words - 1), fault.bit)
        value = 0 if fault.kind is FaultKind.RETENTION else int(fault.strength)
        return CellFault(_CELL_KINDS[fault.kind], word, fault.bit, value, seconds=fault.strength)

    def memory_share(self, worker: int, workers: int, words: int) -> tuple[int, int]:
        """Return where a worker's share begins and how many bytes a word stands for."""
        begin, size = self._share(worker, workers)
        return begin, size // words // 8 * 8

    def _share(self, worker: int, workers: int) -> tuple[int, int]:
        total = sum(module.size_gib for module in self._scenario.modules) * _GIB
        size = total // workers
        return worker * size, size

    def _module_range(self, slot: str) -> tuple[int, int]:
        """Modules lie one after the other; that firmware may say they are interleaved changes nothing here."""
        begin = 0
        for module in self._scenario.modules:
            end = begin + module.size_gib * _GIB
            if module.slot == slot:
                return begin, end
            begin = end
        return 0, 0

    def memory_temperature(self) -> float:
        """Modules warm with the air in the case and with their own work."""
        work = max((each.busy * each.memory for each in self._stress.values()), default=0.0)
        return self._physics.state.case_c + 8.0 + 14.0 * work

    def hung_cpus(self) -> frozenset[int]:
        """Return the CPUs of cores that hang."""
        return frozenset(cpu for cpu in self._stress if cpu % self._cores in self._hung)

    def take_reset(self) -> bool:
        """Whether the machine has ended by itself and started again since the last call; nothing hangs after that."""
        was, self._reset = self._reset, False
        return was

    def pair_time_ns(self, one: int, other: int) -> float:
        """Threads of one core are near, cores of one half further, the other half furthest."""
        a, b = one % self._cores, other % self._cores
        if a == b:
            return 24.0
        same_half = (a < self._cores // 2) == (b < self._cores // 2)
        return (_NEAR_NS if same_half else _FAR_NS) + 3.0 * abs(a - b)

    def open_card(self, pci: str) -> CardState:
        """Return a card by its PCI address. Raises SourceUnavailable."""
        for card in self.cards:
            if card.pci == pci:
                return card
        raise SourceUnavailable(pci, "there is no such card")

    # ---- time passing

    def step_heat(self, seconds: float) -> None:
        """Let the cards warm and cool for so long."""
        for card in self.cards:
            card.step_heat(seconds, self._physics.state.case_c)
        self._physics.cards_w = sum(max(0.0, card.power_w - card.idle_w) for card in self.cards)

    def step(self, log: LogBuffer, now: float, wall: float, seconds: float = STEP_S) -> None:
        """Let all faults live through a slice of so many seconds and log what the processor corrects."""
        self._now = now
        state = self._physics.state
        for fault, weak in self._weak:
            lived = self._lived(fault, now, seconds)
            weak.step(float(state.die_c[weak.core]), float(self._physics.busy[weak.core]), 0.0, lived)
            for address in weak.take_corrected():
                log.add_machine_check(now, wall, weak.core, weak.core * 2, CORRECTED_BANK, CORRECTED_STATUS, address)
        if self._intermittent:
            moments = dict(self._moments())
            for frail in self._intermittent:
                frail.step(moments, self._lived(frail.fault, now, seconds))
                for core, status, bank, address in frail.take_corrected():
                    log.add_machine_check(now, wall, core, core * 2, bank, status, address)
        self._live_on(log, now, seconds)

    def _lived(self, fault: Fault, now: float, seconds: float) -> float:
        """Return how many seconds of a slice a fault lives: more in its spells, fewer between them."""
        pace = self._paces.get(fault)
        return pace.seconds(now, seconds) if pace is not None else seconds

    def _live_on(self, log: LogBuffer, now: float, seconds: float) -> None:
        """Let links, contacts, what only talks and what ends a machine live through the slice."""
        for link in self._links:
            link.step(self._loads_relay and bool(self._stress), self._lived(link.fault, now, seconds))
        for contact in self._contacts:
            contact.step(now, self._lived(contact.fault, now, seconds))
        traffic = max((each.busy * each.memory for each in self._stress.values()), default=0.0)
        for slot in self._slots:
            low, high = self._module_range(slot.fault.slot)
            slot.step(traffic if high > low else 0.0, self._lived(slot.fault, now, seconds))
        for fault, rng in self._endings:
            self._perhaps_end(fault, rng, log, self._lived(fault, now, seconds))
        self._talk(log, now, seconds)
        for level, line in [line for card in self.cards for line in card.step_faults(seconds)]:
            log.add(now, level, line)
        for core in sorted(set(self._hung) - self._lockup_reported):
            if now - self._hung[core] >= _LOCKUP_SAID_AFTER_S:
                self._lockup_reported.add(core)
                log.add_lockup(now, core, int(now - self._hung[core]))

    def _talk(self, log: LogBuffer, now: float, seconds: float) -> None:
        """Let what only shows in the kernel log live through the slice."""
        uses = {name: drive.take_use(seconds) for name, drive in self.drives.items()} if self._talkers else {}
        for talker in self._talkers:
            drive, use = self.drives.get(talker.drive), uses.get(talker.drive, 0.0)
            lived = self._lived(talker.fault, now, seconds)
            for level, line in talker.step(float(self._physics.busy.mean()), lived, use):
                log.add(now, level, line)
                if drive is not None and talker.fault.kind in LINK_FAULTS:
                    drive.link_crc += 1

    def _moments(self) -> Iterator[tuple[int, Moment]]:
        state, highest = self._physics.state, self._scenario.processor.boost_mhz
        memory_c = self.memory_temperature()
        for cpu, stress in self._stress.items():
            core = cpu % self._cores
            if core not in self._hung:
                clock = float(state.clock_mhz[core]) / highest
                yield core, Moment(stress, float(state.die_c[core]), clock, memory_c)

    def _perhaps_end(self, fault: Fault, rng: np.random.Generator, log: LogBuffer, seconds: float) -> None:
        physics = self._physics
        cards = max((card.busy for card in self.cards), default=0.0)
        edges = max([physics.edges, *(card.edges for card in self.cards)])
        busy = min(1.0, float(physics.busy.mean()) + 0.7 * cards)
        if fault.kind is FaultKind.CORE_HANGS:
            works = float(physics.busy[fault.core])
            if fault.core not in self._hung and rng.random() < _chance(fault.strength * works, seconds):
                self._hung[fault.core] = self._now
                self.set_stress(self._stress)
            return
        chance = _chance(self._ends_per_hour(fault, busy, edges), seconds)
        if chance and self.ended is None and rng.random() < chance:
            self._reset = True
            self.ended = way_of(fault.kind, rng)
            self._stress = {}
            self._physics.busy = np.zeros(self._cores)
            self._physics.edges = 0.0
            self._hung.clear()
            self._lockup_reported.clear()
            for card in self.cards:
                card.restart()

    def _ends_per_hour(self, fault: Fault, busy: float, edges: float) -> float:
        """Return how often an hour a fault ends the machine under what it does now."""
        physics = self._physics
        match fault.kind:
            case FaultKind.SAGGING_SUPPLY:
                # the supply's own watch shuts off when an edge takes the rail below what its standard allows
                dips = edges > 0 and physics.rail_12v() - 0.35 * min(1.0, edges) < 11.0
                return 60.0 if dips else 0.0
            case FaultKind.BOARD_SUPPLY:
                heaviest = max((each.busy * each.heat for each in self._stress.values()), default=0.0)
                return fault.strength / 30.0 * heaviest**2
            case FaultKind.BOARD_CUTS:
                heaviest = max((each.busy * each.heat for each in self._stress.values()), default=0.0)
                return fault.strength * heaviest**3
            case FaultKind.CRASHING_CORE:
                core = fault.core
                return fault.strength * float(physics.busy[core] * np.exp((physics.state.die_c[core] - 85.0) / 20.0))
            case FaultKind.CRASHING_MEMORY:
                traffic = max((each.busy * each.memory for each in self._stress.values()), default=0.0)
                return fault.strength * max(traffic, 0.1 * busy)
            case FaultKind.CRASHING_SYSTEM:
                return fault.strength
            case FaultKind.OVERHEATS:
                return 720.0 if float(physics.state.die_c.max()) >= self._scenario.processor.limit_c + 5.0 else 0.0
            case _:
                return fault.strength * busy * (1.0 + edges)


def _cards(scenario: Scenario, streams: list[np.random.SeedSequence]) -> tuple[CardState, ...]:
    """Return the cards, each with the faults that are in it: those that name no card are in the first."""
    faults = list(zip(scenario.faults, streams, strict=True))
    return tuple(
        CardState(
            spec,
            card_address(index),
            [
                (fault, np.random.default_rng(stream.spawn(1)[0]))
                for fault, stream in faults
                if (fault.card or "card0") == f"card{index}"
            ],
        )
        for index, spec in enumerate(scenario.graphics)
    )


def _chance(per_hour: float, seconds: float) -> float:
    """Return how likely something that comes so often per hour comes within so many seconds."""
    return 1.0 - math.exp(-per_hour * seconds / 3600.0)
