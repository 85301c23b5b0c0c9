"""`thresher verify`."""

from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from thresher.cli.exit_codes import FAULTS, FINE
from thresher.cli.options import Json, Shop
from thresher.cli.output import say, say_json
from thresher.model.errors import InputError, InputFault
from thresher.model.job import JOB_FILE_ENDING

if TYPE_CHECKING:
    from thresher.journal.jobfile import JobFile
    from thresher.seal.keys import Keyring
    from thresher.seal.verify import Checked


def verify(
    file: Annotated[Path, typer.Argument(metavar="REPORT|JOB", help="A report (.pdf, .html) or a job file.")],
    job: Annotated[Path | None, typer.Option("--job", help="The job of a report, if it is not on this bench.")] = None,
    key: Annotated[str, typer.Option("--key", help="A public key to trust as well, as a report prints it.")] = "",
    shop: Shop = None,
    json: Json = False,
) -> None:
    """Check a seal: whether a report and the stored job are unchanged, and if not, what was changed."""
    from thresher.app.handing_over import opened_job
    from thresher.app.paths import bench_folder
    from thresher.journal.jobfile import JobFile
    from thresher.report.sealed_file import check_report
    from thresher.seal.verify import check_job

    folders = tuple(bench_folder(simulated) / "jobs" for simulated in (False, True))
    shops = (shop,) if shop is not None else tuple(folder.parent / "shop" for folder in folders)
    keys = _keys(shops, key)

    def find(stem: str) -> "JobFile | None":
        return JobFile(job, read_only=True) if job is not None else opened_job((*folders, file.parent), stem)

    if file.suffix == JOB_FILE_ENDING:
        with JobFile(file, read_only=True) as stored:
            checked = check_job(stored, keys)
        if not checked:
            raise InputError(str(file), [InputFault("seal", "it has none: no report of this job was sealed yet")])
    else:
        checked = (check_report(file, keys, find),)
    if json:
        say_json([{"file": str(file), "valid": each.valid, "seal": each} for each in checked])
    else:
        for each in checked:
            _print(file, each)
    raise typer.Exit(FINE if all(each.valid for each in checked) else FAULTS)


def _keys(shops: "tuple[Path, ...]", key: str) -> "Keyring":
    """Return the keys of this computer's shops, and one given by hand."""
    from thresher.seal.keys import Keyring, KnownKey, KnownKeys, keyring_of

    keys = keyring_of(*shops)
    if not key:
        return keys
    given = KnownKey(public=key.strip(), name="the key given by hand", since=0.0, own=False)
    return Keyring(KnownKeys(keys=(*keys.known.keys, given)), keys.present)


def _print(file: Path, checked: "Checked") -> None:
    when = f", {datetime.fromtimestamp(checked.wall).astimezone():%-d %b %Y %H:%M}" if checked.wall else ""
    state = "valid" if checked.valid else "NOT VALID"
    say(f"{file.name}: seal {checked.code}{when}: {state}")
    if checked.covers:
        say(f"  covers {checked.covers}")
    for fault in checked.faults:
        say(f"  changed: {fault}")
    for note in checked.notes:
        say(f"  {note}")
