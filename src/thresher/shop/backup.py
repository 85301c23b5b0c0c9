"""The whole bench, its jobs and its shop folder, as one file, and back again.

The file is a gzipped tar (`thresher-backup/1`): the files, and last `backup.json` with the SHA-256 of each. Jobs are
copied as they are at one moment, also while an engine writes to them.
"""

import errno
import gzip
import hashlib
import io
import os
import shutil
import tarfile
import tempfile
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path, PurePosixPath

import msgspec

from thresher.journal.copying import copy_job, same_job
from thresher.journal.lock import holder
from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.model.job import JOB_FILE_ENDING
from thresher.model.private_folder import made_folder
from thresher.model.regular_file import is_file, is_folder, is_link, is_there

FORMAT = "thresher-backup/1"
_LIST = "backup.json"
_FOLDERS = ("jobs", "shop")
_LEFT_OUT = (".lock", "-wal", "-shm", "-journal", ".blackbox")
_BLOCK = 1 << 20


class _Listed(msgspec.Struct, frozen=True):
    name: str
    size: int
    sha256: str


class _List(msgspec.Struct, frozen=True):
    format: str
    made: float
    files: tuple[_Listed, ...]


@dataclass(frozen=True, slots=True)
class BackedUp:
    """What a backup holds: jobs, all files, bytes of the file, and what could not be read."""

    jobs: int
    files: int
    size: int
    left_out: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Restored:
    """What was put back: files that were not there, files that were the same already, and those moved aside first."""

    new: int
    same: int
    aside: tuple[str, ...]


def back_up(bench: Path, out: Path) -> BackedUp:
    """Write the whole bench into one file. Raises EnvironmentFault; no half file is left."""
    tried = f"backing up {bench} into {out}"
    left_out: list[str] = []
    listed: list[_Listed] = []
    part = out.with_name(f".{out.name}.part")
    try:
        with part.open("xb") as file:
            os.fchmod(file.fileno(), 0o600)
            with tarfile.open(fileobj=file, mode="w:gz", compresslevel=6) as archive:
                for name in _FOLDERS:
                    _add_folder(archive, bench / name, name, listed, left_out)
                made = _List(FORMAT, datetime.now(UTC).timestamp(), tuple(listed))
                data = msgspec.json.format(msgspec.json.encode(made), indent=1)
                info = tarfile.TarInfo(_LIST)
                info.size = len(data)
                archive.addfile(_private(info), io.BytesIO(data))
            file.flush()
            os.fsync(file.fileno())
        if not listed:
            raise EnvironmentFault(tried, "there is nothing to back up", "Choose the folder of a bench.")
        part.replace(out)
        size = out.stat().st_size
    except FileExistsError as error:
        remedy = f"Wait for it; if none is running, delete {part}."
        raise EnvironmentFault(tried, "another backup into this file has begun", remedy) from error
    except OSError as error:
        part.unlink(missing_ok=True)
        raise EnvironmentFault(tried, error.strerror or str(error), "Make room, or choose another folder.") from error
    except EnvironmentFault:
        part.unlink(missing_ok=True)
        raise
    jobs = sum(each.name.startswith("jobs/") and each.name.endswith(JOB_FILE_ENDING) for each in listed)
    return BackedUp(jobs, len(listed), size, tuple(left_out))


def _private(info: tarfile.TarInfo) -> tarfile.TarInfo:
    info.mode, info.uid, info.gid, info.uname, info.gname = 0o600, 0, 0, "", ""
    return info


def _add_folder(archive: tarfile.TarFile, source: Path, name: str, listed: list[_Listed], left_out: list[str]) -> None:
    """Add the regular files of a folder; a file that cannot be read is listed with its reason."""
    for path in sorted(source.rglob("*")) if is_folder(source) else ():
        if path.name.endswith(_LEFT_OUT) or is_link(path) or not is_file(path):
            continue
        with tempfile.TemporaryDirectory(prefix="thresher-backup-") as here:
            try:
                if path.name.endswith(JOB_FILE_ENDING):
                    copy_job(path, Path(here))
                else:
                    shutil.copyfile(path, Path(here) / path.name)
            except OSError as error:
                if error.errno == errno.ENOSPC:
                    raise
                left_out.append(f"{path.name}: {error.strerror or error}")
                continue
            copy = Path(here) / path.name
            place = f"{name}/{path.relative_to(source).as_posix()}"
            listed.append(_Listed(place, copy.stat().st_size, _digest(copy)))
            archive.add(copy, place, recursive=False, filter=_private)


def _digest(path: Path) -> str:
    digest = hashlib.sha256()
    with path.open("rb") as file:
        while block := file.read(_BLOCK):
            digest.update(block)
    return digest.hexdigest()


