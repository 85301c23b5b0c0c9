"""Build the stick's image: Debian packages and the program in a squashfs, GRUB for BIOS and UEFI, one hybrid ISO 9660.

The layout: an MBR with two partitions, the ISO 9660 file system itself and a FAT one that UEFI starts from (signed
loaders of the distribution, so Secure Boot stays on). No GPT: its second copy would have to move to the end of each
stick, and the partition for jobs is one line added to an MBR (`thresher.stick.layout`).
"""

import hashlib
import io
import os
import re
import shutil
import subprocess
import sys
import tarfile
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

import typer

from stick import menu
from stick.lock import Lock, names_of, parse_lock
from thresher.model.errors import EnvironmentFault, ThresherError

HERE = Path(__file__).parent
PROJECT = HERE.parent
LABEL = "THRESHER"
MOST_BYTES = 900_000_000
SUITE = "bookworm"
_TOOLS = {
    "mmdebstrap": "mmdebstrap",
    "sqfstar": "squashfs-tools",
    "xorriso": "xorriso",
    "grub-mkimage": "grub-common",
    "grub-mkfont": "grub-common",
    "mkfs.vfat": "dosfstools",
    "mcopy": "mtools",
}
_FILES = {
    Path("/usr/lib/grub/i386-pc/boot_hybrid.img"): "grub-pc-bin",
    Path("/usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed"): "grub-efi-amd64-signed",
    Path("/usr/lib/shim/shimx64.efi.signed"): "shim-signed",
    Path("/usr/lib/shim/mmx64.efi.signed"): "shim-signed",
    Path("/usr/share/keyrings/debian-archive-keyring.gpg"): "debian-archive-keyring",
}
_BIOS_MODULES = (
    *("biosdisk", "iso9660", "part_msdos", "search", "search_fs_file", "normal", "configfile", "linux", "test", "echo"),
    *("all_video", "gfxterm", "gfxmenu", "png", "font", "reboot", "halt", "serial", "terminal", "ls", "minicmd"),
    *("true", "sleep"),
)


@dataclass(frozen=True, slots=True)
class Wanted:
    """What is to be built: the image, from which mirror and components, by which lock (None: the newest versions)."""

    out: Path
    mirror: str
    components: str
    lock: Lock | None
    work: Path | None = None


def missing_tools() -> list[str]:
    """Return the Debian packages that have to be installed first."""
    needed = [package for tool, package in _TOOLS.items() if shutil.which(tool) is None]
    needed += [package for path, package in _FILES.items() if not path.exists()]
    return sorted(set(needed))


def lock_path(components: str) -> Path:
    """Return the lock of an image from certain components: one from more of them has other packages."""
    more = [each for each in components.split(",") if each != "main"]
    return HERE / f"{'+'.join(('packages', *more))}.lock"


def packages_of(wanted: Wanted) -> list[str]:
    """Return what mmdebstrap is told to include: names, or all names with their versions from the lock."""
    if wanted.lock is not None:
        return wanted.lock.wanted
    names = names_of(HERE / "packages.txt")
    if "non-free-firmware" in wanted.components.split(","):
        names += names_of(HERE / "firmware.txt")
    return names


def tree_archive(tree: Path, wheels: list[Path], when: int) -> bytes:
    """Return an archive of what is laid over the system, owned by root, every file of the same time."""
    buffer = io.BytesIO()
    with tarfile.open(fileobj=buffer, mode="w") as archive:
        files = [(path, path.relative_to(tree).as_posix()) for path in sorted(tree.rglob("*"))]
        files += [(HERE / "set-up", "thresher-set-up"), *((wheel, f"wheels/{wheel.name}") for wheel in sorted(wheels))]
        built = tarfile.TarInfo("etc/thresher/built")
        text = f"{when}\n".encode()
        built.size, built.mtime, built.mode = len(text), when, 0o644
        archive.addfile(built, io.BytesIO(text))
        for path, name in files:
            entry = archive.gettarinfo(str(path), name)
            entry.uid = entry.gid = 0
            entry.uname = entry.gname = "root"
            entry.mtime = when
            entry.mode = 0o755 if path.is_dir() or os.access(path, os.X_OK) else 0o644
            if path.is_dir():
                archive.addfile(entry)
            else:
                with path.open("rb") as stream:
                    archive.addfile(entry, stream)
    return buffer.getvalue()


