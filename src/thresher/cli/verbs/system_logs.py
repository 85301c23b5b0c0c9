"""`thresher system-logs`."""

import sys
from pathlib import Path
from typing import Annotated

import typer

from thresher.cli.exit_codes import COULD_NOT, FAULTS, FINE
from thresher.cli.options import JobPath, Json, Simulate
from thresher.cli.output import say, say_json
from thresher.model.vendors import Vendor


def system_logs(
    where: Annotated[
        list[str] | None,
        typer.Argument(
            help="Partitions such as sda2, or folders where one is mounted; leave empty for all but this system's."
        ),
    ] = None,
    list_only: Annotated[bool, typer.Option("--list", help="Only list the file systems.")] = False,
    yes: Annotated[bool, typer.Option("--yes", help="The customer has agreed; do not ask.")] = False,
    vendor: Annotated[Vendor, typer.Option(help="Register layout of this machine's processor.")] = Vendor.UNKNOWN,
    job: JobPath = None,
    simulate: Simulate = None,
    json: Json = False,
) -> None:
    """Read event logs, crash dumps and journals of the installed system. Nothing is written to its drives.

    With --job the errors in them are added to that job as evidence, each with its own time.
    """
    from thresher.cli.system_logs_reading import add_to_job, chosen, print_logs, print_volumes, read_all, read_simulated
    from thresher.system_logs.volumes import find_volumes

    if list_only:
        print_volumes(find_volumes(), json)
        return
    targets = chosen(where or []) if simulate is None else []
    if simulate is None and not yes and not _agreed(json):
        say("Nothing was read. Add --yes once the customer has agreed.")
        raise typer.Exit(COULD_NOT)
    read, troubles = read_all(targets, vendor) if simulate is None else read_simulated(simulate, vendor)
    if json:
        say_json({"systems": read, "not_read": troubles})
    else:
        for each in read:
            print_logs(each)
        for place, trouble in troubles:
            say(f"{place}: not read: {trouble}")
    if job is not None and read:
        say(add_to_job(Path(job), read, simulate))
    if not read:
        raise typer.Exit(COULD_NOT)
    raise typer.Exit(FAULTS if any(each.findings for each in read) else FINE)


def _agreed(json: bool) -> bool:
    """Ask whether the machine's owner has agreed, where somebody can answer."""
    if json or not sys.stdin.isatty():
        return False
    return typer.confirm("This reads logs and crash dumps of the customer's own system. Has the customer agreed?")
