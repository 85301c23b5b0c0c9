"""The port to a machine: everything that Thresher reads of the outside goes through it.

Three adapters answer it: this computer and a directory tree (`thresher.system`), and a simulated machine
(`thresher.benchmodels`). Readers, decoders, checks and the interface never know which one they have,
except to label it.
"""

import re
import threading
from dataclasses import dataclass
from enum import StrEnum
from typing import Protocol

from thresher.model.errors import SourceUnavailable


class SystemKind(StrEnum):
    """Which adapter answers."""

    LIVE = "live"
    TREE = "tree"
    BENCH_MODEL = "bench model"


class Source(Protocol):
    """One file of the machine held open, read anew each time."""

    path: str

    def read(self) -> bytes:
        """Return the whole present content. Raises SourceUnavailable."""
        ...

    def close(self) -> None:
        """Let go of the file."""
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
        """Let go of the log."""
        ...


@dataclass(frozen=True, slots=True)
class BitFlip:
    """A disturbance of one result: in which beat of the coming ones, which 64-bit word, which bit."""

    beat: int
    word: int
    bit: int


class SimulatedWork(Protocol):
    """How a simulated machine takes part in loads: it feels their heat and disturbs their results."""

    beats_per_s: float

    def set_busy(self, intensity: dict[int, float]) -> None:
        """Say how hard each logical CPU works from now on, 0 to 1; CPUs left out are idle."""
        ...

    def take_flips(self, cpu: int, beats: int, words: int) -> list[BitFlip]:
        """Return the disturbances due on a logical CPU in its next `beats` beats of `words` words each."""
        ...


class System(Protocol):
    """A machine that can be read."""

    kind: SystemKind
    name: str
    speed: float
    work: SimulatedWork | None

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
        """Let go of everything held open."""
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
