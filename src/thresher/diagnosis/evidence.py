"""Evidence as the diagnosis counts it: cells of equal conditions, groups of findings, pieces to be named."""

import math
import re
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
import numpy.typing as npt

from thresher.diagnosis.knowledge import Mode
from thresher.model.exposure import band_of
from thresher.model.findings import ADOPTED, ENDING_KINDS, Finding, FindingKind, WordNature
from thresher.model.parts import PartKind
from thresher.model.trials import EMPTY_BOOK, Book, Configuration, Ended, Outcome, Trial
from thresher.model.verdict import EVERYDAY_USE, Exposure

Floats = npt.NDArray[np.float64]


GRID_POINTS = 19
_GRID_REACH = 2.5
_GRID_STEPS = np.linspace(-_GRID_REACH, _GRID_REACH, GRID_POINTS)
_GRID_LOG_WEIGHTS = -(_GRID_STEPS**2) / 2 - np.logaddexp.reduce(-(_GRID_STEPS**2) / 2)
_OUTSIDE_LOGGED = 0.2
"""Share of what happened outside our runs that is reported: use is unknown, logs are cut; the makers' judgement."""
_EVERYDAY_SHARE = 0.05
"""How hard everyday use strains a part, as a share of the load that strains it most; the makers' judgement."""


@dataclass(frozen=True, slots=True)
class Evidence:
    """All that is known: findings, minutes of load, the number of cores, what the customer says, the book of trials.

    Without a book every part is the machine's own and always in it.
    """

    findings: tuple[Finding, ...]
    exposures: tuple[Exposure, ...]
    cores: int
    symptoms: tuple[str, ...] = ()
    book: Book = EMPTY_BOOK


@dataclass(frozen=True, slots=True)
class Cell:
    """Equal conditions: a load, a band of temperature, what was installed (the trial's place in the book), which cores.

    `cores` are those that the load ran on, none for all of them.
    """

    load: str
    temperature_c: float | None
    trial: int = 0
    cores: tuple[int, ...] = ()


class Again(StrEnum):
    """Whether wrong memory words are where, or in the bits, that were wrong before."""

    SAME = "the same as before"
    OTHER = "another than before"


@dataclass(frozen=True, slots=True)
class Sign:
    """What beside its kind a finding says about its cause; None or empty where it says nothing.

    `steady` for memory words that were the same on every read and for results that came out wrong again, `lane` for
    the bits of memory words, `word` for their addresses, `slot` for the slot that its words are in, `device` for
    the drive or card that was named, of the kind `part`, `kinds` for what it may have been where that is not certain.
    """

    steady: bool | None = None
    lane: Again | None = None
    word: Again | None = None
    slot: str = ""
    device: str = ""
    part: PartKind | None = None
    kinds: tuple[tuple[FindingKind, float], ...] = ()


NO_SIGN = Sign()


@dataclass(frozen=True, slots=True)
class Group:
    """Findings of one kind and sign in one cell on one core, with the count that a storm is worth."""

    cell: Cell
    kind: FindingKind
    core: int | None
    worth: float
    sign: Sign = NO_SIGN


@dataclass(frozen=True, slots=True)
class Piece:
    """A piece of evidence that a technician would name: groups of findings, or minutes of a load."""

    text: str
    groups: tuple[Group, ...] = ()
    minutes: tuple[tuple[Cell, float], ...] = ()


def evidence_of(
    findings: Iterable[Finding],
    exposures: Iterable[Exposure],
    cores: int,
    symptoms: tuple[str, ...],
    book: Book,
) -> Evidence:
    """Return the evidence that a job holds, live and from its file: everything found, all minutes, what was tried.

    A book in which nothing was tried says nothing, and is left out."""
    findings, exposures = tuple(findings), tuple(exposures)
    ended = {each.run for each in findings if each.kind in ENDING_KINDS or each.origin == ADOPTED}
    # minutes before an end that nobody can blame the machine for say nothing; before its own they count with it
    exposures = tuple(each for each in exposures if not each.broken_off or each.run in ended)
    tried = len(book.trials) > 1 or any(trial.outcomes for trial in book.trials)
    return Evidence(findings, exposures, cores, symptoms, book if tried else EMPTY_BOOK)


