"""Carrying out a run on a simulated machine without workers and without waiting.

The machine warms up in slices of half a second while sampler, watchers, kernel log and storms work as they do on the
bench; from then on it holds its temperatures and only its faults live on, in slices of half a minute. Slips become the
events that a team of workers reports; cells of memory are walked through for real, a pass for all passes at one
temperature. `bench/proving_short_cut.py` compares this with the engine and its workers.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

from thresher.checks.check import Reading
from thresher.checks.registry import CHECKS
from thresher.decoding.recognise import Tables
from thresher.drives.findings import health_findings
from thresher.drives.reading import drives_of, read_health
from thresher.endings.conclude import OpenEnd, conclude, with_answer
from thresher.endings.traces import LeftBehind, read_traces
from thresher.engine.run.check_step import finding_of_result
from thresher.engine.run.record import temperature_at
from thresher.engine.run.team_findings import (
    Storms,
    finding_of_hang,
    finding_of_team_event,
    with_circumstances,
)
from thresher.engine.watch.readings import Watchers
from thresher.events.findings import KernelDecoder, apic_ids
from thresher.events.kernel_log import KernelLogFollower
from thresher.events.machine_checks.registers import vendor_of
from thresher.graphics.cards import cards_of
from thresher.inventory.machine import read_inventory
from thresher.loads.drive_loads import DRIVE_LOADS
from thresher.loads.exercise import WrongWord
from thresher.loads.graphics_loads import GRAPHICS_LOADS
from thresher.loads.memory.walk import SIMULATED_CHUNK, MemoryWalk, SimulatedStretch, WrongCell
from thresher.loads.plan import LoadPlan
from thresher.loads.registry import LOADS
from thresher.loads.team.events import MemoryWrongSeen, MismatchSeen
from thresher.loads.team.messages import MemoryWrong, Mismatch
from thresher.model.channels import Channel, Tick
from thresher.model.checks import CheckOutcome, exposure_of_check
from thresher.model.endings import LastMoments, Moment, findings_of_ending
from thresher.model.exposure import ExposureMeter
from thresher.model.findings import Finding
from thresher.model.memory_patterns import SHORT
from thresher.model.parts import PartKind
from thresher.model.port import Beats, BitFlip, Stress, optional_text
from thresher.model.verdict import EVERYDAY_USE, Exposure
from thresher.proving.card_work import CardWork
from thresher.proving.check_work import CheckWork
from thresher.proving.drive_work import DriveWork
from thresher.sensors.discovery import discover
from thresher.sensors.sampler import Sampler
from thresher.sensors.vital import vital_channels
from thresher.simulator.fault_kinds import MEMORY_CELL_FAULTS, FaultKind
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.memory_cells import SimulatedCells
from thresher.simulator.scenario import Scenario

_STEP_S = 0.5
_TICK_S = 10.0
_SETTLED_K, _SETTLED_OVER_S = 0.5, 40.0
"""A machine has warmed up when its hottest reading moves by less than this over that time, or after the longest."""
_LONGEST_WARM_UP_S = 900.0
_HOLD_S = 30.0
_SPELLS_HOLD_S = 5.0
"""Contacts are bad in spells of seconds; they are looked at as often."""
_EVERYDAY_HOLD_S = 300.0
_WORDS = SIMULATED_CHUNK
"""Words that stand for a worker's share: one chunk is enough for every kind of cell fault."""
_PASS_S = 60.0
"""A pass of the short patterns over 16 GiB takes about a minute."""
_CARD_WARM_UP_S = 300.0
_REPEATS = 3
_ENOUGH_WRONG = 8
"""Wrong words of one pass that are looked at; a dead address line has them in every share."""
CHECKED = (
    "clock battery",
    "battery wear",
    "battery rate",
    "adapter",
    "network cable",
    "wireless",
    "fans driven",
    "picture",
    "brightness",
    "touch",
    "keys",
    "pointer",
    "speakers",
    "microphone",
    "camera",
    "USB ports",
    "card reader",
    "optical drive",
    "bluetooth",
)
"""A round with a person over what no load shows."""
_EVERYDAY = Stress(busy=0.12, heat=0.5, wide=False, memory=0.2)


