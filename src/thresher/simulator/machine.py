"""The simulated machine itself: files, kernel log, clock and loads behind the same port as a real one."""

import struct
import threading
import time
from datetime import datetime
from functools import partial
from operator import attrgetter

import numpy as np
from numpy.typing import NDArray

from thresher.model.drive_commands import DrivePort
from thresher.model.errors import InputError, InputFault, SourceUnavailable
from thresher.model.parts import BuiltInKind
from thresher.model.port import LogLine, Pacing, SimulatedWork, SystemKind
from thresher.model.questions import Answer, Question
from thresher.simulator.cards import SimulatedCard
from thresher.simulator.controller import SimulatedController
from thresher.simulator.drive_faults import spoilt
from thresher.simulator.drive_work import DriveState, SimulatedBlocks, SimulatedScratch
from thresher.simulator.drives import SimulatedDrive
from thresher.simulator.endings import SimulatedAwake, SimulatedWatchdog, StoredBoots, loses_power
from thresher.simulator.equipment import Equipment, SimulatedFan, SimulatedNetwork
from thresher.simulator.fault_kinds import CHANNEL_FAULTS, Fault, FaultKind
from thresher.simulator.files import FileTable, add_processor, add_rest, add_sensors
from thresher.simulator.fittings import Fittings, SimulatedBacklight
from thresher.simulator.kernel_log import LogBuffer, LogReader
from thresher.simulator.load_effects import LoadEffects
from thresher.simulator.optical_drive import SimulatedOptical
from thresher.simulator.pacing import SimulatedPacing
from thresher.simulator.person import SimulatedPerson
from thresher.simulator.physics import STEP_S, Physics
from thresher.simulator.scenario import Scenario

_BOOT_AGE_S = 1830.0
"""How long the machine has been up when the model starts."""


class SimulatedSource:
    """One file of a simulated machine."""

    def __init__(self, table: FileTable, path: str, resolved: str) -> None:
        """Check that the file is there. Raises SourceUnavailable."""
        self.path = path
        self._table = table
        self._resolved = resolved
        if resolved not in table.contents:
            raise SourceUnavailable(path, "not there")

    def read(self) -> bytes:
        """Return the present content; a file taken away answers like a device that was unplugged."""
        content = self._table.contents.get(self._resolved)
        if content is None:
            raise SourceUnavailable(self.path, "the device is gone")
        value = content()
        return value if isinstance(value, bytes) else value.encode()

    def close(self) -> None:
        """Nothing is held open."""


class SimulatedCounters:
    """The clock counters of one CPU of a simulated machine."""

    def __init__(self, physics: Physics, cpu: int) -> None:
        """Belong to the core of the CPU. Raises SourceUnavailable for a CPU that is not there."""
        self.path = f"counters of CPU {cpu}"
        self._physics = physics
        self._core = cpu % len(physics.busy)

    def read(self) -> bytes:
        """Return aperf, mperf and tsc."""
        state = self._physics.state
        return f"{int(state.aperf[self._core])} {int(state.mperf[self._core])} {int(state.tsc)}".encode()

    def close(self) -> None:
        """Nothing is held open."""


