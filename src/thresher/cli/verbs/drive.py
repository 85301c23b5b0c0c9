"""`thresher drive`: what drives report about themselves, and their own self-tests."""

from typing import TYPE_CHECKING, Annotated

import typer

from thresher.cli.exit_codes import COULD_NOT, FAULTS
from thresher.cli.options import Json, Root, Shop, Simulate
from thresher.cli.output import say, say_json

if TYPE_CHECKING:
    from thresher.drives.health import DriveHealth
    from thresher.drives.reading import Drive
    from thresher.model.port import System

_FOLLOW_S = 5.0

Names = Annotated[list[str] | None, typer.Argument(help="Drives such as sda or nvme0n1; all if left out.")]


def drive_app() -> typer.Typer:
    """Return the verbs about drives. Only `load` writes, to a scratch file of its own."""
    app = typer.Typer(
        help="Drives: what they report about themselves, and their own self-tests.", rich_markup_mode=None
    )
    app.command("list")(list_drives)
    app.command("health")(health)
    app.command("selftest")(self_test)
    app.command("scan")(scan)
    app.command("load")(load)
    return app


def _drives(root: object, simulate: str | None, names: list[str] | None) -> "tuple[System, tuple[Drive, ...]]":
    from pathlib import Path

    from thresher.app.machines import open_system
    from thresher.drives.reading import drives_of
    from thresher.inventory.machine import read_inventory
    from thresher.model.errors import InputError, InputFault

    system = open_system(root if isinstance(root, Path) else None, simulate)
    there = drives_of(read_inventory(system).parts)
    wanted = [name.removeprefix("/dev/") for name in names or ()]
    known = [each.part.place for each in there]
    unknown = [name for name in wanted if name not in known]
    if unknown:
        message = f"this machine has {', '.join(known) or 'no drive'}"
        raise InputError("drive", [InputFault(name, message) for name in unknown])
    return system, tuple(each for each in there if not wanted or each.part.place in wanted)


def list_drives(root: Root = None, simulate: Simulate = None, json: Json = False) -> None:
    """List the drives, and by which commands each can be asked."""
    _system, drives = _drives(root, simulate, None)
    if json:
        say_json([{"name": each.part.place, "asked": each.family, "part": each.part} for each in drives])
        return
    for each in drives:
        facts = ", ".join(fact.value for fact in each.part.facts if fact.name in ("size", "transport", "kind"))
        asked = f"{each.family.value} commands" if not each.why_not else f"not asked: {each.why_not}"
        say(f"{each.part.place:10} {each.part.name}, {facts}; {asked}")
    if not drives:
        say("No drive found.")


def health(names: Names = None, root: Root = None, simulate: Simulate = None, json: Json = False) -> None:
    """Show what drives report about themselves, and what it means."""
    from thresher.drives.health import DriveStatus
    from thresher.drives.reading import read_health

    system, drives = _drives(root, simulate, names)
    found = [(each, read_health(system, each)) for each in drives]
    if json:
        say_json([{"name": each.part.place, "part": each.part, "health": reported} for each, reported in found])
    else:
        for each, reported in found:
            _print_health(each, reported)
    statuses = {reported.status for _, reported in found}
    if statuses & {DriveStatus.WATCH, DriveStatus.COPY, DriveStatus.REPLACE}:
        raise typer.Exit(FAULTS)
    if not found or statuses == {DriveStatus.UNKNOWN}:
        raise typer.Exit(COULD_NOT)


def _print_health(drive: "Drive", reported: "DriveHealth") -> None:
    say(f"\n{drive.part.place}: {drive.part.name}: {reported.status.value}")
    for sign in reported.signs:
        say(f"    {sign.words}  [{sign.meaning.value}; {sign.source}]")
    for figure in reported.figures:
        say(f"    {figure.name:34} {figure.value:28} {figure.source}")
    for figure in reported.not_read:
        say(f"    Not read: {figure.name}: {figure.value} ({figure.source})")


