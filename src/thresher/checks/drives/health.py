"""What drives report about themselves."""

from functools import partial

from thresher.checks.check import Check, CheckBench, CheckSteps, beside, having, progress
from thresher.drives.health import DriveHealth, DriveStatus
from thresher.drives.reading import Drive, drives_of, read_health
from thresher.model.checks import CheckResult, Figure
from thresher.model.errors import ThresherError
from thresher.model.parts import PartKind


def _run(bench: CheckBench) -> CheckSteps:
    drives = drives_of(bench.inventory.parts)
    results: list[CheckResult] = []
    for number, drive in enumerate(drives):
        place = drive.part.place
        yield from progress(f"asking {place}", number / len(drives))
        try:
            health = yield from beside(partial(read_health, bench.system, drive))
        except ThresherError as error:
            results.append(CHECK.unclear(str(error), place=place))
        else:
            results.append(_judge(drive, health))
    return tuple(results) or (CHECK.unclear("no drive is there"),)


def _judge(drive: Drive, health: DriveHealth) -> CheckResult:
    place = drive.part.place
    figures = tuple(Figure(each.name, words=each.value, source=each.source) for each in health.figures[:8])
    words = "; ".join(sign.words for sign in health.signs[:3])
    if health.status is DriveStatus.UNKNOWN:
        why = "; ".join(f"{each.name}: {each.value}" for each in health.not_read[:2])
        return CHECK.unclear(why or "it reports nothing about itself", *figures, place=place)
    if health.status in (DriveStatus.REPLACE, DriveStatus.COPY):
        return CHECK.failed(f"{health.status.value}: {words}", *figures, place=place)
    if health.status is DriveStatus.WATCH:
        return CHECK.passed(f"it works; watch it: {words}", *figures, place=place)
    return CHECK.passed("nothing that it counts speaks against it", *figures, place=place)


CHECK = Check(
    name="drive health",
    row=PartKind.DRIVE,
    about=(
        "Drives count their own errors, bad sectors, wear and hours. What they count says more about what is coming"
        " than any test: a drive with growing bad sectors is dying, however well it reads today."
    ),
    finds="drives that are failing or worn by their own account",
    misses="drives that fail without a sign, which about one in three does",
    usual_s=6.0,
    run=_run,
    parts=(PartKind.DRIVE,),
    code="D-340",
    there=having(PartKind.DRIVE),
)
