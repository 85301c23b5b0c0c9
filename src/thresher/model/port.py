"""The port to a machine: everything that Thresher reads of the outside goes through it.

Three adapters answer it: this computer and a directory tree (`thresher.machine`), and a simulated machine
(`thresher.simulator`). Readers, decoders, checks and the interface never know which one they have,
except to label it.
"""

import re
import threading
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Protocol, runtime_checkable

import numpy as np
from numpy.typing import NDArray

from thresher.model.controller_port import ControllerPort
from thresher.model.drive_commands import BlockSource, DrivePort, ScratchSource
from thresher.model.driven_port import Driven
from thresher.model.errors import SourceUnavailable
from thresher.model.keeping_port import Awake, Watchdog
from thresher.model.network_port import NetworkPort
from thresher.model.questions import Answer, Question


class SystemKind(StrEnum):
    """Which adapter answers."""

    LIVE = "live"
    TREE = "tree"
    SIMULATED = "simulated"


class Source(Protocol):
    """One file of the machine held open, read again each time."""

    path: str

    def read(self) -> bytes:
        """Return the whole present content. Raises SourceUnavailable."""
        ...

    def close(self) -> None:
        """Close the file."""
        ...


class KernelLog(Protocol):
    """The kernel's log as records in the format of `/dev/kmsg` (kernel document ABI/testing/dev-kmsg)."""

    def read_records(self) -> list[bytes]:
        """Return the records that came since the last call, oldest first. Raises SourceUnavailable."""
        ...

    @property
    def lost(self) -> int:
        """How many times the kernel said that records were overwritten before they could be read."""
        ...

    def close(self) -> None:
        """Close the log."""
        ...


@dataclass(frozen=True, slots=True)
class BitFlip:
    """A disturbance of one result: in which beat of the coming ones, which 64-bit word, which bit.

    `again` of the three repeats on the same core go wrong as well.
    """

    beat: int
    word: int
    bit: int
    again: int = 0


class CellFaultKind(StrEnum):
    """How words of a simulated memory misbehave (van de Goor, Testing Semiconductor Memories, 1991)."""

    STUCK = "stuck"
    TRANSITION = "transition"
    COUPLED_INVERTING = "coupled, inverting"
    COUPLED_FORCING = "coupled, forcing"
    COUPLED_STATE = "coupled, state"
    COUPLED_WITHIN = "coupled within a word"
    ADDRESS_LINE = "address line"
    RETENTION = "retention"


@dataclass(frozen=True, slots=True)
class CellFault:
    """One fault of a simulated memory, by the number of the word in its worker's stretch and the bit.

    Stuck: the bit is always `value`. Transition: it cannot change to `value`. Coupled: when the other bit rises, it
    turns over (inverting) or becomes `value` (forcing); while the other bit is 1 it reads `value` (state); within a
    word: when the other bit of the same word rises it becomes the opposite of `value`. Address line: places with
    `bit` of their number set are those without. Retention: the bit falls to `value` when left alone for `seconds` at
    45 °C, half of that for each 10 K more.
    """

    kind: CellFaultKind
    word: int
    bit: int
    value: int = 0
    other_word: int = 0
    other_bit: int = 0
    seconds: float = 0.0


@dataclass(frozen=True, slots=True)
class Stress:
    """What one logical CPU of a simulated machine does: shares from 0 to 1.

    `busy` is how much of its time it works, `heat` the power of the load as a share of the hottest, `wide` whether it
    strains the widest vectors, `memory` the share of main memory, `edges` how often a second work comes on.
    """

    busy: float
    heat: float = 1.0
    wide: bool = True
    memory: float = 0.0
    edges: float = 0.0


@dataclass(frozen=True, slots=True)
class Beats:
    """Which beats are coming on a logical CPU: how many, how many words their results have, and of which load."""

    count: int
    words: int
    load: str


class SimulatedWork(Protocol):
    """How a simulated machine takes part in loads: it feels their heat and disturbs their results."""

    beats_per_s: float

    def set_stress(self, stress: dict[int, Stress]) -> None:
        """Say what each logical CPU does from now on; CPUs left out are idle."""
        ...

    def take_flips(self, cpu: int, beats: Beats) -> list[BitFlip]:
        """Return the disturbances due on a logical CPU in its next beats."""
        ...

    def cell_faults(self, worker: int, workers: int, words: int) -> tuple[CellFault, ...]:
        """Return the faults in a worker's share of the memory, which it walks through as so many words."""
        ...

    def memory_share(self, worker: int, workers: int, words: int) -> tuple[int, int]:
        """Return the physical address at which a worker's share begins, and the bytes that each word stands for."""
        ...

    def memory_temperature(self) -> float:
        """Return how warm the memory modules are in °C."""
        ...

    def hung_cpus(self) -> frozenset[int]:
        """Return the logical CPUs that do nothing any more."""
        ...

    def take_reset(self) -> bool:
        """Whether the machine has ended by itself and started again since the last call."""
        ...

    def pair_time_ns(self, one: int, other: int) -> float:
        """Return the round trip of a message between two logical CPUs in nanoseconds."""
        ...


