"""Writing a file as a whole: written beside and put in its place, so that it is there whole or not at all."""

import os
import tempfile
from pathlib import Path

from thresher.model.errors import EnvironmentFault
from thresher.model.regular_file import is_file, is_there


def write_whole(path: Path, data: bytes, mode: int = 0o600) -> None:
    """Replace a file durably. A device or pipe is written to as it is. Raises EnvironmentFault."""
    try:
        if is_there(path) and not is_file(path):
            path.write_bytes(data)
            return
        with tempfile.NamedTemporaryFile(dir=path.parent, prefix=f".{path.name}.", delete=False) as beside:
            try:
                beside.write(data)
                beside.flush()
                os.fsync(beside.fileno())
                os.fchmod(beside.fileno(), mode)
                Path(beside.name).replace(path)
            except BaseException:
                Path(beside.name).unlink(missing_ok=True)
                raise
        folder = os.open(path.parent, os.O_RDONLY)
        try:
            os.fsync(folder)
        finally:
            os.close(folder)
    except OSError as error:
        raise EnvironmentFault(
            f"writing {path}", error.strerror or str(error), "Choose a folder that can be written."
        ) from error
