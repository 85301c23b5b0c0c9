"""Where the bench keeps its files on this computer."""

from pathlib import Path

import platformdirs

from thresher.engine.services.jobs import unused_job_path
from thresher.model.errors import EnvironmentFault


def bench_folder(simulated: bool) -> Path:
    """Return the folder of all that the bench keeps; simulated machines have one of their own."""
    folder = Path(platformdirs.user_data_dir("thresher"))
    return folder / "demo-bench" if simulated else folder


def jobs_folder(simulated: bool) -> Path:
    """Return the folder where job files are kept; created when it is not there. Raises EnvironmentFault."""
    folder = bench_folder(simulated) / "jobs"
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise EnvironmentFault(
            f"making the folder for jobs {folder}", error.strerror or str(error), "Give a job file with --job."
        ) from error
    return folder


def new_job_path(name: str, simulated: bool) -> Path:
    """Return a new job file's path, with the time and a name in it."""
    return unused_job_path(jobs_folder(simulated), name)
