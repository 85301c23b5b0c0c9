"""Reading files that a person named: only regular ones, so that a pipe or a device holds nobody up."""

import os
import stat
from pathlib import Path

from thresher.model.errors import InputError, InputFault


def read_regular(path: Path, most: int | None = None) -> bytes:
    """Return a file's content, or its first `most` bytes.

    Raises OSError, also for a folder, pipe, socket or device, with its reason in words.
    """
    # without O_NONBLOCK opening a pipe would wait for whoever writes into it
    descriptor = os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK)
    with os.fdopen(descriptor, "rb") as stream:
        if not stat.S_ISREG(os.fstat(descriptor).st_mode):
            raise OSError(0, "it is not a regular file", str(path))
        return stream.read() if most is None else stream.read(most)


def read_text_file(path: Path) -> str:
    """Return the text of a regular file in UTF-8. Raises InputError."""
    try:
        return read_regular(path).decode("utf-8")
    except UnicodeDecodeError as error:
        fault = InputFault(f"byte {error.start}", "this is not text in UTF-8")
    except OSError as error:
        fault = InputFault("file", error.strerror or str(error))
    raise InputError(str(path), [fault])