def damped_count(count: float) -> float:
    """Return what a number of equal findings in one cell is worth: the first three in full, then by doublings."""
    return float(min(count, 3) + np.log2(1 + max(0, count - 3)))


def cell_of(load: str, temperature_c: float | None, trial: int = 0, cores: tuple[int, ...] = ()) -> Cell:
    """Return the cell of a load at a temperature."""
    return Cell(load, band_of(temperature_c), trial, cores)


def grid_of(mode: Mode) -> tuple[Floats, Floats]:
    """Return strengths (findings per hour) and the logarithms of their prior weights."""
    return 10.0 ** (mode.rate + _GRID_STEPS * mode.spread_decades), _GRID_LOG_WEIGHTS


def rate_factor(mode: Mode, cell: Cell) -> float:
    """How much faster or slower than at reference conditions findings come in a cell."""
    heat = 1.0
    if mode.heat_k and cell.temperature_c is not None:
        heat = math.exp(min(4.0, max(-6.0, (cell.temperature_c - mode.reference_c) / mode.heat_k)))
    if cell.load in (EVERYDAY_USE, ""):
        if mode.everyday is not None:
            return mode.everyday
        return _EVERYDAY_SHARE * max(mode.loads.values(), default=0.0)
    return mode.loads.get(cell.load, 0.0) * heat


_ONLY_BY_COMPARING = (
    FindingKind.WRONG_RESULT,
    FindingKind.MEMORY_WRONG,
    FindingKind.MESSAGE_WRONG,
    FindingKind.REFERENCE_DISPUTE,
    FindingKind.ROUND_OFF,
    FindingKind.CORE_HANG,
    FindingKind.WORKER_CRASH,
    FindingKind.CARD_RESULT,
    FindingKind.CARD_PIXEL,
    FindingKind.CARD_MEMORY,
    FindingKind.CARD_TRANSFER,
    FindingKind.ARTEFACT_SHOWN,
    FindingKind.ARTEFACT_DRAWN,
)
"""Findings that only loads make, which compare what they work out; everyday use leaves no trace of such."""


def logged_share(mode: Mode, load: str) -> float:
    """Return which share of a mode's findings is reported at all under a load: in everyday use, what a log holds."""
    if load not in (EVERYDAY_USE, ""):
        return 1.0
    return 1.0 - sum(mode.shows.get(kind, 0.0) for kind in _ONLY_BY_COMPARING)


def configuration_in(evidence: Evidence, cell: Cell) -> Configuration | None:
    """Return what was installed in a cell, None when no book is kept."""
    trials = evidence.book.trials
    return trials[cell.trial].configuration if cell.trial < len(trials) else None


def _trial_number(evidence: Evidence, run: int | None) -> int:
    trial = evidence.book.trial_of(run)
    return evidence.book.trials.index(trial) if trial is not None else 0


def pieces_of(evidence: Evidence) -> list[Piece]:
    """Order the evidence for the explanation: minutes by load, then findings by kind and core as they first came.

    Minutes come first: what they say by themselves is what the same time without a finding would have said.
    """
    named: dict[tuple[int, FindingKind, int | None], dict[tuple[Cell, Sign], float]] = {}
    many: Counter[tuple[int, FindingKind, int | None]] = Counter()
    for finding, sign in zip(evidence.findings, signs_of(evidence.findings), strict=True):
        trial = _trial_number(evidence, finding.run)
        cells = named.setdefault((trial, finding.kind, finding.core), {})
        key = (cell_of(finding.load, finding.temperature_c, trial, finding.cores), sign)
        cells[key] = cells.get(key, 0.0) + finding.count * finding.weight
        many[trial, finding.kind, finding.core] += finding.count
    by_load: dict[tuple[int, str], dict[Cell, float]] = {}
    for exposure in evidence.exposures:
        trial = _trial_number(evidence, exposure.run)
        cells_of_load = by_load.setdefault((trial, exposure.load), {})
        cell = cell_of(exposure.load, exposure.temperature_c, trial, exposure.cores)
        reported = 1.0 if exposure.block >= 0 else _OUTSIDE_LOGGED
        cells_of_load[cell] = cells_of_load.get(cell, 0.0) + exposure.minutes * reported
    pieces = [
        Piece(f"{sum(spent.values()):.0f} min of {load}, time alone{_under(evidence, trial)}", (), tuple(spent.items()))
        for (trial, load), spent in by_load.items()
    ]
    for (trial, kind, core), cells in named.items():
        groups = tuple(Group(cell, kind, core, damped_count(count), sign) for (cell, sign), count in cells.items())
        where = f", core {core}" if core is not None else ""
        pieces.append(Piece(f"{many[trial, kind, core]} × {kind.value}{where}{_under(evidence, trial)}", groups))
    dead: set[Configuration] = set()
    for number, each in enumerate(evidence.book.trials):
        for outcome in each.outcomes:
            # that it does not start is a state of the machine as it is then, and no count: trying again says nothing
            if outcome.ended is Ended.NO_START and each.configuration in dead:
                continue
            dead |= {each.configuration} if outcome.ended is Ended.NO_START else set()
            pieces.append(_outcome_piece(each, number, outcome))
    return pieces


