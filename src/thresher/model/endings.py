"""How a run or the machine ended when nobody ended it in order: the kinds, what speaks for each, the last moments."""

from dataclasses import dataclass
from enum import StrEnum

from thresher.model.channels import Channel
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import PartKind


class EndingKind(StrEnum):
    """How it came to an end."""

    RESET = "reset"
    FREEZE = "freeze"
    POWER_OFF = "power off"
    HEAT = "shutdown by heat"
    PANIC = "kernel panic"
    OUT_OF_MEMORY = "out of memory"
    KILLED = "program killed"
    SHUT_DOWN = "a person shut it down"
    POWER_CUT = "power cut"
    UNKNOWN = "unknown"


OF_THE_MACHINE = (
    EndingKind.RESET,
    EndingKind.FREEZE,
    EndingKind.POWER_OFF,
    EndingKind.HEAT,
    EndingKind.PANIC,
)
"""Kinds that the machine itself is to blame for: they are evidence."""

SURE = 0.9
"""From this probability on nobody is asked any more."""
_LEAST_CHANCE = 0.03
_NAMED = 0.5
"""Below this the ending is called unknown."""


class SeenAtEnd(StrEnum):
    """What somebody saw when it ended: the answers to the one question."""

    STARTED_AGAIN = "the screen went black and it started again by itself"
    STOOD_STILL = "the picture stood still, nothing reacted"
    WAS_OFF = "it was off; the lights in the room stayed on"
    ALL_OFF = "it was off, and other things on the same mains too"
    PLUG_PULLED = "somebody pulled the plug or switched it off at the back"
    SHUT_DOWN = "somebody shut it down"
    TEXT_OF_A_PANIC = "text of a kernel panic stood on the screen"
    NOBODY_LOOKED = "nobody was there"


QUESTION = "What did the screen do when it ended?"


@dataclass(frozen=True, slots=True)
class KindChance:
    """How probable one kind of ending is."""

    kind: EndingKind
    probability: float


@dataclass(frozen=True, slots=True)
class Trace:
    """One thing that was looked at: what it says, and which kind it speaks for most; None when for none."""

    name: str
    words: str
    speaks_for: EndingKind | None = None


@dataclass(frozen=True, slots=True)
class WorkerAt:
    """What a worker was doing in a row of the black box: its block on the sheet, logical CPU, beats done."""

    block: int
    cpu: int
    beats: int


@dataclass(frozen=True, slots=True)
class Moment:
    """One row of the black box: machine time in s, Unix time, the run (0 none), values by channel, the workers."""

    at: float
    wall: float
    run: int
    values: tuple[float | None, ...]
    workers: tuple[WorkerAt, ...] = ()


@dataclass(frozen=True, slots=True)
class LastMoments:
    """The last rows before an end, oldest first, with their channels; `dropped` rows the drive did not take."""

    channels: tuple[Channel, ...]
    rows: tuple[Moment, ...]
    dropped: int = 0


@dataclass(frozen=True, slots=True)
class MachineEnding:
    """How a run that nobody ended in order came to its end, and under what.

    `at` is machine time in seconds, in the boot that ended, of the last row; `up_s` seconds since that boot began,
    `run_at` since the run began, `loaded_s` under load before the end, `off_s` until the machine started again (None:
    it did not). `loads` are the blocks that ran, by title, `temperature_c` the hottest processor reading of the last
    row, `weakest_rail` the supply rail nearest its limit in the last minute, in words. `chances` add up to 1, most
    probable first; `question` is empty when nothing is to be asked. `cores` are those that the loads ran on, none for
    all. `run` is 0 when none was in progress. `adopted` are findings that the next start reported of that boot, such as
    its machine checks: they say more than the end itself.
    """

    run: int
    kind: EndingKind
    chances: tuple[KindChance, ...]
    traces: tuple[Trace, ...]
    boot_id: str
    at: float
    wall: float
    up_s: float
    run_at: float
    loaded_s: float
    loads: tuple[str, ...] = ()
    load_names: tuple[str, ...] = ()
    blocks: tuple[int, ...] = ()
    cores: tuple[int, ...] = ()
    temperature_c: float | None = None
    weakest_rail: str = ""
    off_s: float | None = None
    question: str = ""
    seen: SeenAtEnd | None = None
    adopted: tuple[Finding, ...] = ()

    @property
    def of_machine(self) -> float:
        """How probable it is that the machine itself ended it."""
        return sum(each.probability for each in self.chances if each.kind in OF_THE_MACHINE)

    @property
    def is_evidence(self) -> bool:
        """Whether it counts against the machine."""
        return self.of_machine >= _NAMED

    @property
    def probability(self) -> float:
        """How probable the kind is that it is called by."""
        return next((each.probability for each in self.chances if each.kind is self.kind), 0.0)


