"""Where the run and the engine are, as plain data."""

from typing import TypeVar

import msgspec

from thresher.loads.status import CardStatus, LoadStatus, MemoryStatus, RoundOffStatus, RoundTripStatus, TextStatus
from thresher.model.parts import PartKind
from thresher.model.run_states import Ending, Outcome, RunState, StepState
from thresher.model.sheet_changes import SheetChange

S = TypeVar("S", MemoryStatus, RoundTripStatus, RoundOffStatus, CardStatus, TextStatus)


class SourceState(msgspec.Struct, frozen=True):
    """One source of events and how it does, in words; `reads` is False for one that cannot be read."""

    name: str
    reads: bool
    words: str


class PlanItem(msgspec.Struct, frozen=True):
    """A gate or block as it stands on the time axis of the run; `state` says how far it is.

    `about` says in words what a block strains and finds; `step` is its number among the steps of the run. `check` is
    how a component check ended, or that it is coming or under way; empty for a load.
    """

    gate: bool
    row: PartKind | None
    title: str
    start_s: float
    end_s: float
    state: StepState
    about: str = ""
    step: int = 0
    check: str = ""


class ScanStatus(msgspec.Struct, frozen=True):
    """A read scan of a drive: how far it is, its strokes, its bad sectors, and in words how it stands or ended.

    Each stroke is the slowest read of its stretch in ms, None where nothing was read yet. Stroke by stroke, `errors`
    counts blocks that cannot be read, `retries` those that were read at the second try, and `rates` are MB/s. `bad` are
    sectors of 512 bytes, the first of each place; `places` says what lies at the first of them, in the same order.
    `sampled` marks a scan that reads single places.
    """

    drive: str
    running: bool
    share: float
    left_s: float | None
    mb_per_s: float
    slowest_ms: tuple[float | None, ...]
    errors: tuple[int, ...]
    bad: tuple[int, ...]
    words: str
    size: int = 0
    rates: tuple[float | None, ...] = ()
    retries: tuple[int, ...] = ()
    places: tuple[str, ...] = ()
    sampled: bool = False


class RunStatus(msgspec.Struct, frozen=True):
    """Where the run is. Times are seconds; `run_at` counts from the run's start."""

    state: RunState = RunState.IDLE
    title: str = ""
    run: int | None = None
    run_at: float = 0.0
    began_at: float | None = None
    length_s: float = 0.0
    plan: tuple[PlanItem, ...] = ()
    workers_started: int = 0
    workers_running: int = 0
    beats: int = 0
    mismatches: int = 0
    faults: int = 0
    corrected: int = 0
    loaded_s: float = 0.0
    ending: Ending | None = None
    ending_detail: str = ""
    outcome: Outcome = Outcome.NOT_FINISHED
    busy_cores: tuple[int, ...] = ()
    loads: tuple[LoadStatus, ...] = ()
    allowed: float = 1.0
    changes: tuple[SheetChange, ...] = ()

    def newest(self, kind: type[S]) -> S | None:
        """Return what the newest load of a kind reports about itself, None where no load of the run does."""
        return next((each for each in reversed(self.loads) if isinstance(each, kind)), None)


class EngineHealth(msgspec.Struct, frozen=True):
    """How the engine does: sampling cost as a share of one core, the age of the last row, what waits."""

    channels: int
    interval_s: float
    sampling_share: float
    late: int
    row_age_s: float | None
    rows_waiting: int
    trouble: str | None
    kernels: str = ""