class SimulatedMachine:
    """A simulated machine. `speed` is how many of its seconds pass in one of ours; 0 means as fast as can be.

    The same scenario, seed and calls give the same readings, log lines and slips.
    """

    kind = SystemKind.SIMULATED

    def __init__(self, scenario: Scenario, speed: float | None = None, step_s: float = STEP_S) -> None:
        """Build the machine, cool and idle; `step_s` is the length of the slices that it lives in.

        Raises InputError for a scenario whose numbers no machine can have.
        """
        try:
            self._build(scenario, speed, step_s)
        except (ArithmeticError, LookupError, MemoryError, ValueError, struct.error) as error:
            fault = InputFault("scenario", f"no such machine can be: {error}")
            raise InputError(scenario.title[:80], [fault]) from error

    def _build(self, scenario: Scenario, speed: float | None, step_s: float) -> None:
        self.name = scenario.machine
        self.scenario = scenario
        self.speed = scenario.speed if speed is None else speed
        streams = np.random.SeedSequence(scenario.seed).spawn(1 + len(scenario.faults))
        self._physics = Physics(scenario, np.random.default_rng(streams[0]), step_s)
        self._work = LoadEffects(scenario, self._physics, streams[1:])
        self.work: SimulatedWork = self._work
        self.pacing: Pacing = SimulatedPacing(self._work)
        self._step_s = step_s
        self._steps, self._held_s = 0, 0.0
        self._wall_start = datetime.fromisoformat(scenario.start).timestamp()
        self._real_start = time.monotonic()
        self._log = LogBuffer()
        self._log.add_boot(scenario.machine)
        self._throttles_logged = 0
        drives = (spoilt(drive, scenario.faults) for drive in scenario.drives)
        self._drives = {drive.name: DriveState(drive, self.now) for drive in drives}
        self._work.drives = self._drives
        self._due: list[Fault] = [fault for fault in scenario.faults if fault.kind in CHANNEL_FAULTS]
        cpus = scenario.processor.cores * scenario.processor.threads_per_core
        self._core_of_cpu = np.arange(cpus) % scenario.processor.cores
        self._jiffies = np.zeros((cpus, 2))
        self._files = FileTable()
        add_processor(self._files, scenario, self._physics)
        warm = {name: partial(attrgetter("warm_c"), state) for name, state in self._drives.items()}
        add_sensors(self._files, scenario, self._physics, warm, self._work.cards)
        add_rest(self._files, scenario, self._physics, self._work.cards)
        self._files.add("/proc/stat", self._proc_stat)
        self._equipment = Equipment(scenario, self._physics, scenario.seed, self.wall)
        self._equipment.add_files(self._files)
        self._fittings = Fittings(scenario, self._files, np.random.default_rng([scenario.seed, 29]))
        self._equipment.network.adapter = self._fittings.bluetooth
        self._person = SimulatedPerson(self._fittings)
        rng = np.random.default_rng([scenario.seed, 43])
        self.boots = StoredBoots(scenario.seed, self._files, rng, self._wall_start - _BOOT_AGE_S)
        self._files.add("/proc/sys/kernel/random/boot_id", lambda: f"{self.boots.boot_id()}\n")
        self._files.add("/sys/module/pstore/parameters/backend", "efi\n")
        self._boot_begins_at_record = 0

    def _proc_stat(self) -> str:
        """Per-CPU times in hundredths of a second (filesystems/proc, section 1.8)."""
        rows = ["cpu  " + " ".join(str(int(v)) for v in (self._jiffies[:, 0].sum(), 0, 0, self._jiffies[:, 1].sum()))]
        rows += [f"cpu{cpu} {int(busy)} 0 0 {int(idle)} 0 0 0 0 0 0" for cpu, (busy, idle) in enumerate(self._jiffies)]
        return "\n".join([*rows, f"btime {int(self.boots.began_wall)}"]) + "\n"

    def open(self, path: str) -> SimulatedSource:
        """Open a file."""
        return SimulatedSource(self._files, path, self.resolve(path))

    def read(self, path: str) -> bytes:
        """Read a file once."""
        return self.open(path).read()

    def list(self, path: str) -> list[str]:
        """List a directory."""
        return self._files.names(self.resolve(path))

    def resolve(self, path: str) -> str:
        """Follow the links of the class directories; they never nest more than two deep."""
        for _ in range(4):
            link = max((each for each in self._files.links if (path + "/").startswith(each + "/")), key=len, default="")
            if not link:
                break
            path = self._files.links[link] + path[len(link) :]
        return path

    def open_blocks(self, path: str) -> SimulatedBlocks:
        """Open the blocks of a simulated drive by the device file of its disk."""
        return SimulatedBlocks(self._drive(path))

    def open_scratch(self, path: str, scale: float) -> SimulatedScratch:
        """Open a scratch file on a simulated drive; each of its bytes stands for `scale` of them."""
        return SimulatedScratch(self._drive(path), scale)

    def open_drive(self, path: str) -> DrivePort:
        """Open a simulated drive by the device file of its disk or of its NVMe controller."""
        if path == "/dev/sr0" and self.resolve("/sys/block/sr0") and self._files.names("/sys/block/sr0"):
            return SimulatedOptical(self._fittings)
        return SimulatedDrive(self._drive(path), path)

    def open_card(self, pci: str) -> SimulatedCard:
        """Open a simulated card by its PCI address."""
        state = self._work.open_card(pci)
        state.open()
        return SimulatedCard(state)

    def open_network(self) -> SimulatedNetwork:
        """Open the simulated network."""
        return self._equipment.network

    def open_fan(self, folder: str, number: int) -> SimulatedFan:
        """Take control of a fan of the board."""
        return self._equipment.open_fan(folder, number)

    def open_backlight(self, name: str) -> SimulatedBacklight:
        """Take control of the backlight."""
        return self._fittings.open_backlight(name)

    def open_controller(self) -> SimulatedController:
        """Open the management controller."""
        if BuiltInKind.CONTROLLER not in self.scenario.fittings.built_in:
            raise SourceUnavailable("management controller", "not there")
        slow = any(fault.kind is FaultKind.CONTROLLER_FAN for fault in self.scenario.faults)
        return SimulatedController(self._physics, slow)

    @property
    def has_person(self) -> bool:
        """Whether somebody sits there who answers questions."""
        return self.scenario.fittings.person

    def person_answers(self, question: Question) -> Answer | None:
        """Return what the person there answers."""
        return self._person.answer(question)

    def sound_devices(self, inputs: bool) -> tuple[str, ...]:
        """Return the names of the sound inputs or outputs."""
        return self._fittings.sound_devices(inputs)

    def record(self, played: NDArray[np.float32] | None, rate: int) -> NDArray[np.float32]:
        """Return what the machine's microphone hears."""
        return self._fittings.record(played, rate)

    def seen_on_display(self) -> tuple[str, ...]:
        """Return what somebody who watches the display has seen of it since the last call."""
        return tuple(seen for card in self._work.cards for seen in card.take_seen())

    def _drive(self, path: str) -> DriveState:
        name = path.removeprefix("/dev/")
        for drive, state in self._drives.items():
            if drive == name or (drive.startswith("nvme") and drive.startswith(f"{name}n")):
                return state
        raise SourceUnavailable(path, "there is no such drive")

    def open_counters(self, cpu: int) -> "SimulatedCounters":
        """Open a CPU's clock counters."""
        return SimulatedCounters(self._physics, cpu)

    def open_register(self, cpu: int, number: int) -> SimulatedSource:
        """The made-up processor has no registers."""
        raise SourceUnavailable(f"register {number:#x} of CPU {cpu}", "this processor documents no such register")

    def open_kernel_log(self) -> LogReader:
        """Open the log at its oldest record."""
        return LogReader(self._log.records)

    def open_trace(self) -> LogReader:
        """Open the traced hardware errors at their oldest."""
        return LogReader(self._log.traced)

    def open_watchdog(self, timeout_s: float) -> SimulatedWatchdog:
        """Arm the machine's watchdog."""
        if not self.scenario.watchdog:
            raise SourceUnavailable("/sys/class/watchdog", "this machine has no hardware watchdog")
        return SimulatedWatchdog(timeout_s, self.boots)

    def hold_awake(self, why: str) -> SimulatedAwake:
        """It does not sleep."""
        del why
        return SimulatedAwake()

    def read_start(self, path: str, most: int) -> bytes:
        """Read the start of a file."""
        return self.read(path)[:most]

    def now(self) -> float:
        """Seconds since the simulated boot."""
        return _BOOT_AGE_S + self._lived_s()

    def _lived_s(self) -> float:
        return self._steps * self._step_s + self._held_s

    def wall(self) -> float:
        """The simulated time of day, which goes on while the machine is off."""
        return self._wall_start + self._lived_s() + self.boots.off_s

    def read_boot_log(self, boot_id: str, most: int) -> tuple[LogLine, ...]:
        """Return what the log service has stored of a boot that has ended."""
        if boot_id not in self.boots.stored:
            raise SourceUnavailable("stored log", "nothing of that boot is stored")
        return self.boots.stored[boot_id][-most:]

    def _take_up_end(self) -> None:
        """Start again after the machine has come to an end; its own clock goes on, since who reads it lives on."""
        kind, self._work.ended = self._work.ended, None
        if kind is None:
            return
        offset = self.wall() - self.now()
        lines = []
        for record in self._log.records[self._boot_begins_at_record :]:
            head, _, text = record.decode().partition(";")
            at = int(head.split(",")[2]) / 1e6
            lines.append(LogLine(at + offset, at, "kernel", text.strip()))
        self._physics.rest(self.boots.end(kind, lines, self.now(), self.wall()))
        self._boot_begins_at_record = len(self._log.records)
        self._log.add_boot(self.scenario.machine, self.now())
        if loses_power(kind):
            for state in self._drives.values():
                state.count_power_cycle()

    def wait_until(self, at: float, wake: threading.Event) -> None:
        """Let the machine live until `at`, then keep the pace with our clock."""
        self.live_until(at)
        if not self.speed:
            return
        due = self._real_start + self._lived_s() / self.speed
        behind = time.monotonic() - due
        if behind > 0:
            self._real_start += behind  # a slow host slows the model's clock; it never jumps to catch up
        elif behind < 0:
            wake.wait(-behind)

    def live_until(self, at: float) -> None:
        """Live until the machine's clock reaches `at`, without waiting."""
        while self.now() < at - self._step_s / 2:
            self._step()

    def hold(self, seconds: float) -> None:
        """Live on for so long at the temperatures and clocks of this moment, in one go.

        For whoever needs hours of a machine that has settled, and not its readings meanwhile.
        """
        self._held_s += seconds
        self._work.step(self._log, self.now(), self.wall(), seconds)
        self._take_up_end()

    def close(self) -> None:
        """Nothing is held open."""

    def _step(self) -> None:
        physics = self._physics
        physics.step()
        self._work.step_heat(self._step_s)
        self._equipment.step(self._step_s)
        self._steps += 1
        busy_share = physics.busy[self._core_of_cpu]
        self._jiffies[:, 0] += busy_share * self._step_s * 100
        self._jiffies[:, 1] += (1.0 - busy_share) * self._step_s * 100
        self._work.step(self._log, self.now(), self.wall(), self._step_s)
        self._take_up_end()
        if physics.state.throttle_count > self._throttles_logged:
            self._throttles_logged = physics.state.throttle_count
            self._log.add_throttle(self.now(), int(physics.state.die_c.argmax()), self._throttles_logged)
        for fault in [each for each in self._due if self._lived_s() >= each.after_s]:
            self._due.remove(fault)
            self._spoil(fault)

    def _spoil(self, fault: Fault) -> None:
        path = self.resolve(fault.path)
        content = self._files.contents.get(path)
        if fault.kind is FaultKind.CHANNEL_VANISHES:
            self._files.remove(path)
        elif fault.kind is FaultKind.CHANNEL_GARBAGE or content is None:
            self._files.add(path, lambda: b"\xff\x00###not a number\n")
        elif fault.kind is FaultKind.CHANNEL_STUCK:
            kept = content()
            self._files.add(path, lambda: kept)
        else:
            jumps = fault.kind is FaultKind.CHANNEL_JUMPS

            def spoilt() -> str:
                now = not jumps or int(self._lived_s()) % 3 == 0
                return f"{int(content()) + (int(fault.strength) if now else 0)}\n"

            self._files.add(path, spoilt)
