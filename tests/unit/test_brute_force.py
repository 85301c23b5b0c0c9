"""The diagnosis against a brute force of its own: every pair, every strength, every hidden factor, summed one by one.

Nothing here is taken from the diagnosis but its answer. The knowledge base, what findings there are, and the sums are
written down once more from what docs/diagnosis.md says of the model.
"""

import itertools
import math
from dataclasses import dataclass

import numpy as np
import pytest

from thresher.diagnosis.evidence import Evidence
from thresher.diagnosis.inference import compute_posterior
from thresher.diagnosis.knowledge import Knowledge, parse_knowledge
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import PartKind
from thresher.model.trials import Book, BookPart, Configuration, Ended, Outcome, Trial
from thresher.model.verdict import EVERYDAY_USE, Exposure

K, P = FindingKind, PartKind
QUIET = {K.CORRECTED_CHECK: 0.02, K.MEMORY_CORRECTED: 0.03, K.ENDED_SUDDENLY: 0.01}
NOTHING, TOGETHER, BAD_SHOP = 0.8, 0.2, 0.05
CORES = 2


@dataclass(frozen=True, eq=False)
class Way:
    """A way of being faulty as this file reckons with it."""

    name: str
    part: PartKind
    prior: float
    rate: float
    decades: float
    loads: dict[str, float]
    shows: dict[FindingKind, float]
    everyday: float
    heat_k: float = 0.0
    one_core: bool = False
    harmless: bool = False
    slot: bool = False
    treatable: bool = False
    no_start: float = 0.0


WAYS = (
    Way(
        "weak core",
        P.PROCESSOR,
        0.1,
        1.1,
        0.8,
        {"matrix": 1.0, "memory": 0.3},
        {K.CORRECTED_CHECK: 0.8, K.MEMORY_CORRECTED: 0.05, K.ENDED_SUDDENLY: 0.15},
        0.05,
        heat_k=9.0,
        one_core=True,
        no_start=0.02,
    ),
    Way(
        "cells",
        P.MEMORY,
        0.2,
        1.5,
        0.7,
        {"matrix": 0.02, "memory": 2.0},
        {K.MEMORY_CORRECTED: 0.85, K.ENDED_SUDDENLY: 0.15},
        0.1,
        no_start=0.1,
    ),
    Way(
        "contact",
        P.MEMORY,
        0.07,
        1.2,
        0.9,
        {"matrix": 0.02, "memory": 1.5},
        {K.MEMORY_CORRECTED: 0.9, K.ENDED_SUDDENLY: 0.1},
        0.1,
        treatable=True,
        no_start=0.3,
    ),
    Way(
        "slot",
        P.BOARD,
        0.03,
        1.3,
        0.8,
        {"matrix": 0.1, "memory": 1.5},
        {K.MEMORY_CORRECTED: 0.9, K.ENDED_SUDDENLY: 0.1},
        0.1,
        slot=True,
        no_start=0.1,
    ),
    Way(
        "strays",
        P.BOARD,
        0.06,
        -0.5,
        0.7,
        {"matrix": 0.2, "memory": 0.2},
        {K.MEMORY_CORRECTED: 0.5, K.CORRECTED_CHECK: 0.5},
        1.0,
        harmless=True,
    ),
)
OWN_PARTS = {"P1": P.PROCESSOR, "M1": P.MEMORY, "M2": P.MEMORY, "B1": P.BOARD}
SHOP_PARTS = {"X1": P.MEMORY}
FIRST = Configuration(("P1", "M1", "M2", "B1"), (("A2", "M1"), ("B2", "M2")))
ALONE = Configuration(("P1", "M1", "B1"), (("A2", "M1"),))
OTHER_SLOT = Configuration(("P1", "M1", "B1"), (("B2", "M1"),), (), ("M1",))
OURS = Configuration(("P1", "X1", "M2", "B1"), (("A2", "X1"), ("B2", "M2")))


