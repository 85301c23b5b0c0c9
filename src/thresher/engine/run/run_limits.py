"""What stops a run: the sheet's limits, a limit that cannot be watched any more, a job file that cannot be written."""

from thresher.engine.run.record import Record
from thresher.engine.run.run import Run
from thresher.engine.watch.readings import Watchers
from thresher.model.channels import Channel, Quantity, Tick, watched_temperatures
from thresher.model.findings import Severity, findings_of_run
from thresher.model.parts import PartKind


def trip_reason(record: Record, watchers: Watchers, run: Run, tick: Tick) -> str:
    """Return why a run has to stop now, empty while it may continue."""
    return (
        _job_file_full(record)
        or _too_many_faults(record, run)
        or _temperature(record, watchers, run.sheet.limits.temperature_c, tick)
    )


def _temperature(record: Record, watchers: Watchers, limit_c: float | None, tick: Tick) -> str:
    if limit_c is None:
        return ""
    silent = [channel for channel in watchers.silent(tick, Quantity.TEMPERATURE) if channel.kind is PartKind.PROCESSOR]
    if silent:
        names = ", ".join(channel.name for channel in silent)
        return f"{names} gives no readings, so the sheet's limit cannot be watched (X-802)"
    slow = _too_old(record, tick)
    if slow:
        return f"{slow}, so the sheet's limit cannot be watched (X-802)"
    hottest = record.hottest()
    if hottest is not None and hottest >= limit_c:
        return f"{hottest:.0f} °C reached the sheet's limit of {limit_c:.0f} °C"
    if _none_trusted(record):
        return "every processor temperature is ignored, so the sheet's limit cannot be watched (X-802)"
    return ""


_OLDEST_S = 5.0
"""A processor heats up within seconds: a reading older than this says nothing about its limit."""


def _too_old(record: Record, tick: Tick) -> str:
    """Say so when every processor temperature that counts was read too long ago, empty otherwise."""
    watched = [
        index
        for index, channel in enumerate(record.channels)
        if channel.kind is PartKind.PROCESSOR
        and channel.quantity is Quantity.TEMPERATURE
        and not channel.distrust
        and tick.values[index] is not None
    ]
    if not watched or any(tick.ages.get(index, 0.0) <= _OLDEST_S for index in watched):
        return ""
    newest = min(watched, key=lambda index: tick.ages.get(index, 0.0))
    return f"{record.channels[newest].name} answers so slowly that its reading is {tick.ages[newest]:.0f} s old"


def unwatched(limit_c: float | None, channels: tuple[Channel, ...]) -> str:
    """Say why a sheet's temperature limit cannot be watched, empty when it can or there is none."""
    if limit_c is None or watched_temperatures(channels):
        return ""
    return f"no trusted sensor reports the processor's temperature, so the limit of {limit_c:.0f} °C cannot be watched"


def _none_trusted(record: Record) -> bool:
    """Whether the processor reports temperatures and every one of them is ignored."""
    reported = [
        channel
        for channel in record.channels
        if channel.kind is PartKind.PROCESSOR and channel.quantity is Quantity.TEMPERATURE
    ]
    return bool(reported) and all(channel.distrust for channel in reported)


def _too_many_faults(record: Record, run: Run) -> str:
    most = run.sheet.limits.stop_after_faults
    if most is None:
        return ""
    wrong = sum(finding.severity is Severity.FAULT for finding in findings_of_run(record.findings, run.number))
    return f"{wrong} faults; the sheet stops after {most}" if wrong >= most else ""


def _job_file_full(record: Record) -> str:
    if record.writer.health().overflowing:
        return "the job file cannot be written and the memory for waiting rows is used up (X-820)"
    return ""
