"""The stick in an emulated PC, in BIOS and in UEFI: it starts, keeps a job over a pulled plug, changes no drive.

Usage: python -m tests.vm.stick --image thresher.iso [--pictures FOLDER] [bios] [uefi]. Half an hour each without
hardware virtualisation. Prints what it saw and ends with the number of things that were wrong.
"""

import argparse
import hashlib
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

from PIL import Image

from tests.vm.emulated import EmulatedPc
from thresher.simulator.event_log_writer import Event, write_log

_STICK_BYTES = 4 << 30
_JOBS = "/var/lib/thresher/data/thresher/jobs"
_VERBS = (
    "inventory",
    "drive list",
    "drive health",
    "watch --seconds 3",
    "system-logs --list",
    "system-logs --yes",
    "check run short",
    "run --load matrix --for 2m",
)
"""Used between the two check sums of the customer's drive: all that reads drives, and the short round."""


def customer_drive(path: Path) -> str:
    """Write a customer's drive: a system with event logs, a file system whose log waits to be replayed, swap space.

    Returns its SHA-256.
    """
    folder = path.parent
    linux, swap = folder / "linux.part", folder / "swap.part"
    logs = folder / "files/Windows/System32/winevt/Logs"
    logs.mkdir(parents=True)
    disk = Event("disk", 7, 1_772_539_200.0, (r"\Device\Harddisk0\DR0",))
    (logs / "System.evtx").write_bytes(write_log([disk]))
    for part, size in ((linux, 256 << 20), (swap, 64 << 20)):
        with part.open("wb") as stream:
            stream.truncate(size)
    subprocess.run(["mkfs.ext4", "-q", "-F", "-d", str(folder / "files"), str(linux)], check=True)
    subprocess.run(["debugfs", "-w", "-R", "feature needs_recovery", str(linux)], check=True, capture_output=True)
    subprocess.run(["mkswap", "-q", str(swap)], check=True, capture_output=True)
    with path.open("wb") as stream:
        stream.truncate(400 << 20)
    table = "label: gpt\nstart=2048,size=524288\nstart=526336,size=131072,type=S\n"
    subprocess.run(["sfdisk", "--quiet", str(path)], input=table, text=True, check=True)
    with path.open("r+b") as stream:
        for part, sector in ((linux, 2048), (swap, 526336)):
            stream.seek(sector * 512)
            stream.write(part.read_bytes())
    return checksum(path)