def named_kind(chances: tuple[KindChance, ...]) -> EndingKind:
    """Return what an ending is called: its most probable kind, unknown when that is no more than a guess."""
    best = max(chances, key=lambda each: each.probability)
    return best.kind if best.probability >= _NAMED else EndingKind.UNKNOWN


_AS_FINDING: dict[EndingKind, tuple[str, FindingKind, PartKind, str]] = {
    EndingKind.RESET: ("E-902", FindingKind.ENDED_SUDDENLY, PartKind.BOARD, "The machine reset itself"),
    EndingKind.FREEZE: ("E-903", FindingKind.FROZE, PartKind.BOARD, "The machine froze"),
    EndingKind.POWER_OFF: ("E-904", FindingKind.SWITCHED_OFF, PartKind.POWER, "The machine switched itself off"),
    EndingKind.HEAT: ("C-240", FindingKind.HEAT_SHUTDOWN, PartKind.COOLING, "Shut down by heat"),
    EndingKind.PANIC: ("E-905", FindingKind.KERNEL_CRASH, PartKind.PROCESSOR, "The kernel panicked"),
    EndingKind.UNKNOWN: ("E-906", FindingKind.ENDED_SUDDENLY, PartKind.BOARD, "The machine ended, nobody knows how"),
}


def findings_of_ending(ending: MachineEnding) -> tuple[Finding, ...]:
    """Return what an end is evidence of: none when the machine is not to blame for it.

    Where the next start reported what had happened, that stands for the end. Of several loads the first that ran
    counts.
    """
    if not ending.is_evidence:
        return ()
    if ending.adopted:
        return ending.adopted
    kind = ending.kind
    if kind not in OF_THE_MACHINE:
        kind = EndingKind.UNKNOWN
    code, as_kind, part, title = _AS_FINDING[kind]
    under = " and ".join(ending.loads) or "no load"
    core = ending.cores[0] if len(ending.cores) == 1 else None
    return (
        Finding(
            code,
            as_kind,
            Severity.FAULT,
            part,
            ending.at,
            title,
            f"under {under}, {ending.run_at:.0f} s into the run; {kind_words(ending)}"
            if ending.run
            else f"{ending.up_s / 60.0:.0f} min after it was started, with no run in progress",
            "" if core is None else f"core {core}",
            None,  # whatever is faulty, it had to end under the cores that worked
            ending.run_at if ending.run else None,
            ending.load_names[0] if ending.load_names else "",
            ending.temperature_c,
            run=ending.run or None,
            weight=ending.of_machine,
            kinds=_as_kinds(ending),
            cores=ending.cores,
        ),
    )


def _as_kinds(ending: MachineEnding) -> tuple[tuple[FindingKind, float], ...]:
    """Return what an end of the machine's own may have been, as kinds of findings with probabilities."""
    mine = [each for each in ending.chances if each.kind in OF_THE_MACHINE and each.probability >= _LEAST_CHANCE]
    total = sum(each.probability for each in mine)
    return tuple((_AS_FINDING[each.kind][1], each.probability / total) for each in mine) if len(mine) > 1 else ()


def kind_words(ending: MachineEnding) -> str:
    """Say what kind of end it was, or what it may have been."""
    if ending.kind is not EndingKind.UNKNOWN:
        return f"{ending.kind.value} ({ending.probability * 100:.0f} %)"
    likely = (each for each in ending.chances[:3] if each.probability >= _LEAST_CHANCE)
    return "an unknown kind of end: " + ", ".join(
        f"{each.kind.value} {each.probability * 100:.0f} %" for each in likely
    )


def ending_sentence(ending: MachineEnding) -> str:
    """Say an end in one sentence: what it was, how sure that is, under what."""
    under = f"under {' and '.join(ending.loads)}" if ending.loads else "under no load"
    heat = f", processor at {ending.temperature_c:.0f} °C" if ending.temperature_c is not None else ""
    after = f" after {span_text(ending.loaded_s)} under load" if ending.loaded_s >= 1.0 else ""
    where = f"Run {ending.run}" if ending.run else "The idle machine"
    return f"{where} ended by {kind_words(ending)}, {under}{after}{heat}"


def span_text(seconds: float) -> str:
    """Return seconds as a person says them: in seconds up to two minutes, then in minutes."""
    return f"{seconds:.0f} s" if seconds < 120.0 else f"{seconds / 60.0:.0f} min"