@dataclass(frozen=True, slots=True)
class WorkerSetup:
    """Where one worker runs and what disturbs it: its logical CPU here, and a simulated machine's share of memory.

    `base` is the physical address at which its share of the memory begins, `stride` the bytes that each of its words
    stands for, `faults` the faults in it.
    """

    pin: int | None
    base: int = 0
    stride: int = 8
    faults: tuple[CellFault, ...] = ()


class PacedTeam(Protocol):
    """What a simulated machine sees of a team of workers."""

    @property
    def load_stress(self) -> Stress:
        """What the load does to a logical CPU that works all the time."""
        ...

    @property
    def load_name(self) -> str:
        """The load."""
        ...

    @property
    def words_in_beat(self) -> int:
        """64-bit words that a fault may spoil in one beat."""
        ...

    @property
    def paced_beats(self) -> int:
        """Beats of a worker that stand for one of the machine's."""
        ...

    @property
    def pairs_workers(self) -> bool:
        """Whether workers wait for each other, so that one that hangs holds up all."""
        ...

    def shares(self, seconds: float) -> dict[int, float]:
        """Return the share of its time, 0 to 1, that each logical CPU works in the coming seconds."""
        ...

    def pace(
        self, beats: dict[int, int], flips: dict[int, list[BitFlip]], seconds: float = ..., memory_c: float = ...
    ) -> None:
        """Let each worker do its beats by CPU, disturbed by `flips`, and wait until all are done."""
        ...


class Pacing(Protocol):
    """How the workers of a run keep time with the machine: freely, or paced by a simulated machine's clock."""

    @property
    def paced(self) -> bool:
        """Whether workers do their beats on order, and small ones."""
        ...

    def allowed_cpus(self) -> set[int] | None:
        """Return the logical CPUs that workers may use, None for all."""
        ...

    def worker_setup(self, worker: int, workers: int, cpu: int, memory_words: int) -> WorkerSetup:
        """Return where a worker runs and what disturbs it; `memory_words` is 0 for loads that walk no memory."""
        ...

    def page_frames(self) -> int | None:
        """Return the socket by which workers get their page frames; None where they need none, or get none."""
        ...

    def round_trips_ns(self, cpus: Sequence[int]) -> dict[tuple[int, int], float] | None:
        """Return the round trip between each two logical CPUs, None where it has to be measured."""
        ...

    def pace(self, teams: Sequence[PacedTeam], seconds: float) -> None:
        """Let the teams do the beats of the coming seconds."""
        ...

    def feel(self, teams: Sequence[PacedTeam], seconds: float) -> None:
        """Let the machine feel what its logical CPUs do now."""
        ...

    def hung_cpus(self) -> frozenset[int]:
        """Return the logical CPUs of a simulated machine that do nothing any more."""
        ...

    def take_reset(self) -> bool:
        """Whether a simulated machine has ended by itself and started again since the last call."""
        ...

    def missed_ticks(self, behind_s: float, interval_s: float) -> int:
        """Return how many ticks were missed by a sampler that is so far behind."""
        ...


@runtime_checkable
class BlockOpener(Protocol):
    """A machine whose drives are read in this process: a simulated one."""

    def open_blocks(self, path: str) -> BlockSource:
        """Open the blocks of a drive by the device file of its disk. Raises SourceUnavailable."""
        ...

    def open_scratch(self, path: str, scale: float) -> ScratchSource:
        """Open a scratch file on a drive; each of its bytes stands for `scale` of them. Raises SourceUnavailable."""
        ...


@runtime_checkable
class HandedOver(Protocol):
    """A machine whose drives may have to be opened by somebody who may: this computer."""

    def opened_blocks(self, path: str) -> int | None:
        """Return a whole drive opened for reading; None where this program may open it itself.

        It may block for seconds. Raises SourceUnavailable.
        """
        ...


@runtime_checkable
class StandIn(Protocol):
    """A machine whose sound, and whose person where it has one, are simulated: they answer questions by themselves."""

    @property
    def has_person(self) -> bool:
        """Whether somebody sits there who answers questions."""
        ...

    def person_answers(self, question: Question) -> Answer | None:
        """Return what that person answers, None for a question that cannot be answered there."""
        ...

    def sound_devices(self, inputs: bool) -> tuple[str, ...]:
        """Return the names of its sound inputs or outputs."""
        ...

    def record(self, played: NDArray[np.float32] | None, rate: int) -> NDArray[np.float32]:
        """Return what its first input hears, shape (frames, 2): what is played, or somebody who speaks."""
        ...


