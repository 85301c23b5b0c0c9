"""Files that a person named, or that may be there: only regular ones are read, and looking never raises."""

import os
import stat
from pathlib import Path
from typing import BinaryIO

from thresher.model.errors import InputError, InputFault


def is_there(path: Path) -> bool:
    """Whether something has this name; False also where it may not be looked at (`Path.exists` raises then)."""
    return os.path.lexists(path)


def is_file(path: Path) -> bool:
    """Whether this is a regular file; False also where it may not be looked at."""
    return os.path.isfile(path)  # noqa: PTH113 (the method raises where it may not look)


def is_folder(path: Path) -> bool:
    """Whether this is a folder; False also where it may not be looked at."""
    return os.path.isdir(path)  # noqa: PTH112 (the method raises where it may not look)


def is_link(path: Path) -> bool:
    """Whether this is a symbolic link; False also where it may not be looked at."""
    return os.path.islink(path)  # noqa: PTH114 (the method raises where it may not look)


def shown_name(path: Path) -> str:
    """Return a file's name as text: names of files are bytes, which need not be text."""
    return os.fsencode(path.name).decode("utf-8", "replace")


def read_regular(path: Path, most: int | None = None) -> bytes:
    """Return a file's content, or its first `most` bytes.

    Raises OSError, also for a folder, pipe, socket or device, with its reason in words.
    """
    with open_regular(path) as stream:
        return stream.read() if most is None else stream.read(most)


def open_regular(path: Path) -> BinaryIO:
    """Open a file for reading. Raises OSError, also for a folder, pipe, socket or device, with its reason in words."""
    # without O_NONBLOCK opening a pipe would wait for whoever writes into it
    stream = os.fdopen(os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK), "rb")
    if not stat.S_ISREG(os.fstat(stream.fileno()).st_mode):
        stream.close()
        raise OSError(0, "it is not a regular file", str(path))
    return stream


def read_text_file(path: Path) -> str:
    """Return the text of a regular file in UTF-8. Raises InputError."""
    try:
        return read_regular(path).decode("utf-8")
    except UnicodeDecodeError as error:
        fault = InputFault(f"byte {error.start}", "this is not text in UTF-8")
    except OSError as error:
        fault = InputFault("file", error.strerror or str(error))
    raise InputError(str(path), [fault])
