"""The spans of steady load in stored runs: what can be compared, and cutting it out of the readings."""

from dataclasses import dataclass
from functools import partial
from pathlib import Path

from thresher.heat.load_span import LoadSpan, cut
from thresher.journal.jobfile import BlockMark, JobFile, StoredRun, read_job
from thresher.model.channels import Quantity
from thresher.model.errors import InputError, InputFault
from thresher.model.parts import PartKind
from thresher.model.sheet import RunSheet

_SHORTEST_S = 60.0
_WARMING = (PartKind.PROCESSOR, PartKind.GRAPHICS, PartKind.MEMORY, PartKind.DRIVE)
"""Parts whose heat is looked at, in the order in which they are offered."""


@dataclass(frozen=True, slots=True)
class RunRef:
    """A run: the path of its job file and its number."""

    job: str
    run: int


@dataclass(frozen=True, slots=True)
class HotPart:
    """A part whose heat a run shows: its kind and its place, empty where there is one of the kind."""

    kind: PartKind
    place: str = ""

    @property
    def words(self) -> str:
        """What a person reads."""
        return self.place or self.kind.value


@dataclass(frozen=True, slots=True)
class RunChoice:
    """A run that may be compared: where it is, what it is called, when it began (Unix time), with which sheet.

    `load` and `minutes` are those of its longest stretch of load, `parts` whose heat it shows; `unfit` says why it
    cannot be compared, if so. `state` is the number of the trial that it belongs to: runs of one state of a machine
    count together. `plan` is its run sheet.
    """

    ref: RunRef
    name: str
    machine: str
    wall: float
    sheet: str
    load: str
    minutes: float
    parts: tuple[HotPart, ...]
    state: int
    plan: RunSheet
    simulated: bool
    room_c: float | None = None
    unfit: str = ""


@dataclass(frozen=True, slots=True)
class RunSpan:
    """A run's span of load together with what it was chosen by."""

    choice: RunChoice
    span: LoadSpan


def list_runs(path: Path) -> tuple[RunChoice, ...]:
    """Return the runs of a job, oldest first. Raises EnvironmentFault or InputError."""
    return read_job(path, lambda stored: tuple(_choice(stored, run) for run in stored.runs()))


def read_spans(refs: tuple[RunRef, ...], part: HotPart, rooms: dict[int, float]) -> tuple[RunSpan, ...]:
    """Return the spans of runs for one part; `rooms` are room temperatures in °C by place in `refs`.

    Raises EnvironmentFault, or InputError for a run that is not there or shows nothing of the part.
    """
    return tuple(
        read_job(Path(ref.job), partial(_span, ref=ref, part=part, room_c=rooms.get(place)))
        for place, ref in enumerate(refs)
    )


def _span(stored: JobFile, ref: RunRef, part: HotPart, room_c: float | None) -> RunSpan:
    job = stored.path.name
    run = next((each for each in stored.runs() if each.number == ref.run), None)
    if run is None:
        raise InputError(job, [InputFault(f"run {ref.run}", "there is no such run")])
    block = _longest(stored, run, part)
    if block is None:
        raise InputError(job, [InputFault(f"run {ref.run}", f"no load of a minute or more ran on the {part.words}")])
    readings = stored.readings(run)
    span = cut(
        run.channels,
        readings.at,
        readings.values,
        block.began_at,
        _end(stored, run, block),
        block.load,
        part.kind,
        part.place,
        room_c if room_c is not None else stored.room_c(run),
    )
    if span is None:
        raise InputError(job, [InputFault(f"run {ref.run}", f"it has no temperature of the {part.words}")])
    return RunSpan(_choice(stored, run), span)


def _choice(stored: JobFile, run: StoredRun) -> RunChoice:
    job = stored.job()
    book = stored.book()
    trial = book.trial_of(run.number) if book is not None else None
    block = _longest(stored, run, None)
    minutes = (_end(stored, run, block) - block.began_at) / 60.0 if block is not None else 0.0
    parts = _parts(run)
    unfit = ""
    if run.ending is None:
        unfit = "in progress or interrupted"
    if block is None:
        unfit = "no load ran for a minute"
    elif not parts:
        unfit = "no temperature was recorded"
    return RunChoice(
        ref=RunRef(str(stored.path), run.number),
        name=trial.title if trial is not None else run.title,
        machine=job.get("machine", "") or run.machine.name,
        wall=run.began_wall,
        sheet=run.sheet.title,
        load=block.load if block is not None else "",
        minutes=minutes,
        parts=parts,
        state=trial.number if trial is not None else 0,
        plan=run.sheet,
        simulated=run.simulated,
        room_c=stored.room_c(run),
        unfit=unfit,
    )


def _parts(run: StoredRun) -> tuple[HotPart, ...]:
    found: dict[HotPart, None] = {}
    warm = [each for each in run.channels if each.quantity is Quantity.TEMPERATURE and not each.distrust]
    for kind in _WARMING:
        for channel in warm:
            if channel.kind is kind:
                found[HotPart(kind, channel.place if kind is not PartKind.PROCESSOR else "")] = None
    return tuple(found)


def _longest(stored: JobFile, run: StoredRun, part: HotPart | None) -> BlockMark | None:
    """Return the longest block of a run whose load warms the part: its own kind of load, else any."""
    blocks = [each for each in stored.blocks(run) if _end(stored, run, each) - each.began_at >= _SHORTEST_S]
    if part is not None:
        rows = {block.load: block.row for block in run.sheet.blocks}
        own = [each for each in blocks if rows.get(each.load) is part.kind]
        blocks = own or blocks
    return max(blocks, key=lambda each: _end(stored, run, each) - each.began_at, default=None)


def _end(stored: JobFile, run: StoredRun, block: BlockMark) -> float:
    if block.ended_at is not None:
        return block.ended_at
    last = stored.last_tick_at(run)
    return last if last is not None else block.began_at