def self_test(
    name: Annotated[str, typer.Argument(help="The drive, such as sda or nvme0n1.")],
    extended: Annotated[bool, typer.Option("--extended", help="The long test over the whole drive.")] = False,
    follow: Annotated[bool, typer.Option(help="Wait for its end; Ctrl+C aborts a test that was started here.")] = True,
    simulate: Simulate = None,
    json: Json = False,
) -> None:
    """Let a drive test itself. It reads only, and goes on serving meanwhile."""
    import threading

    from thresher.drives import self_test as tests
    from thresher.drives.reading import Family
    from thresher.model.errors import EnvironmentFault

    system, (drive,) = _drives(None, simulate, [name])
    if drive.family is Family.NONE:
        raise EnvironmentFault(f"testing {name}", drive.why_not, "Choose a SATA or NVMe drive.")
    port = system.open_drive(drive.path)
    try:
        length = tests.minutes(port, drive.family, extended)
        tests.start(port, drive.family, extended)
        kind = "extended" if extended else "short"
        if not json:
            say(f"{drive.part.place}: {kind} self-test started, {length} min by the drive's estimate")
        if not follow:
            return
        pause = threading.Event()
        shown = -1
        try:
            while (now := tests.progress(port, drive.family)).running:
                if now.done != shown and not json:
                    shown = now.done
                    say(f"    {now.done} % done")
                system.wait_until(system.now() + _FOLLOW_S, pause)
        except KeyboardInterrupt:
            tests.abort(port, drive.family)
            say(f"{drive.part.place}: self-test aborted")
            raise typer.Exit(COULD_NOT) from None
    finally:
        port.close()
    place = f", first bad sector {now.lba}" if now.lba is not None else ""
    if json:
        say_json({"name": drive.part.place, "test": kind, "result": now})
    else:
        say(f"{drive.part.place}: self-test {now.ending}{place}")
    if now.failed:
        raise typer.Exit(FAULTS)


def scan(
    name: Annotated[str, typer.Argument(help="The drive, such as sda or nvme0n1.")],
    quick: Annotated[
        bool, typer.Option("--quick", help="A sample of the whole drive, and what was bad before.")
    ] = False,
    begin: Annotated[str, typer.Option("--from", help="Where to begin, such as 0, 100GiB or 40%.")] = "",
    end: Annotated[str, typer.Option("--to", help="Where to end, such as 200GiB or 60%.")] = "",
    depth: Annotated[int, typer.Option(min=1, max=64, help="Requests at a time.")] = 4,
    go_on: Annotated[bool, typer.Option("--continue", help="Go on where the last scan of this drive stopped.")] = False,
    anyway: Annotated[bool, typer.Option("--anyway", help="Scan even though the drive is failing.")] = False,
    files: Annotated[bool, typer.Option("--files", help="Say which file lies at each bad place.")] = False,
    shop: Shop = None,
    simulate: Simulate = None,
    json: Json = False,
) -> None:
    """Read a drive and find places that are slow or cannot be read. Nothing is written."""
    from thresher.cli.drive_scan import ScanWish, scan_drive

    system, (drive,) = _drives(None, simulate, [name])
    wish = ScanWish(quick, begin, end, depth, go_on, anyway, shop, files, simulated=simulate is not None)
    reported = scan_drive(system, drive, wish, json)
    if reported.bad or reported.gone:
        raise typer.Exit(FAULTS)


def load(
    name: Annotated[str, typer.Argument(help="The drive, such as sda or nvme0n1.")],
    seconds: Annotated[str, typer.Option("--for", help="How long, such as 10m or 1h.")] = "10m",
    size: Annotated[str, typer.Option("--size", help="Size of the scratch file.")] = "4 GiB",
    folder: Annotated[str, typer.Option("--folder", help="Where it is made; left out, a folder on the drive.")] = "",
    anyway: Annotated[bool, typer.Option("--anyway", help="Load it even though it is failing.")] = False,
    shop: Shop = None,
    simulate: Simulate = None,
    json: Json = False,
) -> None:
    """Write a scratch file, read it back and compare it, over and over. The file is removed at the end."""
    from thresher.cli.drive_load import LoadWish, load_drive

    system, (drive,) = _drives(None, simulate, [name])
    wish = LoadWish(seconds, size, folder, anyway, shop, simulated=simulate is not None)
    outcome = load_drive(system, drive, wish, json)
    if outcome.wrong_count or outcome.failures:
        raise typer.Exit(FAULTS)
