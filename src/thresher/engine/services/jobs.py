"""The jobs on the bench: every job file of a folder at a glance, and making a new one."""

import re
from datetime import datetime
from pathlib import Path

from thresher.journal.jobfile import create_job, summarise
from thresher.model.errors import ThresherError
from thresher.model.job import JOB_FILE_ENDING, parse_complaints
from thresher.model.regular_file import is_there
from thresher.protocol.intake import JobCard

_MOST_CARDS = 60


def list_jobs(folder: Path, current: Path) -> tuple[JobCard, ...]:
    """Return the newest jobs of a folder, the current one first; a file that cannot be read is reported as such."""
    touched = {}
    for path in folder.glob(f"*{JOB_FILE_ENDING}"):
        try:
            touched[path] = path.stat().st_mtime
        except OSError:
            continue  # deleted between listing and looking
    newest = sorted(touched, key=lambda path: (path != current, -touched[path]))[:_MOST_CARDS]
    return tuple(_card(path, touched[path], path == current) for path in newest)


def _card(path: Path, touched: float, current: bool) -> JobCard:
    try:
        job = summarise(path)
    except ThresherError as error:
        return JobCard(str(path), "", path.name, (), 0, 0, "", touched, "", current, str(error))
    fields = job.fields
    symptoms = tuple(each.text for each in parse_complaints(fields.get("symptoms", "")))
    return JobCard(
        str(path),
        fields.get("number", ""),
        fields.get("machine", ""),
        symptoms,
        job.runs,
        job.findings,
        job.last_ending,
        touched,
        fields.get("model", ""),
        current,
    )


def unused_job_path(folder: Path, name: str) -> Path:
    """Return a path for a new job file, with the time and a name in it."""
    words = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-") or "job"
    stem = f"{datetime.now().astimezone():%Y%m%d-%H%M%S}-{words}"
    number, path = 1, folder / f"{stem}{JOB_FILE_ENDING}"
    while is_there(path):
        number += 1
        path = folder / f"{stem}-{number}{JOB_FILE_ENDING}"
    return path


def new_job(folder: Path, current: Path, fields: dict[str, str]) -> Path:
    """Make a new job file, numbered after the highest number on the bench, and return its path.

    Raises EnvironmentFault.
    """
    numbers = [int(card.number) for card in list_jobs(folder, current) if re.fullmatch(r"[0-9]{1,9}", card.number)]
    path = unused_job_path(folder, fields.get("machine", ""))
    create_job(path, fields | {"number": f"{max(numbers, default=0) + 1:04d}"})
    return path
