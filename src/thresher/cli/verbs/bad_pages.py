"""`thresher bad-pages`."""

from pathlib import Path

import typer

from thresher.cli.exit_codes import FAULTS, FINE
from thresher.cli.options import Json


def bad_pages(job: Path, json: Json = False) -> None:
    """Print kernel parameters that keep off bad memory."""
    from thresher.cli.printing import print_bad_pages
    from thresher.diagnosis.memory_shape import wrong_places
    from thresher.journal.jobfile import JobFile

    with JobFile(job, read_only=True) as stored:
        places = wrong_places(finding for run in stored.runs() for finding in stored.findings(run))
    print_bad_pages(places, json)
    raise typer.Exit(FAULTS if places else FINE)