def system_command(wanted: Wanted, work: Path, when: int) -> list[str]:
    """Return the command that makes the system as an archive on its standard output."""
    security = re.sub(r"/debian(?=/|$)", "/debian-security", wanted.mirror, count=1)
    components = wanted.components.replace(",", " ")
    boot = 'cp -L "$1"/vmlinuz "$1"/initrd.img ' + f'"{work}"'
    return [
        "mmdebstrap",
        "--quiet",
        "--variant=minbase",
        "--aptopt=Acquire::Check-Valid-Until false",
        "--aptopt=APT::Install-Recommends false",
        "--dpkgopt=path-exclude=/usr/share/man/*",
        "--dpkgopt=path-exclude=/usr/share/doc/*",
        "--dpkgopt=path-include=/usr/share/doc/*/copyright",
        f"--include={','.join(packages_of(wanted))}",
        f"--essential-hook=tar-in {work}/tree.tar /",
        '--customize-hook=chroot "$1" /thresher-set-up',
        '--customize-hook=rm "$1"/thresher-set-up',
        f'--customize-hook=chroot "$1" dpkg-query -W -f \'${{binary:Package}}=${{Version}}\\n\' > "{work}/versions"',
        f"--customize-hook={boot}",
        '--customize-hook=rm -f "$1"/boot/initrd.img-* "$1"/boot/vmlinuz-* "$1"/vmlinuz* "$1"/initrd.img*',
        SUITE,
        "-",
        f"deb {wanted.mirror} {SUITE} {components}",
        f"deb {wanted.mirror} {SUITE}-updates {components}",
        f"deb {security} {SUITE}-security {components}",
    ]


def image_command(content: Path, efi: Path, out: Path, when: int) -> list[str]:
    """Return the command that makes the hybrid image of a folder."""
    stamp = time.strftime("%Y%m%d%H%M%S00", time.gmtime(when))
    return [
        *("xorriso", "-as", "mkisofs", "-quiet", "-iso-level", "3", "-rational-rock", "-joliet", "-volid", LABEL),
        *("--modification-date=" + stamp, "--set_all_file_dates", stamp),
        *("-partition_offset", "16", "--mbr-force-bootable", "-append_partition", "2", "0xef", str(efi)),
        *("-b", f"{menu.FOLDER}/bios.img", "-no-emul-boot", "-boot-load-size", "4", "-boot-info-table"),
        *("--grub2-boot-info", "--grub2-mbr", "/usr/lib/grub/i386-pc/boot_hybrid.img"),
        *("-eltorito-alt-boot", "-e", "--interval:appended_partition_2:all::", "-no-emul-boot"),
        *("-o", str(out), str(content)),
    ]


@contextmanager
def _step(words: str) -> Iterator[None]:
    print(f"{words} …", flush=True)
    began = time.monotonic()
    yield
    print(f"    {time.monotonic() - began:.0f} s", flush=True)


def _carry_out(command: list[str], tried: str, when: int) -> None:
    environment = os.environ | {"SOURCE_DATE_EPOCH": str(when), "LC_ALL": "C.UTF-8"}
    try:
        subprocess.run(command, check=True, env=environment)
    except subprocess.CalledProcessError as error:
        raise EnvironmentFault(
            tried, f"{command[0]} ended with {error.returncode}", "Its own words are above."
        ) from error


_NOT_SOURCE = ("__pycache__", "*.egg-info", "*.pyc")


def copy_source(project: Path, into: Path) -> None:
    """Copy what the wheel is built from, and nothing that an earlier build has left beside it.

    Built in place, a wheel would still have modules that were removed long ago: `build/` keeps them.
    """
    shutil.copytree(project / "src", into / "src", ignore=shutil.ignore_patterns(*_NOT_SOURCE))
    for name in ("pyproject.toml", "README.md", "LICENSE"):
        if (project / name).exists():
            shutil.copy2(project / name, into / name)