@dataclass(frozen=True, slots=True)
class LogLine:
    """One line of a stored log: Unix time, seconds since that boot, who wrote it (`kernel`, a unit), its text."""

    wall: float
    at: float
    who: str
    text: str

    @property
    def of_kernel(self) -> bool:
        """Whether the kernel wrote it."""
        return self.who == "kernel"


class System(Protocol):
    """A machine that can be read."""

    kind: SystemKind
    name: str
    speed: float
    pacing: Pacing

    def open(self, path: str) -> Source:
        """Open a file of the machine by its absolute path there. Raises SourceUnavailable."""
        ...

    def read(self, path: str) -> bytes:
        """Read a file once. Raises SourceUnavailable."""
        ...

    def list(self, path: str) -> list[str]:
        """Return the names in a directory, sorted; empty when there is no such directory."""
        ...

    def resolve(self, path: str) -> str:
        """Return the path with symbolic links followed, inside the machine."""
        ...

    def open_counters(self, cpu: int) -> Source:
        """Open a logical CPU's counters; reading gives aperf, mperf and tsc as decimal numbers.

        Raises SourceUnavailable with what would change that.
        """
        ...

    def open_register(self, cpu: int, number: int) -> Source:
        """Open a model-specific register of a logical CPU; reading gives it as a decimal number.

        Raises SourceUnavailable with what would change that.
        """
        ...

    def open_kernel_log(self) -> KernelLog:
        """Open the kernel log from its oldest record. Raises SourceUnavailable."""
        ...

    def read_boot_log(self, boot_id: str, most: int) -> tuple[LogLine, ...]:
        """Return the last lines, at most so many, that the log service stored of a boot, oldest first.

        It may take seconds. Raises SourceUnavailable with what would change that.
        """
        ...

    def open_trace(self) -> KernelLog:
        """Open the kernel's traced hardware errors, a line an event (kernel document trace/events).

        Raises SourceUnavailable with what would change that.
        """
        ...

    def open_drive(self, path: str) -> DrivePort:
        """Open a drive to send it commands, by its device file. Raises SourceUnavailable."""
        ...

    def open_network(self) -> NetworkPort:
        """Open the machine's network. Raises SourceUnavailable."""
        ...

    def open_fan(self, folder: str, number: int) -> Driven:
        """Take control of a fan by its chip's folder and its number there. It may block. Raises SourceUnavailable."""
        ...

    def open_backlight(self, name: str) -> Driven:
        """Take control of a backlight by its name in `/sys/class/backlight`. It may block. Raises SourceUnavailable."""
        ...

    def open_controller(self) -> ControllerPort:
        """Open the management controller. It may block. Raises SourceUnavailable."""
        ...

    def open_watchdog(self, timeout_s: float) -> Watchdog:
        """Arm the hardware watchdog. It may block. Raises SourceUnavailable with what would change that."""
        ...

    def hold_awake(self, why: str) -> Awake:
        """Hold off sleep, idle, lid and screen blanking. It may block. Raises SourceUnavailable."""
        ...

    def read_start(self, path: str, most: int) -> bytes:
        """Read at most so many bytes from the start of a file that may be large. Raises SourceUnavailable."""
        ...

    def now(self) -> float:
        """Return the machine's clock: seconds since its boot, never going back."""
        ...

    def wall(self) -> float:
        """Return the machine's time of day as Unix time in seconds."""
        ...

    def wait_until(self, at: float, wake: threading.Event) -> None:
        """Wait until the machine's clock reaches `at`, or `wake` is set."""
        ...

    def close(self) -> None:
        """Close everything held open."""
        ...


def read_text(system: System, path: str) -> str:
    """Read a file as text, stripped; bytes that are not UTF-8 are replaced. Raises SourceUnavailable."""
    return system.read(path).decode("utf-8", "replace").strip()


def optional_text(system: System, path: str) -> str:
    """Read a file as text; empty when it is not there or cannot be read."""
    try:
        return read_text(system, path)
    except SourceUnavailable:
        return ""


def optional_number(system: System, path: str) -> int | None:
    """Read a file that holds one whole number; None when it is not there or holds something else."""
    text = optional_text(system, path)
    return int(text) if re.fullmatch(r"[+-]?\d{1,24}", text) else None


def is_virtual(system: System) -> bool:
    """Whether the kernel runs in a virtual machine, by the processor's own flag (CPUID leaf 1, ECX bit 31)."""
    return bool(re.search(r"^flags\s*:.*\bhypervisor\b", optional_text(system, "/proc/cpuinfo"), re.MULTILINE))
