"""The management controller's own sensors, held against its own thresholds."""

from contextlib import closing

from thresher.checks.check import Check, CheckBench, CheckSteps, beside, progress
from thresher.model.checks import CheckResult, Figure
from thresher.model.errors import SourceUnavailable
from thresher.model.findings import FindingKind
from thresher.model.parts import BuiltInKind, PartKind
from thresher.model.port import System
from thresher.sensors.controller import ControllerReading, read_sensors


def _run(bench: CheckBench) -> CheckSteps:
    yield from progress("asking the controller", 0.0)
    try:
        readings = yield from beside(lambda: _read(bench.system))
    except SourceUnavailable as error:
        return (CHECK.unclear(str(error)),)
    return (_judge(readings),)


def _read(system: System) -> tuple[ControllerReading, ...]:
    """Open the controller, read it and close it, all by whoever reads: it is never closed under a reading."""
    with closing(system.open_controller()) as port:
        return read_sensors(port)


def _figure(reading: ControllerReading) -> Figure:
    sensor = reading.sensor
    words = "" if reading.value is not None else "not read now"
    return Figure(
        sensor.name, reading.value, sensor.unit, sensor.low, sensor.high, "the controller's thresholds", words
    )


def _judge(readings: tuple[ControllerReading, ...]) -> CheckResult:
    figures = tuple(_figure(each) for each in readings)
    read = [each for each in readings if each.value is not None]
    if not read:
        return CHECK.unclear("the controller reads no sensor with thresholds", *figures)
    bad = [f"{each.sensor.name} {each.critical}" for each in read if each.critical]
    if bad:
        return CHECK.failed(", ".join(bad), *figures)
    noted = [f"{each.sensor.name} {each.noted}" for each in read if each.noted]
    words = f"; noted: {', '.join(noted)}" if noted else ""
    return CHECK.passed(f"{len(read)} sensors within the controller's own thresholds{words}", *figures)


CHECK = Check(
    name="management controller",
    row=PartKind.BOARD,
    about=(
        "Servers and some workstations have a small computer of their own that watches temperatures, rails and fans. It"
        " is asked for each of its sensors, and whether it is outside the limits that the maker has set for it."
    ),
    finds="rails, fans and temperatures outside the maker's limits, of parts that nothing else reads",
    misses="what came and went: its event log has that",
    usual_s=10.0,
    run=_run,
    parts=(PartKind.BOARD, PartKind.POWER, PartKind.COOLING),
    kind=FindingKind.BOARD_SENSOR,
    code="S-450",
    worth_min=5.0,
    built_in=BuiltInKind.CONTROLLER,
)