def collect_wheels(folder: Path, when: int) -> list[Path]:
    """Bring the locked packages and the program itself as wheels into an empty folder."""
    pip = [sys.executable, "-m", "pip", "--disable-pip-version-check", "--quiet"]
    locked = ["--require-hashes", "--only-binary=:all:", "--no-deps", "-r", str(PROJECT / "locks/runtime.txt")]
    _carry_out([*pip, "download", *locked, "--dest", str(folder)], "fetching the locked Python packages", when)
    with tempfile.TemporaryDirectory() as clean:
        copy_source(PROJECT, Path(clean))
        command = [*pip, "wheel", "--no-deps", "--no-build-isolation", "--wheel-dir", str(folder), clean]
        _carry_out(command, "building the program's wheel", when)
    build_only = ("setuptools-",)
    return [path for path in sorted(folder.glob("*.whl")) if not path.name.startswith(build_only)]


def make_system(wanted: Wanted, work: Path, when: int) -> None:
    """Make the system's squashfs, with kernel and initial system beside it in `work`."""
    squashfs = work / "content/live/filesystem.squashfs"
    squashfs.parent.mkdir(parents=True)
    environment = os.environ | {"SOURCE_DATE_EPOCH": str(when), "LC_ALL": "C.UTF-8"}
    pack = ["sqfstar", "-quiet", "-no-progress", "-comp", "zstd", "-b", "256K"]
    with subprocess.Popen(system_command(wanted, work, when), stdout=subprocess.PIPE, env=environment) as make:
        packed = subprocess.run([*pack, str(squashfs)], stdin=make.stdout, env=environment, check=False)
        assert make.stdout is not None
        make.stdout.close()
        made = make.wait()
    if made:
        what = "a version of the lock that the archive no longer has" if wanted.lock else "a package that is not there"
        next_step = "--newest takes what there is and writes a new lock; --mirror names an archive of old versions."
        raise EnvironmentFault("making the system", f"mmdebstrap ended with {made}: perhaps {what}", next_step)
    if packed.returncode:
        raise EnvironmentFault("packing the system", f"sqfstar ended with {packed.returncode}", "Is the disk full?")
    shutil.copy(work / "vmlinuz", squashfs.parent / "vmlinuz")
    shutil.copy(work / "initrd.img", squashfs.parent / "initrd.img")
    (work / "content" / menu.MARK).write_text(f"built {when}\n", encoding="utf-8")


def make_menu(work: Path, when: int) -> Path:
    """Lay the boot menu into the content and return the file system that UEFI starts from."""
    folder = work / "content" / menu.FOLDER
    folder.mkdir(parents=True)
    fonts = PROJECT / "src/thresher/ui/fonts"
    (folder / "grub.cfg").write_text(menu.grub_config(), encoding="utf-8")
    (folder / "theme.txt").write_text(menu.theme_text(), encoding="utf-8")
    menu.draw_pictures(folder, fonts)
    for name, size, face in (("plain", "16", "B612Mono"), ("menu", "16", "B612"), ("menu-large", "22", "B612")):
        font = ["grub-mkfont", "-s", size, "-o", str(folder / f"{name}.pf2"), str(fonts / f"{face}-Regular.otf")]
        _carry_out(font, "making the menu's type", when)
    core, first = work / "core.img", work / "first.cfg"
    first.write_text(menu.first_config(), encoding="utf-8")
    place = f"/{menu.FOLDER}"
    _carry_out(
        ["grub-mkimage", "-O", "i386-pc", "-p", place, "-c", str(first), "-o", str(core), *_BIOS_MODULES],
        "making the loader for BIOS",
        when,
    )
    (folder / "bios.img").write_bytes(Path("/usr/lib/grub/i386-pc/cdboot.img").read_bytes() + core.read_bytes())
    efi = work / "efi.img"
    efi.write_bytes(bytes(8 << 20))
    _carry_out(
        ["mkfs.vfat", "--invariant", "-n", "THRESHEREFI", "-i", f"{when & 0xFFFFFFFF:08x}", str(efi)],
        "making the UEFI files",
        when,
    )
    _carry_out(["mmd", "-i", str(efi), "::EFI", "::EFI/BOOT", "::EFI/debian"], "making the UEFI files", when)
    for source, place in (
        ("/usr/lib/shim/shimx64.efi.signed", "EFI/BOOT/BOOTX64.EFI"),
        ("/usr/lib/shim/mmx64.efi.signed", "EFI/BOOT/mmx64.efi"),
        ("/usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed", "EFI/BOOT/grubx64.efi"),
        (str(first), "EFI/debian/grub.cfg"),
    ):
        _carry_out(["mcopy", "-i", str(efi), source, f"::{place}"], "making the UEFI files", when)
    return efi


