"""Evidence as the diagnosis counts it: cells of equal conditions, groups of findings, pieces to be named."""

import math
import re
from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
import numpy.typing as npt

from thresher.diagnosis.knowledge import Mode
from thresher.diagnosis.likelihood import STEP
from thresher.model.exposure import BAND_K, band_of
from thresher.model.findings import ADOPTED, ENDING_KINDS, Finding, FindingKind, WordNature
from thresher.model.parts import PartKind
from thresher.model.trials import EMPTY_BOOK, Book, Configuration, Ended, Outcome, Trial
from thresher.model.verdict import EVERYDAY_USE, Exposure

Floats = npt.NDArray[np.float64]


GRID_POINTS = 57
_GRID_REACH = 3.3
"""So many standard deviations strengths reach to either side."""
_GRID_STEPS = STEP * (np.arange(GRID_POINTS) - GRID_POINTS // 2)
_NOTICED_HOURS = 3.0
"""Hours of hard work that a machine's owner puts it through before he brings it in; the makers' judgement."""
_BANDS_K = (BAND_K, 15.0, 45.0, math.inf)
_MOST_GROUPS = 160
"""Of more groups of findings, bands of temperature are joined: they tell nothing more."""
_MOST_PIECES = 60
"""Of more pieces of findings, those of one kind and core in different trials are one for the explanation."""
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
    whether a memory word is wrong in the bit that most of them have wrong, `word` for their addresses, `slot` for the
    slot that its words are in, `device` for the drive or card that was named, of the kind `part`, `kinds` for what it
    may have been where that is not certain.
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
class State:
    """That the machine started, or did not, as it was in a trial; `trust` is how far the word for it goes."""

    trial: int
    dead: bool
    trust: float


@dataclass(frozen=True, slots=True)
class Piece:
    """A piece of evidence that a technician would name: groups of findings, minutes of a load, or a state."""

    text: str
    groups: tuple[Group, ...] = ()
    minutes: tuple[tuple[Cell, float], ...] = ()
    state: State | None = None


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
    """Return strengths (findings per hour) and the logarithms of their prior weights, minus infinity far out."""
    deviations = _GRID_STEPS / (mode.spread_decades * math.log(10.0))
    strengths = 10.0**mode.rate * np.exp(_GRID_STEPS)
    # what an owner would not have noticed is hardly ever brought in
    noticed = np.log(-np.expm1(-_NOTICED_HOURS * strengths))
    weights = np.where(np.abs(deviations) <= _GRID_REACH, -(deviations**2) / 2.0 + noticed, -np.inf)
    return strengths, weights - np.logaddexp.reduce(weights)


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


def configuration_of(evidence: Evidence, trial: int) -> Configuration | None:
    """Return what was installed in a trial, None when no book is kept."""
    trials = evidence.book.trials
    return trials[trial].configuration if trial < len(trials) else None


def trial_number(evidence: Evidence, run: int | None) -> int:
    """Return the place in the book of the trial that a run belongs to, the first of those in the same configuration."""
    trial = evidence.book.trial_of(run)
    return first_like(evidence.book, trial.configuration) if trial is not None else 0


def first_like(book: Book, configuration: Configuration) -> int:
    """Return the place in the book of the first trial in a configuration."""
    return next(number for number, each in enumerate(book.trials) if each.configuration == configuration)


def pieces_of(evidence: Evidence) -> list[Piece]:
    """Order the evidence for the explanation: minutes by load, then findings by kind and core as they first came.

    Minutes come first: what they say by themselves is what the same time without a finding would have said. Whether
    the machine started comes last.
    """
    runs = {each.run for each in evidence.findings} | {each.run for each in evidence.exposures}
    number_of = {run: trial_number(evidence, run) for run in runs}
    pieces = _minutes(evidence, number_of)
    signs = signs_of(evidence.findings)
    trials = [number_of[finding.run] for finding in evidence.findings]
    counted = [n for n, each in enumerate(evidence.findings) if each.kind is not FindingKind.NO_START]
    found: list[Piece] = []
    alike = {(trials[n], signs[n], evidence.findings[n].core, evidence.findings[n].load) for n in counted}
    for band_k in _BANDS_K if len(alike) <= _MOST_GROUPS else _BANDS_K[-1:]:
        found = _findings(evidence, signs, trials, counted, band_k)
        if sum(len(each.groups) for each in found) <= _MOST_GROUPS:
            break
    pieces += found
    for each in evidence.book.trials:
        like = first_like(evidence.book, each.configuration)
        pieces += [_outcome_piece(each, like, outcome) for outcome in each.outcomes if _is_count(outcome)]
    return pieces + _states(evidence)


def _minutes(evidence: Evidence, number_of: Mapping[int | None, int]) -> list[Piece]:
    by_load: dict[tuple[int, str], dict[Cell, float]] = {}
    for exposure in evidence.exposures:
        trial = number_of[exposure.run]
        cells_of_load = by_load.setdefault((trial, exposure.load), {})
        cell = cell_of(exposure.load, exposure.temperature_c, trial, exposure.cores)
        cells_of_load[cell] = cells_of_load.get(cell, 0.0) + reported_minutes(exposure)
    return [
        Piece(f"{sum(spent.values()):.0f} min of {load}, time alone{_under(evidence, trial)}", (), tuple(spent.items()))
        for (trial, load), spent in by_load.items()
    ]


def reported_minutes(exposure: Exposure) -> float:
    """Return the minutes of a load that count: of use outside our runs only what would be known of them."""
    return exposure.minutes * (1.0 if exposure.block >= 0 else _OUTSIDE_LOGGED)


def _findings(
    evidence: Evidence, signs: list[Sign], trials: list[int], counted: list[int], band_k: float
) -> list[Piece]:
    """Return findings as pieces, their temperatures in bands so many kelvin wide."""
    together = len({(trials[n], evidence.findings[n].kind, evidence.findings[n].core) for n in counted}) > _MOST_PIECES
    named: dict[tuple[int, FindingKind, int | None], dict[tuple[Cell, int | None, Sign], float]] = {}
    many: Counter[tuple[int, FindingKind, int | None]] = Counter()
    for n in counted:
        finding, trial = evidence.findings[n], trials[n]
        name = (-1, finding.kind, None) if together else (trial, finding.kind, finding.core)
        cell = Cell(finding.load, _band(finding.temperature_c, band_k), trial, finding.cores)
        key = (cell, finding.core, signs[n])
        cells = named.setdefault(name, {})
        cells[key] = cells.get(key, 0.0) + finding.count * finding.weight
        many[name] += finding.count
    pieces = []
    for (trial, kind, core), cells in named.items():
        groups = tuple(Group(cell, kind, at, damped_count(count), sign) for (cell, at, sign), count in cells.items())
        where = f", core {core}" if core is not None else ""
        under = _under(evidence, trial) if trial >= 0 else ""
        count = many[trial, kind, core]
        pieces.append(Piece(f"{count} × {kind.value}{where}{under}{_conditions(cell for cell, _, _ in cells)}", groups))
    return pieces


def _conditions(cells: Iterable[Cell]) -> str:
    """Name the loads, and the temperatures where they are known, that findings came under."""
    seen = list(cells)
    loads = ", ".join(dict.fromkeys(cell.load for cell in seen if cell.load))
    warm = [cell.temperature_c for cell in seen if cell.temperature_c is not None]
    words = f" under {loads}" if loads and loads != EVERYDAY_USE else f" in {loads}" if loads else ""
    if not warm:
        return words
    low, high = min(warm), max(warm)
    return f"{words} at {low:.0f} °C" if low == high else f"{words} at {low:.0f} to {high:.0f} °C"


def _band(temperature_c: float | None, band_k: float) -> float | None:
    """Return the middle of the band that a temperature falls in, None where one band holds all."""
    if temperature_c is None or math.isinf(band_k):
        return None
    return (math.floor(temperature_c / band_k) + 0.5) * band_k


def _is_count(outcome: Outcome) -> bool:
    return outcome.ended is not Ended.NO_START


def states_of(evidence: Evidence) -> dict[Configuration | None, State]:
    """Return in which configurations the machine started, and in which it did not, by the newest trial of each.

    In one trial the last result from elsewhere counts more than its runs: a machine that has run and then no longer
    starts is dead. When it starts again, its next run begins another trial."""
    ran = {exposure.run for exposure in evidence.exposures if exposure.block >= 0}
    ran |= {each.run for each in evidence.findings if each.run is not None and each.kind is not FindingKind.NO_START}
    dead_runs = {each.run for each in evidence.findings if each.kind is FindingKind.NO_START}
    states: dict[Configuration | None, State] = {}
    for number, each in enumerate(evidence.book.trials):
        last = each.outcomes[-1] if each.outcomes else None
        if last is not None:
            states[each.configuration] = State(number, last.ended is Ended.NO_START, last.trust)
        elif dead_runs & set(each.runs) or (number == 0 and None in dead_runs):
            states[each.configuration] = State(number, True, 1.0)
        elif ran & set(each.runs):
            states[each.configuration] = State(number, False, 1.0)
    if dead_runs and not evidence.book.trials:
        states[None] = State(0, True, 1.0)
    return states


def _states(evidence: Evidence) -> list[Piece]:
    """Return whether the machine started as pieces: none while it always did, since that says next to nothing."""
    states = states_of(evidence).values()
    if not any(state.dead for state in states):
        return []
    ordered = sorted(states, key=lambda state: not state.dead)
    return [
        Piece(f"{'does not start' if state.dead else 'starts'}{_under(evidence, state.trial)}", state=state)
        for state in ordered
    ]


def signs_of(findings: tuple[Finding, ...]) -> list[Sign]:
    """Return what each finding says beside its kind, in the order of the findings.

    Wrong memory words are held against all others, whatever order they came in. The bit that most of them have wrong is
    the lane that they are in, if any; one of them only says which lane that is. Of words at the same place one says
    where that is, the others that it was the same.
    """
    words = [n for n, each in enumerate(findings) if each.kind is FindingKind.MEMORY_WRONG and each.places]
    words.sort(key=lambda n: _content_of(findings[n]))
    bits = {n: frozenset(bit for place in findings[n].places for bit in place.bits) for n in words}
    counts = Counter(next(iter(bits[n])) for n in words if len(bits[n]) == 1)
    lane = min(counts, key=lambda bit: (-counts[bit], bit)) if counts else None
    lanes: dict[int, Again | None] = {}
    places: dict[int, Again | None] = {}
    first_in_lane, seen = True, set[int]()
    for n in words:
        if bits[n] == {lane} and first_in_lane:
            lanes[n], first_in_lane = None, False
        else:
            lanes[n] = Again.SAME if bits[n] == {lane} else Again.OTHER
        where = {place.physical for place in findings[n].places if place.physical is not None}
        places[n] = None if not where or not seen else Again.SAME if where <= seen else Again.OTHER
        seen |= where
    signs = []
    for n, finding in enumerate(findings):
        if n in lanes:
            signs.append(Sign(_steady(finding), lanes[n], places[n], finding.place))
            continue
        slot = finding.place if finding.kind is FindingKind.MEMORY_WRONG else ""
        device = _device_of(finding)
        part = finding.part if device else None
        signs.append(Sign(_steady(finding), slot=slot, device=device, part=part, kinds=finding.kinds))
    return signs


def _content_of(finding: Finding) -> tuple[object, ...]:
    """Return what orders findings by what they are, so that the order they came in changes nothing."""
    places = tuple((place.physical or -1, place.virtual, tuple(place.bits)) for place in finding.places)
    return places, finding.load, finding.temperature_c or 0.0, finding.run or 0, finding.at


_CARD = re.compile(r"card\d+")


def _device_of(finding: Finding) -> str:
    """Return the drive or graphics card that a finding names, as the kernel calls it."""
    if finding.part is PartKind.DRIVE or (finding.part is PartKind.GRAPHICS and _CARD.fullmatch(finding.place)):
        return finding.place
    return ""


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
    kind = outcome.kind or FindingKind.MEMORY_WRONG
    text = f"{reported} after {outcome.minutes:.0f} min of {outcome.load}"
    return Piece(text, (Group(cell, kind, None, outcome.trust),), minutes)