def knowledge() -> Knowledge:
    text = 'format = "thresher-knowledge/1"\n[thresholds]\nreplace = 0.8\ndoubt = 0.1\ncleared = 0.02\n'
    text += "cleared_shown = 0.8\nbuy = 0.95\ntreat = 0.85\nsound = 0.9\n"
    text += f"[weights]\nnothing = {NOTHING}\ntogether = {TOGETHER}\n[background]\n"
    text += "".join(f'"{kind.value}" = {QUIET.get(kind, 0.001)}\n' for kind in K)
    for way in WAYS:
        loads = ", ".join(f"{load} = {worth}" for load, worth in way.loads.items())
        text += f'[[modes]]\nname = "{way.name}"\npart = "{way.part.value}"\ntitle = "{way.name}"\n'
        text += f'prior = {way.prior}\nsource = "test"\nrate = {way.rate}\nspread_decades = {way.decades}\n'
        text += f'everyday = {way.everyday}\nno_start = {way.no_start}\nnext_step = "none"\nloads = {{ {loads} }}\n'
        text += f"heat_k = {way.heat_k}\n" + ('places = "one core"\n' if way.one_core else "")
        text += 'action = "nothing"\n' if way.harmless else ""
        text += 'action = "use another slot"\nmoves = "memory slot"\n' if way.slot else ""
        text += 'action = "reseat"\ntreatable = true\n' if way.treatable else ""
        text += "[modes.shows]\n" + "".join(f'"{kind.value}" = {share}\n' for kind, share in way.shows.items())
    return parse_knowledge(text, "test")


@dataclass(frozen=True, eq=False)
class Single:
    """One fault: the way, where it is, and how common."""

    way: Way
    tag: str
    slot: str
    core: int | None
    prior: float
    by_itself: bool
    mends: float = 0.03
    """What is left of it once its part was reseated: all, nothing, or 3 % where it never was."""


def singles(seen_cores: list[int], reseated: set[str]) -> list[Single]:
    found = []
    shop_total = sum(way.prior for way in WAYS if way.part is P.MEMORY)
    for way in WAYS:
        if way.slot:
            found += [Single(way, "", slot, None, way.prior / 2, False) for slot in ("A2", "B2")]
        elif way.harmless:
            found.append(Single(way, "", "", None, way.prior, True))
        else:
            own = [tag for tag, kind in OWN_PARTS.items() if kind is way.part]
            places = [(tag, way.prior / len(own), False) for tag in own]
            odds = BAD_SHOP / (1 - BAD_SHOP) * way.prior / shop_total * NOTHING
            places += [(tag, odds, True) for tag, kind in SHOP_PARTS.items() if kind is way.part]
            for tag, prior, by_itself in places:
                if way.treatable and tag in reseated:  # either that mends it, as a rule, or it does not
                    found.append(Single(way, tag, "", None, prior * 0.97, by_itself, 0.0))
                    found.append(Single(way, tag, "", None, prior * 0.03, by_itself, 1.0))
                    continue
                if not way.one_core:
                    found.append(Single(way, tag, "", None, prior, by_itself))
                    continue
                found += [Single(way, tag, "", core, prior / CORES, by_itself) for core in seen_cores]
                rest = CORES - len(seen_cores)
                if rest:
                    found.append(Single(way, tag, "", None, prior * rest / CORES, by_itself))
    return found


def acts(single: Single, fitted: Configuration) -> float:
    if single.way.slot:
        return float(any(place == single.slot for place, _ in fitted.places))
    if single.tag and single.tag not in fitted.tags:
        return 0.0
    return single.mends if single.way.treatable and single.tag in fitted.treated else 1.0


