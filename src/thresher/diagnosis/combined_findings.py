"""What findings say together that none says alone: a core and its temperatures, words of memory and their shape."""

from collections.abc import Iterable
from itertools import groupby

from thresher.diagnosis.memory_shape import bad_pages, boot_parameters, shape_of, wrong_places
from thresher.model.findings import Finding, FindingKind
from thresher.model.verdict import Exposure

_ENOUGH = 2
_FEW_PAGES = 16


def combined_reports(findings: tuple[Finding, ...], exposures: tuple[Exposure, ...]) -> tuple[str, ...]:
    """Return a sentence for each core with wrong results, most of them first, and one for memory."""
    wrong = [each for each in findings if each.kind is FindingKind.WRONG_RESULT and each.core is not None]
    ordered = sorted(wrong, key=lambda each: each.core or 0)
    by_core = [(core, list(mine)) for core, mine in groupby(ordered, key=lambda each: each.core)]
    by_core.sort(key=lambda pair: -sum(each.count for each in pair[1]))
    reported = [_core_report(core, mine, exposures) for core, mine in by_core if core is not None]
    places = wrong_places(findings)
    shape, pages = shape_of(places), bad_pages(places)
    if shape is not None:
        reported.append(f"Memory: {shape.sentence}")
    if 0 < len(pages) <= _FEW_PAGES:
        reported.append(f"Until the part comes the kernel can be kept off with {boot_parameters(pages)}")
    return tuple(reported)


def unexplained(findings: tuple[Finding, ...], known: frozenset[FindingKind]) -> tuple[str, ...]:
    """Return a sentence for findings of kinds that no way of being faulty shows: they are evidence, but not in there.

    `known` are the kinds that some way of being faulty shows.
    """
    strange = [each for each in findings if each.kind not in known]
    if not strange:
        return ()
    counts: dict[str, int] = {}
    for each in strange:
        counts[f"{each.code} {each.kind.value}"] = counts.get(f"{each.code} {each.kind.value}", 0) + each.count
    reported = ", ".join(f"{count} × {what}" for what, count in sorted(counts.items(), key=lambda pair: -pair[1])[:4])
    return (f"Not explained by any suspect here: {reported}. The Evidence says which parts they point at.",)


def _core_report(core: int, wrong: list[Finding], exposures: Iterable[Exposure]) -> str:
    count = sum(each.count for each in wrong)
    repeats, again = sum(each.repeats for each in wrong), sum(each.wrong_again for each in wrong)
    text = f"Core {core}: {count} wrong result{'s' if count > 1 else ''}"
    if repeats:
        text += f", {again} of {repeats} repeats on it wrong too"
    loads = sorted({each.load for each in wrong if each.load})
    if loads:
        text += f", under {', '.join(loads)}"
    temperatures = [each.temperature_c for each in wrong if each.temperature_c is not None]
    if len(temperatures) < _ENOUGH:
        return text
    coolest = min(temperatures)
    clean = sum(
        each.minutes
        for each in exposures
        if each.load in loads and each.temperature_c is not None and each.temperature_c < coolest
    )
    if clean >= 1.0:
        return f"{text}, only from {coolest:.0f} °C on; {clean:.0f} min below that were clean"
    return f"{text}, at {coolest:.0f} to {max(temperatures):.0f} °C"