def build(wanted: Wanted) -> Path:
    """Build the image and return its path. Raises EnvironmentFault with what is missing."""
    if needed := missing_tools():
        raise EnvironmentFault(
            "building the stick", f"packages are missing: {' '.join(needed)}", f"apt-get install {' '.join(needed)}"
        )
    began = time.monotonic()
    when = wanted.lock.time if wanted.lock is not None else int(time.time())
    with tempfile.TemporaryDirectory(prefix="thresher-stick-", dir=wanted.work) as folder:
        work = Path(folder)
        work.chmod(0o755)
        with _step("Python packages"):
            (work / "wheels").mkdir()
            wheels = collect_wheels(work / "wheels", when)
        with _step("System from Debian packages, packed"):
            (work / "tree.tar").write_bytes(tree_archive(HERE / "tree", wheels, when))
            make_system(wanted, work, when)
        with _step("Boot menu and loaders"):
            efi = make_menu(work, when)
        with _step("Image"):
            _carry_out(image_command(work / "content", efi, wanted.out, when), "making the image", when)
        versions = dict(line.split("=", 1) for line in (work / "versions").read_text(encoding="utf-8").split())
    if wanted.lock is None:
        lock = lock_path(wanted.components)
        lock.write_text(Lock(when, versions).text(wanted.components), encoding="utf-8")
        print(f"{len(versions)} package versions locked in {lock.relative_to(PROJECT)}")
    size = wanted.out.stat().st_size
    with wanted.out.open("rb") as stream:
        digest = hashlib.file_digest(stream, "sha256").hexdigest()
    print(f"{wanted.out}: {size / 1e6:.0f} MB, made in {time.monotonic() - began:.0f} s\nsha256 {digest}")
    if size > MOST_BYTES:
        raise EnvironmentFault(
            "building the stick", f"the image has more than {MOST_BYTES / 1e6:.0f} MB", "Leave something out."
        )
    return wanted.out


def read_lock(components: str) -> Lock:
    """Return the lock of an image from certain components. Raises EnvironmentFault or InputError."""
    path = lock_path(components)
    try:
        text = path.read_text(encoding="utf-8")
    except OSError as error:
        reason = error.strerror or str(error)
        raise EnvironmentFault(
            f"reading {path}", reason, "--newest takes the newest packages and writes it."
        ) from error
    return parse_lock(text, str(path))


def main(
    out: Annotated[Path, typer.Argument(help="The image to write, such as thresher.iso.")],
    mirror: Annotated[str, typer.Option(help="The Debian archive.")] = "http://deb.debian.org/debian",
    components: Annotated[str, typer.Option(help="With firmware that is not free: main,non-free-firmware.")] = "main",
    newest: Annotated[bool, typer.Option("--newest", help="Take the newest packages and write a new lock.")] = False,
    work: Annotated[Path | None, typer.Option(help="Where the build has room: 5 GB.")] = None,
) -> None:
    """Build a stick that starts any PC into Thresher."""
    try:
        build(Wanted(out.absolute(), mirror, components, None if newest else read_lock(components), work))
    except ThresherError as error:
        print(error, file=sys.stderr)
        raise typer.Exit(2) from error


if __name__ == "__main__":
    typer.run(main)