def pace(single: Single, load: str, temperature: float | None) -> float:
    """How much an hour is worth: sensitivity and heat in the middle of its band of 5 K."""
    if load == EVERYDAY_USE:
        return single.way.everyday
    warm = 1.0
    if single.way.heat_k and temperature is not None:
        warm = math.exp(min(4.0, max(-6.0, ((temperature // 5 + 0.5) * 5 - 80.0) / single.way.heat_k)))
    return single.way.loads[load] * warm


def strengths(way: Way, finer: int) -> tuple[np.ndarray, np.ndarray]:
    """Every `finer`-th part of the steps of a quarter of ln 3, out to 3.3 standard deviations."""
    step = math.log(3) / 4 / finer
    offsets = np.arange(-28 * finer, 28 * finer + 1) * step
    deviations = offsets / (way.decades * math.log(10))
    inside = np.abs(deviations) <= 3.3
    theta = 10**way.rate * np.exp(offsets[inside])
    weights = np.exp(-(deviations[inside] ** 2) / 2) * (1 - np.exp(-3.0 * theta))
    return theta, weights / weights.sum()


FACTORS = ((1 / 3, 1 / 6), (1.0, 2 / 3), (3.0, 1 / 6))
OUTSIDE = ((1 / 9, 1 / 6), (1.0, 2 / 3), (9.0, 1 / 6))


def rate_of(
    finding: Finding,
    faults: tuple[Single, ...],
    strong: list[np.ndarray],
    fitted: Configuration,
    shape: tuple[int, ...],
) -> np.ndarray:
    """How often a finding comes by chance and by all faults together, for all their strengths."""
    rate = np.full(shape, QUIET[finding.kind] / (CORES if finding.core is not None else 1))
    for fault, theta in zip(faults, strong, strict=True):
        share = fault.way.shows.get(finding.kind, 0.0)
        if finding.core is not None:
            share *= float(finding.core == fault.core) if fault.way.one_core else 1 / CORES
        rate = rate + theta * pace(fault, finding.load, finding.temperature_c) * acts(fault, fitted) * share
    return rate


def likelihood(faults: tuple[Single, ...], evidence: Evidence, finer: int) -> float:
    """Sum over strengths of all faults, and in each stint over the hidden factors of each."""
    trials = evidence.book.trials
    trial_of: dict[int | None, Trial] = {run: trial for trial in trials for run in trial.runs}
    grids = [strengths(fault.way, finer) for fault in faults]
    shape = tuple(len(theta) for theta, _ in grids)
    total = np.zeros(shape)
    found: dict[tuple[int, str], list[tuple[Finding, float]]] = {}
    for finding in evidence.findings:
        found.setdefault((trial_of[finding.run].number, finding.load), []).append((finding, finding.weight))
    spent: dict[tuple[int, str], list[tuple[float | None, float]]] = {}
    for each in evidence.exposures:
        minutes = each.minutes * (1.0 if each.block >= 0 else 0.2)
        spent.setdefault((trial_of[each.run].number, each.load), []).append((each.temperature_c, minutes))
    for stint in set(found) | set(spent):
        fitted, load = trials[stint[0]].configuration, stint[1]
        factors = OUTSIDE if load == EVERYDAY_USE else FACTORS
        parts = []
        for chosen in itertools.product(factors, repeat=len(faults)):
            strong = [
                np.reshape(theta * factor, [-1 if axis == n else 1 for axis in range(len(faults))])
                for n, ((theta, _), (factor, _)) in enumerate(zip(grids, chosen, strict=True))
            ]
            log = np.full(shape, sum(math.log(weight) for _, weight in chosen))
            for finding, worth in found.get(stint, []):
                log = log + worth * np.log(rate_of(finding, faults, strong, fitted, shape))
            for temperature, minutes in spent.get(stint, []):
                for fault, theta in zip(faults, strong, strict=True):
                    log = log - theta * pace(fault, load, temperature) * acts(fault, fitted) * minutes / 60
            parts.append(log)
        total = total + np.logaddexp.reduce(parts, axis=0)
    for axis, (_, weights) in enumerate(grids):
        total = total + np.log(np.reshape(weights, [-1 if a == axis else 1 for a in range(len(faults))]))
    return float(np.logaddexp.reduce(total, axis=None)) + math.log(starting(faults, evidence))


def starting(faults: tuple[Single, ...], evidence: Evidence) -> float:
    """Sum over which of the faults keep the machine from starting."""
    trials = evidence.book.trials
    dead = {t.configuration: o.trust for t in trials for o in t.outcomes if o.ended is Ended.NO_START}
    if not dead:
        return 1.0
    ran = {each.run for each in evidence.exposures if each.block >= 0} | {each.run for each in evidence.findings}
    started = {t.configuration for t in trials if ran & set(t.runs)} - set(dead)
    total = 0.0
    for latent in itertools.product((False, True), repeat=len(faults)):
        chance = 1.0
        for fault, stops in zip(faults, latent, strict=True):
            chance *= fault.way.no_start if stops else 1 - fault.way.no_start
        for fitted in [*dead, *started]:
            stopped = max(
                (acts(fault, fitted) for fault, stops in zip(faults, latent, strict=True) if stops), default=0
            )
            none = 0.003 + (0.97 - 0.003) * stopped
            seen, trust = (none, dead[fitted]) if fitted in dead else (1 - none, 1.0)
            chance *= trust * seen + (1 - trust) * (0.05 if fitted in dead else 0.95)
        total += chance
    return total


def by_force(evidence: Evidence, finer: int = 1) -> dict[tuple[tuple[str, str, str, int], ...], float]:
    cores = list(dict.fromkeys(each.core for each in evidence.findings if each.core is not None))
    mine = singles(cores, {tag for trial in evidence.book.trials for tag in trial.configuration.treated})
    weighed: dict[tuple[Single, ...], float] = {(): math.log(NOTHING) + likelihood((), evidence, finer)}
    for one in mine:
        weighed[(one,)] = math.log(one.prior) + likelihood((one,), evidence, finer)
    for one, other in itertools.combinations(mine, 2):
        if (one.way, one.tag, one.slot) == (other.way, other.tag, other.slot):
            continue  # one part is not faulty twice in the same way
        rare = 1 / NOTHING if one.by_itself or other.by_itself else TOGETHER
        both = math.log(one.prior) + math.log(other.prior) + math.log(rare)
        weighed[one, other] = both + likelihood((one, other), evidence, finer)
    total = np.logaddexp.reduce(list(weighed.values()))
    summed: dict[tuple[tuple[str, str, str, int], ...], float] = {}
    for chosen, log in weighed.items():
        name = tuple(sorted((s.way.name, s.tag, s.slot, s.core if s.core is not None else -1) for s in chosen))
        summed[name] = summed.get(name, 0.0) + math.exp(log - total)
    return summed


def by_diagnosis(evidence: Evidence) -> dict[tuple[tuple[str, str, str, int], ...], float]:
    posterior = compute_posterior(evidence, knowledge())
    summed: dict[tuple[tuple[str, str, str, int], ...], float] = {}
    for numbers, chance in zip(posterior.hypotheses, posterior.posterior, strict=True):
        chosen = [posterior.faults[n] for n in numbers]
        name = tuple(sorted((f.mode.name, f.tag, f.place, f.core if f.core is not None else -1) for f in chosen))
        summed[name] = summed.get(name, 0.0) + float(chance)
    return summed


def job(seed: int) -> Evidence:
    """Draw a small job: a few findings, some minutes, up to four trials, now and then one that did not start."""
    rng = np.random.default_rng(seed)
    fitted = [FIRST, *(each for each in (ALONE, OTHER_SLOT, OURS) if rng.random() < 0.6)]
    dead = int(rng.integers(0, len(fitted))) if rng.random() < 0.4 else -1
    trials = tuple(
        Trial(n, f"trial {n}", each, (n + 1,), (Outcome(Ended.NO_START, "", 0.0, trust=0.8),) if n == dead else ())
        for n, each in enumerate(fitted)
    )
    parts = tuple(BookPart(tag, kind) for tag, kind in OWN_PARTS.items())
    parts += tuple(BookPart(tag, kind, known_good=True) for tag, kind in SHOP_PARTS.items())
    findings: list[Finding] = []
    spent: list[Exposure] = []
    for trial in trials:
        run = trial.runs[0]
        spent += [
            Exposure(run, 0, load, float(rng.integers(5, 60)), float(rng.integers(50, 95)))
            for load in ("matrix", "memory")
            if rng.random() < 0.7
        ]
        if rng.random() < 0.3:
            spent.append(Exposure(run, -1, EVERYDAY_USE, 300.0, None))
        for _ in range(int(rng.integers(0, 3))):
            kind = list(QUIET)[int(rng.integers(0, 3))]
            core = int(rng.integers(0, CORES)) if kind is K.CORRECTED_CHECK else None
            load = ("matrix", "memory")[int(rng.integers(0, 2))]
            # no two alike, so that none is damped
            warm = 50.0 + 5.0 * len(findings)
            findings.append(
                Finding(
                    "X", kind, Severity.FAULT, P.BOARD, 0.0, "", "", core=core, load=load, temperature_c=warm, run=run
                )
            )
    return Evidence(tuple(findings), tuple(spent), CORES, (), Book(parts, trials))


@pytest.mark.parametrize("seed", range(8))
def test_every_hypothesis_has_the_probability_that_summing_one_by_one_gives(seed: int) -> None:
    expected, found = by_force(job(seed)), by_diagnosis(job(seed))
    assert set(found) == set(expected)
    assert max(abs(found[each] - expected[each]) for each in expected) < 1e-6


def test_a_grid_four_times_as_fine_changes_next_to_nothing() -> None:
    coarse, fine = by_diagnosis(job(1)), by_force(job(1), 4)
    assert max(abs(coarse[each] - fine[each]) for each in fine) < 2e-3


def test_the_jobs_that_are_summed_have_all_that_the_model_knows() -> None:
    jobs = [job(seed) for seed in range(8)]
    assert any(outcome for each in jobs for trial in each.book.trials for outcome in trial.outcomes)
    assert any(exposure.load == EVERYDAY_USE for each in jobs for exposure in each.exposures)
    assert any(len(each.book.trials) == 4 for each in jobs)
    assert any(len(each.findings) >= 4 for each in jobs)
