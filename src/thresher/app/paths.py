"""Where the bench keeps its files on this computer."""

from pathlib import Path

import platformdirs

from thresher.engine.services.jobs import unused_job_path
from thresher.model.private_folder import private_folder


def bench_folder(simulated: bool) -> Path:
    """Return the folder of all that the bench keeps; simulated machines have one of their own."""
    folder = Path(platformdirs.user_data_dir("thresher"))
    return folder / "demo-bench" if simulated else folder


def jobs_folder(simulated: bool) -> Path:
    """Return the folder where job files are kept; created when it is not there. Raises EnvironmentFault."""
    return private_folder(bench_folder(simulated) / "jobs")


def new_job_path(name: str, simulated: bool) -> Path:
    """Return a new job file's path, with the time and a name in it."""
    return unused_job_path(jobs_folder(simulated), name)