def restore(backup: Path, bench: Path, replace: bool = False) -> Restored:
    """Put a backup into a bench's folder, after all of it was checked.

    Files that are there with other content are in the way: they are named and nothing is changed, or with `replace`
    each is moved aside first. Raises InputError for a damaged or foreign backup and for what is in the way,
    EnvironmentFault.
    """
    made_folder(bench)
    with tempfile.TemporaryDirectory(prefix=".thresher-restore-", dir=bench) as here:
        folder = Path(here)
        listed = _unpack(backup, folder)
        other, same = [], 0
        for each in listed.files:
            place = bench / each.name
            if is_there(place):
                if is_file(place) and _same(place, folder / each.name, each):
                    same += 1
                else:
                    other.append(each.name)
        if other and not replace:
            faults = [InputFault(name, "is there with other content; --replace moves it aside first") for name in other]
            raise InputError(f"{backup} into {bench}", faults[:8])
        held = [InputFault(name, f"{by} has it open") for name in other if (by := holder(bench / name))]
        if held:
            raise InputError(f"{backup} into {bench}", held)
        return _put(listed, folder, bench, other, same)


def _same(place: Path, unpacked: Path, listed: _Listed) -> bool:
    """Whether a file is the one of a backup; a job may hold the same rows in other bytes."""
    if place.stat().st_size == listed.size and _digest(place) == listed.sha256:
        return True
    return place.name.endswith(JOB_FILE_ENDING) and same_job(place, unpacked)


def _put(listed: _List, folder: Path, bench: Path, other: list[str], same: int) -> Restored:
    aside, new = [], 0
    try:
        for each in listed.files:
            place = bench / each.name
            if is_there(place):
                if each.name not in other:
                    continue
                moved = _free(place)
                place.replace(moved)
                aside.append(moved.name)
            made_folder(place.parent)
            (folder / each.name).replace(place)
            new += 1
    except OSError as error:
        raise EnvironmentFault(f"restoring into {bench}", error.strerror or str(error), "Make room there.") from error
    return Restored(new, same, tuple(aside))


def _free(path: Path) -> Path:
    number = 1
    while is_there(aside := path.with_name(f"{path.name}.before-restore-{number}")):
        number += 1
    return aside


def _unpack(backup: Path, folder: Path) -> _List:
    """Unpack a backup and check every file of it. Raises InputError, EnvironmentFault."""
    source = str(backup)
    if not is_file(backup):
        raise EnvironmentFault(f"reading the backup {backup}", "there is no such file", "Check the name.")
    try:
        with tarfile.open(backup, mode="r:gz") as archive:
            listed = _list_of(archive, source)
            for member in _members(archive, listed, source):  # each is a plain file that the list names
                archive.extract(member, folder, filter="data")
    except (tarfile.TarError, gzip.BadGzipFile, EOFError, zlib.error, ValueError) as error:
        raise InputError(source, [InputFault("file", f"it is damaged or no backup ({error})")]) from error
    except OSError as error:
        raise EnvironmentFault(
            f"reading {backup}", error.strerror or str(error), "Make room, then try again."
        ) from error
    faults = [
        InputFault(each.name, "it is damaged in the backup" if is_file(folder / each.name) else "it is missing")
        for each in listed.files
        if not is_file(folder / each.name) or _digest(folder / each.name) != each.sha256
    ]
    if faults:
        raise InputError(source, faults[:8])
    return listed


def _list_of(archive: tarfile.TarFile, source: str) -> _List:
    members = archive.getmembers()
    last = members[-1] if members else None
    file = archive.extractfile(last) if last is not None and last.name == _LIST else None
    if file is None:
        raise InputError(source, [InputFault("file", "it is no backup of a bench")])
    try:
        listed = msgspec.json.decode(file.read(), type=_List)
    except msgspec.MsgspecError as error:
        raise InputError(source, [InputFault(_LIST, str(error)[:120])]) from error
    if listed.format != FORMAT:
        raise InputError(source, [InputFault("format", f'expected "{FORMAT}", found "{listed.format}"')])
    return listed


def _members(archive: tarfile.TarFile, listed: _List, source: str) -> Iterator[tarfile.TarInfo]:
    """Yield the members that the list names; anything else, a link or a path that leads out is refused."""
    names = {each.name: each.size for each in listed.files}
    for name in names:
        path = PurePosixPath(name)
        if path.is_absolute() or ".." in path.parts or path.parts[0] not in _FOLDERS:
            raise InputError(source, [InputFault(name, "it would be put outside of the bench")])
    for member in archive.getmembers():
        if member.name == _LIST:
            continue
        if member.name not in names or not member.isfile() or member.size != names[member.name]:
            raise InputError(source, [InputFault(member.name[:80], "the backup's own list has no such file")])
        yield member
