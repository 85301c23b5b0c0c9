"""Folders that only this user may use: sockets, logs, compiled loads, jobs and what the shop keeps."""

import os
import stat
from pathlib import Path

from thresher.model.errors import EnvironmentFault


def made_folder(path: Path) -> Path:
    """Return a folder that is there as it is, or make it for this user alone. Raises EnvironmentFault.

    A folder that a shop shares on purpose stays shared."""
    return path if os.path.isdir(path) else private_folder(path)  # noqa: PTH112 (must not raise)


def private_folder(path: Path) -> Path:
    """Make a folder for this user alone, and return it.

    Folders above it are made like it. One that is there must be a real folder (no link) that belongs to this user; if
    others may use it, that is ended. Raises EnvironmentFault for one of another user, or that cannot be made.
    """
    tried = f"making the folder {path}"
    try:
        missing = [each for each in (path, *path.parents) if not os.path.lexists(each)]
        for each in reversed(missing):
            os.mkdir(each, 0o700)  # noqa: PTH102 (made one by one, so that each is private)
        descriptor = os.open(path, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC)
    except FileExistsError:
        return private_folder(path)  # another process made it meanwhile
    except OSError as error:
        words = "it is a link or no folder" if isinstance(error, NotADirectoryError) else os.strerror(error.errno or 0)
        raise EnvironmentFault(tried, words, "Remove it, or use another folder.") from error
    try:
        found = os.fstat(descriptor)
        if found.st_uid != os.geteuid():
            raise EnvironmentFault(tried, f"it belongs to user {found.st_uid}", "Use a folder of your own.")
        if stat.S_IMODE(found.st_mode) & 0o077:
            os.fchmod(descriptor, 0o700)
    except OSError as error:
        raise EnvironmentFault(tried, os.strerror(error.errno or 0), "Use a folder of your own.") from error
    finally:
        os.close(descriptor)
    return path
