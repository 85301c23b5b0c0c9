"""How long a verdict takes as evidence grows: python bench/diagnosis_time.py."""

import statistics
import time

from thresher.diagnosis.evidence import Evidence
from thresher.diagnosis.knowledge import load_knowledge
from thresher.diagnosis.verdict import diagnose
from thresher.model.findings import Finding, FindingKind, Severity
from thresher.model.parts import PartKind
from thresher.model.verdict import Exposure

KINDS = (FindingKind.CORRECTED_CHECK, FindingKind.WRONG_RESULT, FindingKind.HEAT_THROTTLE, FindingKind.RAIL_OUT)


def evidence(findings: int, bands: int) -> Evidence:
    """Findings spread over kinds, four cores and bands of temperature."""
    made = tuple(
        Finding(
            "P-000", KINDS[n % 4], Severity.FAULT, PartKind.PROCESSOR, 0.0, "", "",
            core=n % 4 if n % 4 < 2 else None, load="matrix", temperature_c=50.0 + 5 * (n % bands),
        )
        for n in range(findings)
    )  # fmt: skip
    return Evidence(made, tuple(Exposure(1, 0, "matrix", 10.0, 50.0 + 5 * band) for band in range(bands)), 16)


def main() -> None:
    """Print milliseconds a verdict, median of 15, for growing evidence."""
    knowledge = load_knowledge()
    for findings in (0, 1, 4, 10, 40, 200):
        times = []
        for _ in range(15):
            begun = time.perf_counter()
            diagnose(evidence(findings, 8), knowledge)
            times.append(1000 * (time.perf_counter() - begun))
        print(f"{findings:4} findings: {statistics.median(times):6.1f} ms")


if __name__ == "__main__":
    main()
