"""Displays: which outputs there are, and what hangs on them."""

from thresher.checks.check import Check, CheckBench, CheckSteps, beside, having, progress
from thresher.model.checks import CheckResult, Figure
from thresher.model.findings import FindingKind
from thresher.model.parts import PartKind
from thresher.model.port import System, optional_text

_DRM = "/sys/class/drm"


def _connectors(system: System) -> list[tuple[str, str, bool]]:
    """Return each output's name, state, and whether a panel's own data can be read from it."""
    found = []
    for name in system.list(_DRM):
        state = optional_text(system, f"{_DRM}/{name}/status")
        if state:
            found.append((name, state, state == "connected" and _has_data(system, f"{_DRM}/{name}/edid")))
    return found


def _has_data(system: System, path: str) -> bool:
    # EDID begins with 00 FF FF FF FF FF FF 00 (VESA E-EDID 1.4, 3.3)
    return system.read_start(path, 8) == b"\x00\xff\xff\xff\xff\xff\xff\x00"


def _must_say(name: str) -> bool:
    """Whether a display at this output has to give its data: all digital ones do, an old analogue one may not."""
    return not any(word in name for word in ("VGA", "Composite", "SVIDEO", "TV"))


def _run(bench: CheckBench) -> CheckSteps:
    yield from progress("looking at the outputs", 0.0)
    found = yield from beside(lambda: _connectors(bench.system))
    if not found:
        return (CHECK.unclear("the driver of the card lists no outputs"),)
    results: list[CheckResult] = []
    for name, state, data in found:
        if state != "connected":
            continue
        figure = Figure("panel's own data", words="read" if data else "none")
        if data:
            results.append(CHECK.passed("a display answers with its own data", figure, place=name))
        else:
            why = "a display is there and does not say what it is: try another cable, then another display"
            results.append((CHECK.failed if _must_say(name) else CHECK.unclear)(why, figure, place=name))
    free = [name for name, state, _ in found if state != "connected"]
    if not results:
        return (CHECK.unclear(f"no display is connected; outputs: {', '.join(free)}"),)
    return tuple(results)


CHECK = Check(
    name="display outputs",
    row=PartKind.GRAPHICS,
    about=(
        "Each output of the graphics card says whether a display hangs on it, and the display says over the cable what"
        " it is. An output that is used and stays silent has a bad cable, plug or display."
    ),
    finds="displays that are not recognised",
    misses="faults of the picture itself: the picture check asks for those",
    usual_s=3.0,
    run=_run,
    parts=(PartKind.GRAPHICS, PartKind.DISPLAY),
    kind=FindingKind.PICTURE_WRONG,
    code="G-461",
    there=having(PartKind.GRAPHICS),
)