def signs_of(findings: tuple[Finding, ...]) -> list[Sign]:
    """Return what each finding says beside its kind, in the order of the findings.

    The first wrong memory word fixes lane and address that later ones are held against.
    """
    signs, lanes, words = [], set[int](), set[int]()
    for finding in findings:
        if finding.kind is not FindingKind.MEMORY_WRONG or not finding.places:
            slot = finding.place if finding.kind is FindingKind.MEMORY_WRONG else ""
            device = _device_of(finding)
            part = finding.part if device else None
            signs.append(Sign(_steady(finding), slot=slot, device=device, part=part, kinds=finding.kinds))
            continue
        mine = {bit for place in finding.places for bit in place.bits}
        where = {place.physical for place in finding.places if place.physical is not None}
        lane = _again(mine, lanes) if lanes else Again.OTHER if len(mine) > 1 else None
        word = _again(where, words) if words and where else None
        lanes, words = lanes | mine, words | where
        signs.append(Sign(_steady(finding), lane, word, finding.place))
    return signs


_CARD = re.compile(r"card\d+")


def _device_of(finding: Finding) -> str:
    """Return the drive or graphics card that a finding names, as the kernel calls it."""
    if finding.part is PartKind.DRIVE or (finding.part is PartKind.GRAPHICS and _CARD.fullmatch(finding.place)):
        return finding.place
    return ""


def _again(mine: set[int], before: set[int]) -> Again:
    return Again.SAME if mine <= before else Again.OTHER


def _steady(finding: Finding) -> bool | None:
    if finding.kind is FindingKind.MEMORY_WRONG and finding.places:
        first = finding.places[0]
        return None if first.nature is WordNature.FLIP else first.steady  # a flip may be the cell's or the way's
    if finding.kind is FindingKind.WRONG_RESULT and finding.repeats:
        share = finding.wrong_again / finding.repeats
        return True if share > 0.6 else False if share < 0.3 else None
    return None


def _under(evidence: Evidence, trial: int) -> str:
    """Name the trial where there are several."""
    if len(evidence.book.trials) < 2:
        return ""
    return f" ({evidence.book.trials[trial].title})"


def _outcome_piece(trial: Trial, number: int, outcome: Outcome) -> Piece:
    """Return what was seen elsewhere as a piece; how far it is trusted scales what it counts."""
    cell = cell_of(outcome.load, None, number)
    minutes = ((cell, outcome.minutes * outcome.trust),)
    reported = f"{trial.title}: {outcome.ended.value}"
    if outcome.ended is Ended.CLEAN:
        return Piece(f"{reported} for {outcome.minutes:.0f} min of {outcome.load}", (), minutes)
    default = FindingKind.NO_START if outcome.ended is Ended.NO_START else FindingKind.MEMORY_WRONG
    kind = outcome.kind or default
    after = f" after {outcome.minutes:.0f} min of {outcome.load}" if outcome.ended is Ended.FAILED else ""
    return Piece(f"{reported}{after}", (Group(cell, kind, None, outcome.trust),), minutes)
