"""How often each fault of the proving ground shows under each load, and as what: to hold the knowledge base against.

Usage: python bench/fault_rates.py [CASES] [SEED]; machines that their owners would bring in, an hour of each load.
"""

import sys
from collections import Counter

import numpy as np

from thresher.decoding.recognise import Tables, load_tables
from thresher.proving.cases import Case, Sort, Trouble, draw_case, scenario_under
from thresher.proving.quick_run import QuickBench, Stint
from thresher.proving.symptomatic import shows

_LOADS = ("matrix", "memory", "branchy", "relay")
_HOUR = 60.0


def rates(case: Case, tables: Tables) -> tuple[dict[str, float], Counter[str], float]:
    """Return findings per hour by load, kinds of all of them, and the hottest band of matrix."""
    per_hour, kinds, hottest = {}, Counter[str](), 0.0
    for load in _LOADS:
        done = QuickBench(scenario_under(case, case.first_configuration, 7), tables, 1).carry_out(
            (Stint(load, _HOUR),), 60
        )
        minutes = sum(each.minutes for each in done.exposures)
        per_hour[load] = sum(each.count for each in done.findings) / max(minutes, 1.0) * 60.0
        kinds.update({each.kind.value: each.count for each in done.findings})
        if load == "matrix":
            hottest = max((each.temperature_c or 0.0 for each in done.exposures), default=0.0)
    used = QuickBench(scenario_under(case, case.first_configuration, 8), tables, None).live_everyday(20.0)
    per_hour["everyday"] = sum(each.count for each in used.findings) / 20.0
    kinds.update({f"everyday: {each.kind.value}": each.count for each in used.findings})
    return per_hour, kinds, hottest


def main() -> None:
    """Print a table."""
    many = int(sys.argv[1]) if len(sys.argv) > 1 else 150
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 900
    tables = load_tables()
    seen: dict[str, list[tuple[dict[str, float], Counter[str], float]]] = {}
    number = 0
    while sum(map(len, seen.values())) < many:
        case = draw_case(seed, number)
        number += 1
        if case.sort is not Sort.SINGLE:
            continue
        trouble: Trouble = case.own_troubles[0]
        if shows(case, trouble, tables):
            seen.setdefault(trouble.fault.kind.value, []).append(rates(case, tables))
    for kind, each in sorted(seen.items()):
        shares = sum((kinds for _, kinds, _ in each), Counter[str]())
        total = sum(shares.values())
        print(f"{kind} ({len(each)})")
        for load in (*_LOADS, "everyday"):
            values = np.array([per_hour[load] for per_hour, _, _ in each])
            low, middle, high = np.quantile(values, (0.1, 0.5, 0.9))
            print(f"    {load:9} {low:8.2f} {middle:8.2f} {high:8.2f} an hour (tenth, half, nine tenths)")
        print("    " + ", ".join(f"{name} {count / total:.2f}" for name, count in shares.most_common(8)))


if __name__ == "__main__":
    main()
