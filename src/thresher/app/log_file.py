"""The program's own log: what it did, warnings and bugs, for whoever maintains it. Not the tape of a job."""

import logging
from logging.handlers import RotatingFileHandler
from pathlib import Path

import platformdirs

from thresher.model.errors import EnvironmentFault
from thresher.model.private_folder import private_folder

_FORMAT = "%(asctime)s %(levelname)s %(process)d %(name)s: %(message)s"
_MOST_BYTES, _KEPT = 1 << 20, 3


def log_path() -> Path:
    """Return the log file of this user."""
    return Path(platformdirs.user_log_dir("thresher")) / "thresher.log"


def set_up_logging(level: int = logging.INFO) -> None:
    """Write the program's log to its file; where that cannot be written, warnings and worse go to standard error."""
    logger = logging.getLogger("thresher")
    if logger.handlers:
        return
    path = log_path()
    handler: logging.Handler
    try:
        private_folder(path.parent)
        handler = RotatingFileHandler(path, maxBytes=_MOST_BYTES, backupCount=_KEPT, encoding="utf-8")
        logger.setLevel(level)
    except (OSError, EnvironmentFault) as error:
        handler = logging.StreamHandler()
        handler.setLevel(logging.WARNING)
        logger.warning("cannot write the log file %s: %s", path, error)
    handler.setFormatter(logging.Formatter(_FORMAT))
    logger.addHandler(handler)
    logger.propagate = False


def last_lines(count: int) -> list[str]:
    """Return the last lines of the log, none when nothing was logged yet. Raises EnvironmentFault."""
    try:
        lines = log_path().read_text(encoding="utf-8", errors="replace").splitlines()
    except FileNotFoundError:
        return []
    except OSError as error:
        raise EnvironmentFault(
            f"reading the log {log_path()}", error.strerror or str(error), "Look at who owns the file."
        ) from error
    return lines[-count:]
