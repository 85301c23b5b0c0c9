"""Memory that is fitted against memory that the system has."""

import re

from thresher.checks.check import Check, CheckBench, CheckSteps, beside, progress
from thresher.inventory.memory import counted_gib, least_gib
from thresher.model.checks import Figure
from thresher.model.parts import PartKind

_GIB = re.compile(r"(\d+(?:\.\d+)?) GiB")


def _run(bench: CheckBench) -> CheckSteps:
    yield from progress("reading the memory", 0.0)
    modules = bench.inventory.parts_of(PartKind.MEMORY)
    sizes = [float(found[1]) for part in modules if (found := _GIB.search(part.fact("size") or part.name))]
    seen = yield from beside(lambda: counted_gib(bench.system))
    if seen is None:
        return (CHECK.unclear("the kernel does not report its memory"),)
    if not sizes or len(sizes) < len(modules):
        return (CHECK.unclear("the firmware does not list the modules", Figure("seen", round(seen, 1), "GiB")),)
    fitted = sum(sizes)
    figures = (
        Figure("fitted", round(fitted, 1), "GiB"),
        Figure("seen", round(seen, 1), "GiB", round(least_gib(fitted), 1), None, "judgement"),
    )
    if not figures[1].within:
        why = f"{fitted - seen:.1f} GiB of {fitted:.0f} GiB are missing: take the modules out and seat them again"
        return (CHECK.failed(why, *figures),)
    return (CHECK.passed(f"{modules_word(len(sizes))}, and the system sees all of it", *figures),)


def modules_word(count: int) -> str:
    """Return a number of modules in words."""
    return "one module" if count == 1 else f"{count} modules"


CHECK = Check(
    name="memory fitted",
    row=PartKind.MEMORY,
    about=(
        "The firmware lists the modules in their slots; the system says how much memory it has. What the one lists and"
        " the other lacks is a module that is not seated, not supported, or switched off."
    ),
    finds="modules that are fitted and not used",
    misses="faults of the cells: the memory checks find those",
    usual_s=2.0,
    run=_run,
    parts=(PartKind.MEMORY,),
    code="M-110",
)
