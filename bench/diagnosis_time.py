"""How long a verdict takes as evidence grows: python bench/diagnosis_time.py."""

import statistics
import time
from collections.abc import Callable
from dataclasses import replace
from functools import partial

import numpy as np

from thresher.diagnosis.decision import load_prices
from thresher.diagnosis.evidence import Evidence
from thresher.diagnosis.knowledge import load_knowledge
from thresher.diagnosis.verdict import diagnose
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import PartKind
from thresher.model.trials import Book, BookPart, Configuration, Trial
from thresher.model.verdict import Exposure

KINDS = (FindingKind.CORRECTED_CHECK, FindingKind.WRONG_RESULT, FindingKind.HEAT_THROTTLE, FindingKind.RAIL_OUT)


def evidence(findings: int, bands: int) -> Evidence:
    """Findings spread over kinds, four cores and bands of temperature."""
    made = tuple(
        Finding(
            "P-000",
            KINDS[n % 4],
            Severity.FAULT,
            PartKind.PROCESSOR,
            0.0,
            "",
            "",
            core=n % 4 if n % 4 < 2 else None,
            load="matrix",
            temperature_c=50.0 + 5 * (n % bands),
        )
        for n in range(findings)
    )
    return Evidence(made, tuple(Exposure(1, 0, "matrix", 10.0, 50.0 + 5 * band) for band in range(bands)), 16)


def book_of_trials() -> Evidence:
    """Forty findings on fifteen parts through twelve trials."""
    kinds = (
        PartKind.PROCESSOR,
        PartKind.MEMORY,
        PartKind.MEMORY,
        PartKind.BOARD,
        PartKind.POWER,
        PartKind.COOLING,
        PartKind.GRAPHICS,
        PartKind.DRIVE,
    )
    own = tuple(BookPart(f"own {n}", kind) for n, kind in enumerate(kinds))
    ours = tuple(BookPart(f"shop {n}", kind, known_good=True) for n, kind in enumerate(kinds[:7]))
    configuration = [part.tag for part in own]
    trials = []
    for n in range(12):
        tags = list(configuration)
        if n:
            tags[n % 7] = f"shop {n % 7}"
        trials.append(Trial(n, f"trial {n}", Configuration(tuple(tags)), (n,)))
    findings = tuple(replace(each, run=n % 12) for n, each in enumerate(evidence(40, 4).findings))
    exposures = tuple(Exposure(n, 0, "matrix", 10.0, 52.5 + 5 * (n % 4)) for n in range(12))
    return Evidence(findings, exposures, 16, (), Book((*own, *ours), tuple(trials)))


def long_job() -> Evidence:
    """Four thousand findings that differ as real ones do, in kind, core, load, heat and repeats, in fifty trials."""
    rng = np.random.default_rng(7)
    book = book_of_trials().book
    first = book.trials[0].configuration
    trials = []
    for n in range(50):
        swapped = first.swapped(f"own {n % 7}", f"shop {n % 7}") if n % 3 else first
        trials.append(Trial(n, f"trial {n}", swapped, (n,)))
    kinds = (*KINDS, FindingKind.MEMORY_CORRECTED, FindingKind.ENDED_SUDDENLY, FindingKind.CORE_HANG)
    loads = ("matrix", "memory", "branchy", "relay", "transform")
    findings = []
    for n in range(4000):
        kind = kinds[int(rng.integers(len(kinds)))]
        repeats = int(rng.integers(0, 4))
        findings.append(
            Finding(
                "P-000",
                kind,
                Severity.FAULT,
                PartKind.PROCESSOR,
                float(n),
                "",
                "",
                core=int(rng.integers(16)) if kind in KINDS[:2] else None,
                load=loads[int(rng.integers(len(loads)))],
                temperature_c=float(rng.uniform(40.0, 98.0)),
                count=int(rng.integers(1, 9)),
                repeats=repeats,
                wrong_again=int(rng.integers(0, repeats + 1)),
                run=int(rng.integers(50)),
            )
        )
    spent = tuple(
        Exposure(n, 0, load, float(rng.uniform(5.0, 60.0)), float(rng.uniform(40.0, 98.0)))
        for n in range(50)
        for load in loads
    )
    return Evidence(tuple(findings), spent, 16, (), Book(book.parts, tuple(trials)))


def milliseconds(work: Callable[[], object], times: int) -> float:
    """Return the median time of a piece of work."""
    taken = []
    for _ in range(times):
        begun = time.perf_counter()
        work()
        taken.append(1000 * (time.perf_counter() - begun))
    return statistics.median(taken)


def main() -> None:
    """Print milliseconds a verdict, medians, for growing evidence, and how often fixed arithmetic fits in."""
    knowledge, prices = load_knowledge(), load_prices()
    square = np.random.default_rng(1).random((600, 600))
    fixed = milliseconds(lambda: np.exp(square @ square / 600.0), 15)
    print(f"fixed arithmetic, a product of 600 by 600: {fixed:.1f} ms")
    book, long = book_of_trials(), long_job()
    cases = (
        ("40 findings, 15 parts, 12 trials", book, 15),
        ("4000 varied findings, 15 parts, 50 trials", long, 7),
    )
    for name, evidence_of_case, times in cases:
        taken = milliseconds(partial(diagnose, evidence_of_case, knowledge, prices), times)
        print(f"{name}, with decision, proof and next trial: {taken:6.1f} ms, {taken / fixed:.0f} times")
    for findings in (0, 1, 4, 10, 40, 200):
        taken = milliseconds(partial(diagnose, evidence(findings, 8), knowledge), 15)
        print(f"{findings:4} findings: {taken:6.1f} ms, {taken / fixed:.1f} times")


if __name__ == "__main__":
    main()
