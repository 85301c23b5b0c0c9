"""What `thresher system-logs` does: choose file systems, read the logs on them, print them, add them to a job."""

import tempfile
from dataclasses import replace
from datetime import UTC, datetime
from itertools import groupby
from pathlib import Path

from thresher.cli.output import say, say_json
from thresher.decoding.recognise import Tables, load_tables
from thresher.model.errors import EnvironmentFault, InputError, InputFault, ThresherError
from thresher.model.regular_file import is_folder
from thresher.model.vendors import Vendor
from thresher.system_logs.installed import find_systems
from thresher.system_logs.meanings import TimelineKind
from thresher.system_logs.reading import SystemLogsRead, changes_before, read_system
from thresher.system_logs.volumes import Volume, find_volumes, opened

_QUIET = (
    TimelineKind.START,
    TimelineKind.CLEAN_SHUTDOWN,
    TimelineKind.SLEEP,
    TimelineKind.WAKE,
    TimelineKind.REQUESTED,
)
_MOST_LINES = 60


def print_volumes(volumes: list[Volume], json: bool) -> None:
    """Print the file systems of this machine."""
    if json:
        say_json(volumes)
        return
    for each in volumes:
        say(f"{each.words}{f': {each.locked}' if each.locked else ''}")
    if not volumes:
        say("No file system was found on this machine's drives.")


def chosen(where: list[str]) -> list[Volume | Path]:
    """Return what was named; for nothing all file systems but those of the running system. Raises InputError."""
    if not where:
        return [each for each in find_volumes() if not each.running]
    targets: list[Volume | Path] = []
    faults: list[InputFault] = []
    volumes: list[Volume] | None = None
    for word in where:
        if is_folder(Path(word)):
            targets.append(Path(word))
            continue
        volumes = find_volumes() if volumes is None else volumes
        device = word if word.startswith("/dev/") else f"/dev/{word}"
        volume = next((each for each in volumes if each.device == device), None)
        if volume is None:
            faults.append(
                InputFault(
                    word, "neither a folder nor a file system of this machine; thresher system-logs --list shows them"
                )
            )
        else:
            targets.append(volume)
    if faults:
        raise InputError("system-logs", faults)
    return targets


def read_all(targets: list[Volume | Path], vendor: Vendor) -> tuple[list[SystemLogsRead], list[tuple[str, str]]]:
    """Read every system on the targets; return them, and what was not read with the reason."""
    tables = load_tables()
    read: list[SystemLogsRead] = []
    troubles: list[tuple[str, str]] = []
    for target in targets:
        place = str(target) if isinstance(target, Path) else target.words
        try:
            found = _read_target(target, place, vendor, tables)
        except ThresherError as error:
            troubles.append((place, error.happened if isinstance(error, EnvironmentFault) else str(error)))
            continue
        read += found
        if not found:
            troubles.append((place, "no system is installed there"))
    return read, troubles


def _read_target(target: Volume | Path, place: str, vendor: Vendor, tables: Tables) -> list[SystemLogsRead]:
    if isinstance(target, Path):
        return [read_system(each, tables, vendor) for each in find_systems(target)]
    with opened(target) as folder:
        systems = [read_system(each, tables, vendor) for each in find_systems(folder)]
    # the folder is gone by now: what stays is the device's name
    origin = target.device
    return [
        replace(
            each,
            place=place,
            findings=tuple(replace(finding, origin=f"{each.what} on {origin}") for finding in each.findings),
        )
        for each in systems
    ]


def read_simulated(scenario: str, vendor: Vendor) -> tuple[list[SystemLogsRead], list[tuple[str, str]]]:
    """Read the logs of a simulated machine's system, from files as its drive would hold them."""
    from thresher.app.machines import scenario_path
    from thresher.machine.live import LiveSystem
    from thresher.simulator.installed_system import write_installed_system
    from thresher.simulator.scenario import load_scenario

    loaded = load_scenario(scenario_path(scenario))
    with tempfile.TemporaryDirectory(prefix="thresher-logs-") as folder:
        read, troubles = read_all([write_installed_system(loaded, Path(folder), LiveSystem().wall())], vendor)
    named = [
        replace(
            each,
            place=f"the drive of the simulated machine {loaded.title}",
            findings=tuple(replace(finding, origin=f"{each.what}, simulated") for finding in each.findings),
        )
        for each in read
    ]
    return named, troubles


def print_logs(read: SystemLogsRead) -> None:
    """Print the logs of a system: files, findings in groups, changes, the timeline, hours of use, harmless events."""
    say(f"{read.what[:1].upper()}{read.what[1:]} on {read.place}")
    for file in read.files:
        say(f"  {Path(file.path).name}: {file.words or f'not read: {file.trouble}'}")
    say(f"\n{read.count} pieces of evidence in {len(read.groups)} groups")
    for group in read.groups:
        noise = f"; {group.noise}" if group.noise else ""
        place = f", {group.place}" if group.place else ""
        say(f"  {_day(group.first)} to {_day(group.last)}  {group.code}  {group.count} × {group.title}{place}{noise}")
    for sentence in changes_before(read):
        say(f"  {sentence}")
    lines = [each for each in read.timeline if each.kind not in _QUIET]
    if lines:
        say("\nTimeline")
    for day, entries in groupby(lines[-_MOST_LINES:], key=lambda each: _day(each.at)):
        for entry in entries:
            say(f"  {day}  {entry.kind}: {entry.title}{f' ({entry.detail[:90]})' if entry.detail else ''}")
    if read.use:
        days = len(read.use)
        say(f"\nIn use for {read.hours:.0f} hours on {days} days, {read.use[0].day} to {read.use[-1].day}")
    if read.notes:
        say("\nHarmless")
        for note in read.notes[:30]:
            say(f"  {note.count} × {note.title}: {note.says}")
    say("")


def _day(at: float) -> str:
    return f"{datetime.fromtimestamp(at, UTC):%Y-%m-%d}"


def add_to_job(job: Path, read: list[SystemLogsRead], simulate: str | None) -> str:
    """Add the evidence of systems to a job, each finding with its own time, and the hours of use with it."""
    from thresher.app import wiring
    from thresher.app.machines import open_system
    from thresher.cli.running import end_engine

    engine = wiring.make_engine(open_system(None, simulate, None), job, scenario=simulate or "")
    try:
        added = 0
        for each in read:
            engine.note("Read logs of the installed system", f"{each.what} on {each.place}")
            if each.findings:
                minutes = 60.0 * each.hours
                origin = each.findings[0].origin
                engine.added_evidence.add(each.findings, origin, None, "", minutes, own_times=True)
                added += each.count
    finally:
        end_engine(engine)
    return f"{added} pieces of evidence added to {job}"