@dataclass(frozen=True, slots=True)
class Stint:
    """So many minutes of one load on all CPUs."""

    load: str
    minutes: float
    patterns: tuple[str, ...] = SHORT
    wait_s: float = 0.0


@dataclass(frozen=True, slots=True)
class Carried:
    """What came of a run: findings, minutes under load, and how long it took."""

    findings: tuple[Finding, ...]
    exposures: tuple[Exposure, ...]
    minutes: float


class QuickBench:
    """One simulated machine on a bench without workers, for one run."""

    def __init__(self, scenario: Scenario, tables: Tables, run: int | None) -> None:
        """Read what the machine is, cold; `run` is the number that findings carry."""
        self._model = SimulatedMachine(scenario, 0.0, _STEP_S)
        self._work = self._model.work
        self._scenario, self._run = scenario, run
        self._inventory = read_inventory(self._model)
        self._sampler = Sampler(self._model, discover(self._model, self._inventory))
        self._channels = self._sampler.channels
        self._vital = vital_channels(self._channels)
        self._watchers = Watchers(self._channels)
        cpuinfo = optional_text(self._model, "/proc/cpuinfo")
        self._decoder = KernelDecoder(self._inventory, vendor_of(cpuinfo), tables.events, apic_ids(cpuinfo))
        self._log = KernelLogFollower(self._model)
        self._log.poll()
        self._storms = Storms()
        self._tick: Tick | None = None
        self._began = self._model.now()
        self._cpus = [each.cpu for each in self._inventory.cpus]
        self._cores = frozenset(each.core for each in self._inventory.cpus)
        self._load = ""
        self._walked: dict[int, list[tuple[int, MemoryWrong]]] = {}
        self._meters: dict[int, ExposureMeter] = {}
        self._hung_reported: set[int | None] = set()
        self.findings: list[Finding] = []
        self._over = False

    def carry_out(self, stints: tuple[Stint, ...], enough: int) -> Carried:
        """Do one stint after the other, until the end or until so many findings have come."""
        for block, stint in enumerate(stints):
            self._do(block, stint, enough)
            self._storms.release(None, self._find)
            if self._over or len(self.findings) >= enough:
                break
        exposures = tuple(
            exposure for block, meter in self._meters.items() for exposure in meter.exposures(self._run or 0, block)
        )
        return Carried(tuple(self.findings), exposures, (self._model.now() - self._began) / 60.0)

    def check(self, names: Sequence[str]) -> Carried:
        """Carry out component checks; a failure is a finding, a pass clean work, as on the bench."""
        work = CheckWork(self._model, self._inventory, self._channels, self._reading)
        exposures: list[Exposure] = []
        for name in names:
            check = CHECKS[name]
            for result in work.carry_out(check):
                placed = replace(result, at=self._model.now(), run=self._run, worth_min=check.worth_min)
                if placed.outcome is CheckOutcome.FAIL and check.kind is not None:
                    self.findings.append(replace(finding_of_result(check, placed), run=self._run))
                exposure = exposure_of_check(placed)
                exposures += [exposure] if exposure is not None else []
        return Carried(tuple(self.findings), tuple(exposures), (self._model.now() - self._began) / 60.0)

    def _reading(self) -> Reading:
        """Return what the machine's channels have now."""
        tick = self._sampler.sample()
        return Reading(tick.at, tick.values)

    def live_everyday(self, hours: float) -> Carried:
        """Let the machine be used as its owner does, and return what its log reports of that."""
        self._load = EVERYDAY_USE
        self._work.set_stress(dict.fromkeys(self._cpus, _EVERYDAY))
        self._warm_up(60.0)
        left = hours * 3600.0 - 60.0
        while left > 0:
            self._model.hold(min(left, _EVERYDAY_HOLD_S))
            left -= _EVERYDAY_HOLD_S
            self._read_log()
            if self._work.take_reset():
                self._look_into_end()
                self._work.set_stress(dict.fromkeys(self._cpus, _EVERYDAY))
        self._storms.release(None, self._find)
        minutes = (self._model.now() - self._began) / 60.0
        reported = tuple(replace(each, run_at=None, run=None, temperature_c=None) for each in self.findings)
        return Carried(reported, (Exposure(0, -1, EVERYDAY_USE, minutes, None),), minutes)

    def use_everyday(self, minutes: float) -> Carried:
        """Do the same as a trial on the bench: what its log reports belongs to this run."""
        used = self.live_everyday(minutes / 60.0)
        run = self._run or 0
        exposures = tuple(replace(each, run=run, block=0) for each in used.exposures)
        return Carried(tuple(replace(each, run=self._run) for each in used.findings), exposures, used.minutes)

    def read_health(self) -> tuple[Finding, ...]:
        """Return what the drives report about themselves when the machine comes to the bench."""
        found = [
            finding
            for drive in drives_of(self._inventory.parts)
            for finding in health_findings(drive.part.place, read_health(self._model, drive))
        ]
        return tuple(replace(each, at=self._model.now()) for each in found)

    def _do_drives(self, block: int, stint: Stint, enough: int) -> None:
        """Do one stint on every drive, side by side, as the engine does it on a run sheet."""
        self._load = stint.load
        self._work.set_stress({})
        works = [
            DriveWork(self._model, drive, DRIVE_LOADS[stint.load].use) for drive in drives_of(self._inventory.parts)
        ]
        began, left = self._model.now(), stint.minutes * 60.0
        found: set[tuple[str, str, int | None]] = set()
        while left > 0 and not self._over and len(self.findings) < enough and any(not work.over for work in works):
            seconds = min(left, _HOLD_S)
            self._model.hold(seconds)
            for work in works:
                for finding in work.advance(self._model.now() - began):
                    key = (finding.code, finding.place, finding.address)
                    if key not in found:
                        found.add(key)
                        self._find(replace(finding, at=self._model.now()))
            self._read_log()
            self._storms.release(self._model.now(), self._find)
            self._meters.setdefault(block, ExposureMeter(stint.load)).add(seconds, self._temperature(None))
            left -= seconds
            self._endings()

    def _do_cards(self, block: int, stint: Stint, enough: int) -> None:
        """Do one stint on every card, side by side; the readings are followed until the cards are warm."""
        self._load = stint.load
        self._work.set_stress({})
        use = GRAPHICS_LOADS[stint.load].use
        works = [CardWork(self._model, card, use) for card in cards_of(self._inventory.parts)]
        began, left = self._model.now(), stint.minutes * 60.0
        while left > 0 and not self._over and len(self.findings) < enough and any(not work.over for work in works):
            warming = self._model.now() - began < _CARD_WARM_UP_S
            seconds = min(left, _TICK_S if warming else _HOLD_S)
            if warming:
                self._warm_up(seconds, frozenset())
            else:
                self._model.hold(seconds)
            for work in works:
                for finding in work.advance(self._readings(PartKind.GRAPHICS)):
                    self._storms.take(replace(finding, at=self._model.now()), self._find)
            self._read_log()
            self._storms.release(self._model.now(), self._find)
            warmth = temperature_at(self._channels, self._tick, None, PartKind.GRAPHICS)
            self._meters.setdefault(block, ExposureMeter(stint.load)).add(seconds, warmth)
            left -= seconds
            self._endings()
        for work in works:
            work.stop()

    def _readings(self, part: PartKind) -> list[tuple[Channel, float]]:
        if self._tick is None:
            return []
        pairs = zip(self._channels, self._tick.values, strict=True)
        return [(channel, value) for channel, value in pairs if channel.kind is part and value is not None]

    def _do(self, block: int, stint: Stint, enough: int) -> None:
        if stint.load in DRIVE_LOADS:
            self._do_drives(block, stint, enough)
            return
        if stint.load in GRAPHICS_LOADS:
            self._do_cards(block, stint, enough)
            return
        kind = LOADS[stint.load]
        self._load = stint.load
        stress = Stress(1.0, kind.heat, kind.wide, kind.memory)
        self._work.set_stress(dict.fromkeys(self._cpus, stress))
        self._walked.clear()
        left, since_pass = stint.minutes * 60.0, 0.0
        contacts = any(fault.kind is FaultKind.SLOT_CONTACT for fault in self._scenario.faults)
        began, warming = self._model.now(), True
        hottest: list[float] = []
        while left > 0 and not self._over and len(self.findings) < enough:
            seconds = min(left, _TICK_S if warming else _SPELLS_HOLD_S if contacts else _HOLD_S)
            if warming:
                self._warm_up(seconds)
                hottest.append(self._temperature(None) or 0.0)
                lately = hottest[-int(_SETTLED_OVER_S / _TICK_S) - 1 :]
                settled = len(lately) * _TICK_S > _SETTLED_OVER_S and max(lately) - min(lately) < _SETTLED_K
                warming = not settled and self._model.now() - began < _LONGEST_WARM_UP_S
            else:
                self._model.hold(seconds)
            self._take_work(stint, seconds)
            self._read_log()
            since_pass += seconds
            if stint.load == "memory" and since_pass >= _PASS_S + stint.wait_s:
                since_pass = 0.0
                self._walk(stint)
            self._storms.release(self._model.now(), self._find)
            meter = self._meters.setdefault(block, ExposureMeter(stint.load))
            meter.add(seconds, self._temperature(None))
            left -= seconds
            self._endings()

    def _warm_up(self, seconds: float, busy: frozenset[int] | None = None) -> None:
        until = self._model.now() + seconds
        while self._model.now() < until - _STEP_S / 2:
            at = min(until, self._model.now() + _TICK_S)
            boot = self._model.boots.number
            self._model.live_until(at)
            if self._model.boots.number != boot:
                return  # it has started again: what it reads now is not what it ended with
            self._tick = self._sampler.sample()
            found, _ = self._watchers.look(self._tick, self._cores if busy is None else busy)
            for finding in found:
                self._find(finding)

    def _read_log(self) -> None:
        records, _ = self._log.poll()
        for finding, _ in self._decoder.decode(records, last=True).with_checks:
            self._storms.take(finding, self._find, self._model.now())

    def _take_work(self, stint: Stint, seconds: float) -> None:
        """Turn what slipped into what workers would report."""
        plan = LoadPlan(stint.load, 32, 1)
        for cpu in self._cpus:
            beats = Beats(
                max(1, round(self._work.beats_per_s * seconds)), LOADS[stint.load].words_in_beat(plan), stint.load
            )
            for flip in self._work.take_flips(cpu, beats):
                self._report(self._event(cpu, stint.load, beats, flip))

    def _event(self, cpu: int, load: str, beats: Beats, flip: BitFlip) -> MismatchSeen | MemoryWrongSeen:
        expected = 0x5A5A_5A5A_5A5A_5A5A
        good, bad = f"{expected:016x}", f"{expected ^ 1 << flip.bit:016x}"
        if load == "memory":
            workers = len(self._cpus)
            base, stride = self._work.memory_share(self._cpus.index(cpu), workers, _WORDS)
            address = base + flip.word * (_WORDS // max(1, beats.words)) * stride
            cell = WrongCell(address, address, good, bad, (good,) * _REPEATS, (good,) * _REPEATS)
            return MemoryWrongSeen(cpu, MemoryWrong("random", "reading", 1, (cell,)))
        word = WrongWord(flip.word, good, bad)
        partner = next((each for each in self._cpus if each != cpu), cpu) if load == "relay" else None
        wrong = Mismatch(flip.beat, 1, beats.words, (word,), _REPEATS, flip.again)
        return MismatchSeen(cpu, load, wrong, partner_cpu=partner)

    def _walk(self, stint: Stint) -> None:
        """Report what a pass through the memory finds at its present temperature."""
        warmth = round(self._work.memory_temperature() / 4.0)
        if warmth not in self._walked:
            self._walked[warmth] = self._pass(stint) if self._has_bad_cells() else []
        for cpu, wrong in self._walked[warmth]:
            self._report(MemoryWrongSeen(cpu, wrong))

    def _has_bad_cells(self) -> bool:
        return any(fault.kind in MEMORY_CELL_FAULTS for fault in self._scenario.faults)

    def _pass(self, stint: Stint) -> list[tuple[int, MemoryWrong]]:
        found: list[tuple[int, MemoryWrong]] = []
        for worker, cpu in enumerate(self._cpus):
            faults = self._work.cell_faults(worker, len(self._cpus), _WORDS)
            if not faults or len(found) >= _ENOUGH_WRONG:
                continue
            stretch = SimulatedStretch(*self._work.memory_share(worker, len(self._cpus), _WORDS), _WORDS)
            found += [
                (cpu, wrong) for wrong in self._walk_through(stint, stretch, SimulatedCells(stretch.words, faults))
            ]
        return found

    def _walk_through(self, stint: Stint, stretch: SimulatedStretch, cells: SimulatedCells) -> list[MemoryWrong]:
        clock = [0.0]
        plan = LoadPlan("memory", 1, 1, patterns=stint.patterns, wait_s=stint.wait_s, bytes_each=1)
        walk = MemoryWalk(plan, stretch, 0, cells, lambda: clock[0])
        beats = walk.steps * walk.chunks
        temperature = self._work.memory_temperature()
        wrong = []
        while not walk.passes:
            pause = stint.wait_s if walk.waiting else _PASS_S / beats
            cells.age(pause, temperature)
            clock[0] += pause
            seen = walk.do_beat()
            if seen is not None:
                wrong.append(MemoryWrong(seen.pattern, seen.step, seen.count, seen.shown))
        return wrong

    def _endings(self) -> None:
        if self._work.take_reset():
            self._look_into_end()
            self._over = True
        for cpu in self._work.hung_cpus():
            core = self._inventory.core_of(cpu)
            if core not in self._hung_reported:
                self._hung_reported.add(core)
                self._find(finding_of_hang(cpu, self._inventory, "no beat while the others run", self._model.now()))
            self._over = True

    def _look_into_end(self) -> None:
        """Find out how the machine ended, from what it has left, as the next start on the bench would."""
        boots, last = self._model.boots, self._model.now()
        run = self._run or 0
        rows: tuple[Moment, ...] = ()
        if self._tick is not None:
            values = tuple(self._tick.values[index] for index in self._vital)
            rows = (Moment(last, boots.ended_wall, run, values),)
        moments = LastMoments(tuple(self._channels[index] for index in self._vital), rows)
        loads = () if self._load in ("", EVERYDAY_USE) else (self._load,)
        left = LeftBehind(boots.ended_boot, last, boots.ended_wall, None, 0, 0, moments, {}, bool(loads))
        spent = last - self._began
        end = OpenEnd(run, left, self._began, spent if loads else 0.0, loads, loads, (0,) if loads else (), (), last)
        traces = read_traces(self._model, left, (), {})
        ending = with_answer(conclude(end, traces), boots.seen)
        for finding in findings_of_ending(ending):
            self._find(replace(finding, load=self._load))

    def _report(self, event: MismatchSeen | MemoryWrongSeen) -> None:
        finding = finding_of_team_event(event, self._inventory, self._model.now())
        self._storms.take(finding, self._find)

    def _find(self, finding: Finding) -> None:
        part = PartKind.GRAPHICS if finding.part is PartKind.GRAPHICS else PartKind.PROCESSOR
        warmth = temperature_at(self._channels, self._tick, finding.core, part)
        placed = with_circumstances(finding, finding.at - self._began, self._load, warmth)
        self.findings.append(replace(placed, run=self._run))

    def _temperature(self, core: int | None) -> float | None:
        return temperature_at(self._channels, self._tick, core)
