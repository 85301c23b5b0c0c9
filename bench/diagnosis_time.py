"""How long a verdict takes as evidence grows: python bench/diagnosis_time.py."""

import statistics
import time
from dataclasses import replace

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


def main() -> None:
    """Print milliseconds a verdict, median of 15, for growing evidence."""
    knowledge = load_knowledge()
    book, prices, times = book_of_trials(), load_prices(), []
    for _ in range(15):
        begun = time.perf_counter()
        diagnose(book, knowledge, prices)
        times.append(1000 * (time.perf_counter() - begun))
    print(f"40 findings, 15 parts, 12 trials, with decision and next trial: {statistics.median(times):6.1f} ms")
    for findings in (0, 1, 4, 10, 40, 200):
        times = []
        for _ in range(15):
            begun = time.perf_counter()
            diagnose(evidence(findings, 8), knowledge)
            times.append(1000 * (time.perf_counter() - begun))
        print(f"{findings:4} findings: {statistics.median(times):6.1f} ms")


if __name__ == "__main__":
    main()
