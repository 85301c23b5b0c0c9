"""Jobs that are in memory: kept on the stick after all, or saved to another drive or a network share."""

import shutil
from dataclasses import dataclass
from pathlib import Path

import msgspec

from thresher.journal.copying import copy_job
from thresher.journal.lock import holder
from thresher.machine.system_tools import Tools, run_tool, tried
from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.model.job import JOB_FILE_ENDING
from thresher.model.regular_file import is_file, is_there
from thresher.stick.boot import HOME, RUN, StickState, read_state, write_state
from thresher.stick.jobs_partition import create, look_at, make_ready, mount
from thresher.stick.layout import JobsState

MOUNTS = Path("/run/thresher-stick/mounts")
_JOBS = "data/thresher/jobs"


def jobs_in(home: Path = HOME) -> list[Path]:
    """Return the job files that are kept, oldest first."""
    return sorted(path for path in (home / _JOBS).glob(f"*{JOB_FILE_ENDING}") if is_file(path))


def keep_on_stick(home: Path = HOME, run: Path = RUN, tools: Tools = run_tool) -> StickState:
    """Make the partition for jobs, copy what is in memory to it and mount it in its place.

    Raises EnvironmentFault or InputError; what is in memory stays there then.
    """
    state = read_state(run)
    if state.lasting:
        return state
    for job in jobs_in(home):
        if (who := holder(job)) is not None:
            raise EnvironmentFault("keeping jobs on the stick", f"{who} has {job.name} open", "Close the bench first.")
    if not state.drive:
        raise EnvironmentFault("keeping jobs on the stick", state.reason, "Save them to another drive.")
    stick = look_at(state.drive, tools)
    device = create(stick, tools) if stick.layout.state is JobsState.NONE else make_ready(stick, tools)
    aside = run / "new-home"
    aside.mkdir(exist_ok=True)
    mount(device, aside, tools)
    try:
        shutil.copytree(home, aside, dirs_exist_ok=True)
        tools(["sync", "--file-system", str(aside)])
    except (OSError, shutil.Error) as error:
        tried(lambda: tools(["umount", str(aside)]))
        raise EnvironmentFault("copying jobs to the stick", str(error), "They are still in memory.") from error
    tools(["umount", str(aside)])
    mount(device, home, tools)
    state = msgspec.structs.replace(state, lasting=True, reason="", room=0)
    write_state(state, run)
    return state


class _Device(msgspec.Struct, frozen=True):
    path: str
    fstype: str | None = None
    label: str | None = None
    size: int = 0
    rm: bool = False
    hotplug: bool = False
    children: tuple["_Device", ...] = ()


class _Listing(msgspec.Struct, frozen=True):
    blockdevices: tuple[_Device, ...] = ()


@dataclass(frozen=True, slots=True)
class Target:
    """A file system on a drive that can be unplugged, to which jobs may be saved: its device, kind, name and bytes."""

    device: str
    file_system: str
    label: str
    size: int

    @property
    def words(self) -> str:
        """What a person reads."""
        name = f"{self.label}, " if self.label else ""
        return f"{name}{self.size / 1e9:.1f} GB, {self.file_system}, {self.device}"


WRITABLE = ("vfat", "exfat", "ext4", "ntfs")
"""File systems that jobs can be saved to; ntfs by the kernel's ntfs3."""
_OURS = ("THRESHER", "THRESHEREFI")


def targets(listing: str, stick_drive: str) -> list[Target]:
    """Return where jobs could be saved, from `lsblk --json --bytes`: only on drives that can be unplugged.

    A drive inside the machine is the customer's and is never offered. Raises InputError.
    """
    try:
        found = msgspec.json.decode(listing.encode(), type=_Listing)
    except msgspec.DecodeError as error:
        raise InputError("the list of drives", [InputFault("lsblk", str(error))]) from error
    return [
        Target(each.path, each.fstype or "", each.label or "", each.size)
        for drive in found.blockdevices
        if drive.path != stick_drive and (drive.rm or drive.hotplug)
        for each in (drive, *drive.children)
        if each.fstype in WRITABLE and each.label not in _OURS
    ]


def find_targets(stick_drive: str, tools: Tools = run_tool) -> list[Target]:
    """Return where jobs could be saved on this machine now. Raises EnvironmentFault or InputError."""
    columns = "PATH,FSTYPE,LABEL,SIZE,RM,HOTPLUG"
    return targets(tools(["lsblk", "--json", "--bytes", "--output", columns]), stick_drive)


def save_to(target: Target, jobs: list[Path], tools: Tools = run_tool) -> str:
    """Copy jobs to a drive that a person chose; it is read only again afterwards. Raises EnvironmentFault."""
    devices = (_drive_of(target.device), target.device)
    kind = "ntfs3" if target.file_system == "ntfs" else target.file_system
    command = ["mount", "-t", kind, "-o", "rw,nodev,nosuid,noexec", target.device]
    try:
        for each in devices:
            tools(["blockdev", "--setrw", each])
        return _saved(command, jobs, tools, target.words)
    finally:
        for each in reversed(devices):
            _read_only(each, tools)


@dataclass(frozen=True, slots=True)
class Share:
    """A share of the network: its address as //server/share, and who may write to it."""

    address: str
    user: str = ""
    password: str = ""

    def check(self) -> None:
        """Raises InputError for what is no address or would be read as something else."""
        faults = []
        if not self.address.startswith("//") or self.address.count("/") < 3 or len(self.address) > 200:
            faults.append(InputFault("share", "expected //server/share"))
        for name, text in (("share", self.address), ("user", self.user), ("password", self.password)):
            if any(ord(letter) < 32 for letter in text):
                faults.append(InputFault(name, "holds a sign that cannot be typed"))
        if "," in self.address or "," in self.user:
            faults.append(InputFault("share", "a comma is not possible here"))
        if faults:
            raise InputError("saving to a share", faults)


def save_to_share(share: Share, jobs: list[Path], tools: Tools = run_tool, run: Path = RUN) -> str:
    """Copy jobs to a share of the network. Raises InputError or EnvironmentFault."""
    share.check()
    secret = run / "share"
    secret.touch(mode=0o600)
    try:
        secret.write_text(f"username={share.user or 'guest'}\npassword={share.password}\n", encoding="utf-8")
        options = f"credentials={secret},nodev,nosuid,noexec{'' if share.user else ',guest'}"
        return _saved(["mount", "-t", "cifs", "-o", options, share.address], jobs, tools, share.address)
    finally:
        secret.unlink(missing_ok=True)


def _saved(command: list[str], jobs: list[Path], tools: Tools, words: str) -> str:
    MOUNTS.mkdir(parents=True, exist_ok=True)
    tools([*command, str(MOUNTS)])
    folder = MOUNTS / "thresher-jobs"
    try:
        folder.mkdir(exist_ok=True)
        for job in jobs:
            copy_job(job, folder)
        tools(["sync", "--file-system", str(MOUNTS)])
    except OSError as error:
        raise EnvironmentFault(f"saving jobs to {words}", error.strerror or str(error), "Choose another.") from error
    finally:
        tools(["umount", str(MOUNTS)])
    return f"{len(jobs)} job{'' if len(jobs) == 1 else 's'} saved in thresher-jobs on {words}"


def _read_only(device: str, tools: Tools) -> None:
    tried(lambda: tools(["blockdev", "--setro", device]))


def _drive_of(device: str) -> str:
    entry = Path("/sys/class/block") / Path(device).name
    return f"/dev/{entry.resolve().parent.name}" if is_there(entry / "partition") else device