def checksum(path: Path) -> str:
    """Return the SHA-256 of a file."""
    with path.open("rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()


_QUERY = "import sqlite3,sys; print(sqlite3.connect(sys.argv[1]).execute('select count(*) from ticks').fetchone()[0])"
_COUNT = f'/opt/thresher/bin/python -c "{_QUERY}" $(ls {_JOBS}/*.thresher | head -1)'
"""How many rows of readings the window's job has; jobs of the verbs come after it by their names."""


class Seen:
    """What was seen, printed as it comes; what was wrong is counted."""

    def __init__(self) -> None:
        """Nothing yet."""
        self.wrong = 0

    def say(self, right: bool, words: str) -> None:
        """Print one thing."""
        self.wrong += not right
        print(f"{'right' if right else 'WRONG'}  {words}", flush=True)


def prove(mode: str, image: Path, pictures: Path, seen: Seen) -> None:
    """Start the image once, use it, pull the plug, start it again."""
    with ExitStack() as stack:
        folder = Path(stack.enter_context(tempfile.TemporaryDirectory(prefix="thresher-pc-")))
        stick, customer = folder / "stick.img", folder / "customer.img"
        shutil.copyfile(image, stick)
        with stick.open("r+b") as stream:
            stream.truncate(_STICK_BYTES)
        before = customer_drive(customer)
        pc = EmulatedPc(folder, stick, customer, mode)
        pc.share, shared = stack.enter_context(file_server(folder))
        # a slow stick: 4 MB and 60 requests of writing a second
        pc.stick_limits = ",throttling.bps-write=4000000,throttling.iops-write=60"
        try:
            _first_start(pc, mode, pictures, seen)
            if mode == "secure":
                variable = pc.run("od -An -t u1 /sys/firmware/efi/efivars/SecureBoot-*").split()
                seen.say(variable[-1:] == ["1"], f"{mode}: started with Secure Boot on")
                return
            if mode == "bios":
                _every_verb(pc, mode, seen)
            rows = _run_and_pull(pc, mode, pictures, seen)
            seen.say(checksum(customer) == before, f"{mode}: the customer's drive has the same SHA-256 as before")
            _second_start(pc, mode, pictures, seen, rows)
            _to_a_share(pc, mode, shared, seen)
            if mode == "bios":
                _goes_on(pc, mode, pictures, seen)
        finally:
            pc.pull_the_plug()
        seen.say(checksum(customer) == before, f"{mode}: and after the second start, with its end by a pulled plug")


def _first_start(pc: EmulatedPc, mode: str, pictures: Path, seen: Seen) -> None:
    pc.switch_on()
    waited = pc.wait_for_screen(20, 120.0, pictures / f"{mode}-menu.png")
    seen.say(True, f"{mode}: the boot menu after {waited:.0f} s")
    pc.press("ret")
    time.sleep(10.0)
    waited = 10.0 + pc.wait_for_screen(40, 900.0, pictures / f"{mode}-first.png")
    seen.say(True, f"{mode}: the page before the first job after {waited:.0f} s")
    pc.wait_for_shell(300.0)
    devices = pc.run("lsblk -rno NAME,RO,TYPE")
    writable = [line for line in devices.splitlines() if line.split()[1:2] == ["0"] and line.split()[2] != "rom"]
    seen.say(not writable, f"{mode}: every drive is read only: {', '.join(writable) or 'none can be written'}")
    refused = pc.run("dd if=/dev/zero of=/dev/sda bs=512 count=1 2>&1 | head -1")
    seen.say("not permitted" in refused or "ead-only" in refused, f"{mode}: a write is refused: {refused.strip()[:70]}")
    swaps = pc.run("tail -n +2 /proc/swaps; grep -c '^/dev/sda' /proc/mounts")
    seen.say(swaps.strip() == "0", f"{mode}: nothing of the customer's is mounted, no swap is used")
    pc.press("ret")
    _wait_for(pc, "pgrep -fc 'thresher.ui --live'", lambda text: text.strip() not in ("", "0"), 300.0)
    began = time.monotonic()
    _wait_for(pc, f"ls {_JOBS}", lambda text: ".thresher" in text, 600.0)
    time.sleep(40.0)
    pc.picture(pictures / f"{mode}-bench.png")
    seen.say(True, f"{mode}: the bench, with its job, at most {time.monotonic() - began:.0f} s later")
    mounted = pc.run("grep /var/lib/thresher /proc/mounts")
    seen.say("ext4" in mounted and "rw" in mounted, f"{mode}: jobs are on the stick: {mounted.strip()[:70]}")


def _every_verb(pc: EmulatedPc, mode: str, seen: Seen) -> None:
    for verb in _VERBS:
        printed = pc.run(f"thresher {verb} > /run/out 2>&1; echo rc $?; tail -3 /run/out", 1800.0)
        code = printed.partition("rc ")[2][:1]
        seen.say(code in ("0", "1"), f"{mode}: thresher {verb}, code {code}: {printed.strip().splitlines()[-1][:90]}")
    found = pc.run("grep -c 'Bad block on a drive' /run/out; thresher system-logs --yes | grep 'D-310'", 300.0)
    seen.say("D-310" in found, f"{mode}: the logs of the customer's system were read: {found.strip()[-80:]}")


def _run_and_pull(pc: EmulatedPc, mode: str, pictures: Path, seen: Seen) -> int:
    pc.press("ctrl-ret")
    rows = _wait_for(pc, _COUNT, lambda text: text.strip().isdigit() and int(text) > 60, 600.0)
    pc.picture(pictures / f"{mode}-running.png")
    pc.pull_the_plug()
    seen.say(True, f"{mode}: the plug was pulled in the short round, with {rows.strip()} rows in the job")
    return int(rows)


def _second_start(pc: EmulatedPc, mode: str, pictures: Path, seen: Seen, rows: int) -> None:
    pc.switch_on()
    pc.wait_for_screen(20, 120.0, pictures / f"{mode}-menu.png")
    pc.press("ret")
    time.sleep(10.0)  # as long as the menu stands, it takes what the serial port sends for keys
    pc.wait_for_shell(900.0)
    _wait_for(pc, "pgrep -fc 'thresher.ui --live'", lambda text: text.strip() not in ("", "0"), 600.0)
    seen.say(True, f"{mode}: started again, straight into the bench: nothing is asked a second time")
    time.sleep(60.0)
    pc.picture(pictures / f"{mode}-again.png")
    listed = pc.run(f"ls -l {_JOBS}")
    seen.say(".thresher" in listed, f"{mode}: the job is there: {listed.strip().splitlines()[-1][-60:]}")
    kept = pc.run(_COUNT, 120.0).strip()
    seen.say(kept.isdigit() and int(kept) >= rows, f"{mode}: {kept} rows are in it, of {rows} before the plug")
    ended = pc.run(f"thresher endings $(ls {_JOBS}/*.thresher | head -1) | head -12", 300.0)
    words = next(
        (line.strip() for line in ended.splitlines() if "Run 1" in line or "run 1" in line), ended.strip()[:90]
    )
    seen.say("power" in ended or "ended" in ended, f"{mode}: how the run ended: {words}")


def _goes_on(pc: EmulatedPc, mode: str, pictures: Path, seen: Seen) -> None:
    """Pull the plug in a run that goes on after a crash: the next start of the stick goes on with it, alone."""
    job = f"{_JOBS}/goes-on.thresher"
    runs = _QUERY.replace("from ticks", "from runs")
    pc.run(f"(thresher run --load matrix --for 20m --after-crash go-on --job {job} > /run/out 2>&1 &)")
    _wait_for(pc, "cat /var/lib/thresher/going-on", lambda text: "goes-on" in text, 300.0)
    query = f'/opt/thresher/bin/python -c "{_QUERY}" {job}'
    _wait_for(pc, query, lambda text: text.strip().isdigit() and int(text) > 40, 600.0)
    pc.pull_the_plug()
    pc.switch_on()
    time.sleep(60.0)  # the menu starts its first entry by itself, and takes what the serial port sends for keys
    pc.wait_for_shell(1200.0)
    count = f'/opt/thresher/bin/python -c "{runs}" {job}'
    found = _wait_for(pc, count, lambda text: text.strip().isdigit() and int(text) >= 2, 1200.0)
    pc.picture(pictures / f"{mode}-goes-on.png")
    seen.say(found.strip() == "2", f"{mode}: after a pulled plug the run went on by itself, nobody pressed a key")


_RELAY = """#!/usr/bin/python3
import os, socket, threading
server = socket.create_connection(("127.0.0.1", {port}))
def back():
    while data := server.recv(65536):
        os.write(1, data)
threading.Thread(target=back, daemon=True).start()
while data := os.read(0, 65536):
    server.sendall(data)
"""
_SHARE_PORT = 10445


@contextmanager
def file_server(folder: Path) -> Iterator[tuple[Path, Path]]:
    """Serve a folder as the share "jobs" to guests; yields the program that relays to the server, and the folder."""
    shared, state = folder / "shared", folder / "samba"
    for each in (shared, state):
        each.mkdir()
    places = "".join(f"{name} = {state}\n" for name in ("private dir", "state directory", "cache directory"))
    places += f"lock directory = {state}\npid directory = {state}\nncalrpc dir = {state / 'rpc'}\n"
    (folder / "smb.conf").write_text(
        f"[global]\ninterfaces = 127.0.0.1\nbind interfaces only = yes\nsmb ports = {_SHARE_PORT}\n{places}"
        "map to guest = Bad User\nguest account = root\nlog file = /dev/null\ndisable spoolss = yes\n"
        f"[jobs]\npath = {shared}\nguest ok = yes\nread only = no\nforce user = root\n"
    )
    relay = folder / "relay"
    relay.write_text(_RELAY.format(port=_SHARE_PORT))
    relay.chmod(0o755)
    # it makes a session of its own, and ends that when it is told to end
    command = ["smbd", "--foreground", "-s", str(folder / "smb.conf")]
    server = subprocess.Popen(command, stdin=subprocess.DEVNULL)
    try:
        yield relay, shared
    finally:
        server.terminate()
        server.wait()


def _to_a_share(pc: EmulatedPc, mode: str, shared: Path, seen: Seen) -> None:
    """Save the jobs to a share of the network, and to one that is not there."""
    said = pc.run("thresher stick save //10.0.2.100/jobs 2>&1 | tail -1", 300.0).strip()
    copied = list((shared / "thresher-jobs").glob("*.thresher"))
    rows = [sqlite3.connect(job).execute("select count(*) from ticks").fetchone()[0] for job in copied]
    seen.say(
        bool(rows) and max(rows) > 0, f"{mode}: {said}; on the server {len(copied)} with {max(rows, default=0)} rows"
    )
    refused = pc.run("thresher stick save //10.0.2.100/nothing 2>&1 | tail -2", 300.0).strip().replace("\n", " ")
    seen.say("nothing" in refused and "saved" not in refused, f"{mode}: a share that is not there: {refused[:90]}")


def _wait_for(pc: EmulatedPc, words: str, right: Callable[[str], bool], seconds: float) -> str:
    until = time.monotonic() + seconds
    while True:
        answer = pc.run(words)
        if right(answer):
            return answer
        if time.monotonic() > until:
            raise TimeoutError(f"{words!r} still answers {answer.strip()!r}")
        time.sleep(5.0)


def put_together(pictures: Path, mode: str, out: Path) -> None:
    """Write one picture of three: menu and first page half as large, and the bench below them."""
    names = [("menu", (0, 0, 512, 384)), ("first", (512, 0, 1024, 384)), ("running", (0, 384, 1024, 1152))]
    whole = Image.new("RGB", (1024, 1152))
    for name, (left, top, right, bottom) in names:
        with Image.open(pictures / f"{mode}-{name}.png") as shot:
            part = shot.convert("RGB").resize((right - left, bottom - top), Image.Resampling.LANCZOS)
        whole.paste(part, (left, top))
    whole.save(out, optimize=True)


def main() -> int:
    """Prove what was asked for."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--image", type=Path, required=True)
    parser.add_argument("--pictures", type=Path, default=Path("stick-pictures"))
    parser.add_argument("--picture", type=Path, help="one picture of the first mode's menu, first page and bench")
    parser.add_argument("modes", nargs="*", default=["bios", "uefi"])
    options = parser.parse_args()
    options.pictures.mkdir(parents=True, exist_ok=True)
    seen = Seen()
    for mode in options.modes:
        try:
            prove(mode, options.image, options.pictures, seen)
        except TimeoutError as error:
            seen.say(False, f"{mode}: {error}")
    if options.picture is not None:
        put_together(options.pictures, options.modes[0], options.picture)
    return seen.wrong


if __name__ == "__main__":
    sys.exit(main())
