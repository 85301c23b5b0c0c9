"""The access helper in a guest with the real bus, polkit, logind and systemd. See README.md in this folder.

An ordinary user gets everything after one question; refused, the program goes on without; a user without a session is
refused; watchdog and resume unit work through it over a freeze. Each is printed.
"""

import argparse
import io
import subprocess
import sys
import tarfile
import time
from pathlib import Path

from tests.vm.guest import PLACE, Guest

ROOT = Path(__file__).parents[2]
_USER, _PASSWORD = "bench", "harbour-light-7"
_HOME = f"/home/{_USER}"
_SHOW_IT = "import fcntl; fcntl.ioctl(open('/dev/tty0'), 0x5606, 7)"
"""VT_ACTIVATE (ioctl_console(2)): a session that is not in front is not active, and nobody is asked in it."""
_FROZEN = (
    "sysctl -q kernel.sched_rt_runtime_us=-1; for cpu in 0 1; do"
    " setsid chrt -f 99 taskset -c $cpu sh -c 'while :; do :; done' </dev/null >/dev/null 2>&1 & done; sleep 1"
)


def install(guest: Guest, package: Path | None) -> None:
    """Bring the helper into the guest as a technician does, with the package that it needs, and make a user."""
    packed = io.BytesIO()
    with tarfile.open(fileobj=packed, mode="w") as out:
        for name in (
            "src/thresher/__init__.py",
            "src/thresher/privileged",
            "scripts/install-helper",
            "docs/security.md",
        ):
            out.add(ROOT / name, f"source/{name}", filter=lambda each: None if "__pycache__" in each.name else each)
        for name in ("in_session.py", "everything.py"):
            out.add(Path(__file__).with_name(name), f"source/{name}")
        if package is not None:
            out.add(package, "source/jeepney.deb")
    subprocess.run(
        [str(guest.folder / "run-in-guest.sh"), f"mkdir -p {PLACE} && tar xf - -C {PLACE}"],
        input=packed.getvalue(),
        check=True,
    )
    if package is not None:
        guest.run(f"dpkg -i {PLACE}/source/jeepney.deb", check=True)
    print(guest.run(f"{PLACE}/source/scripts/install-helper install 2>&1", check=True).strip())
    guest.run(
        f"id {_USER} >/dev/null 2>&1 || useradd -m -s /bin/bash -G sudo {_USER}; echo '{_USER}:{_PASSWORD}' | chpasswd;"
        f" chmod -R a+rX {PLACE}; modprobe msr; modprobe i6300esb; sync",
        check=True,
    )


def in_session(guest: Guest, password: str, command: str, wait_s: float = 600.0) -> tuple[str, int]:
    """Run a command as the user in a session of the machine's own console, with somebody who answers questions."""
    out = f"{PLACE}/said.txt"
    words = (
        f"rm -f {out}; systemd-run -q --wait --collect -p User={_USER} -p PAMName=login -p WorkingDirectory={_HOME}"
        " -p TTYPath=/dev/tty7 -p StandardInput=tty -p TTYReset=yes"
        f" -p StandardOutput=append:{out} -p StandardError=append:{out}"
        f" -E XDG_SEAT=seat0 -E XDG_VTNR=7 -E XDG_SESSION_TYPE=tty -E XDG_SESSION_CLASS=user -- /bin/sh -c"
        f" 'sleep 3; exec python3 {PLACE}/source/in_session.py {password} {command}' & job=$!; sleep 2;"
        f' python3 -c "{_SHOW_IT}";'
        f" wait $job; code=$?; cat {out}; echo code $code"
    )
    *said, last = guest.run(words, wait_s=wait_s).strip().splitlines()
    return "\n".join(said), int(last.rpartition(" ")[2]) if last.startswith("code ") else -1


def shown(title: str, right: bool, said: str) -> bool:
    """Print one result with what was said."""
    print(f"{'right' if right else 'WRONG'}  {title}", flush=True)
    print("\n".join(f"    {line}" for line in said.splitlines()), flush=True)
    return right


def allowed(guest: Guest) -> bool:
    """Everything after one question."""
    said, code = in_session(guest, _PASSWORD, f"/opt/venv/bin/python {PLACE}/source/everything.py")
    right = code == 0 and "answered" not in said and said.count("AUTHENTICATING FOR") == 1
    return shown("an ordinary user at the machine gets everything after one question", right, said)


def refused(guest: Guest) -> bool:
    """A wrong password: nothing is given, and the program goes on."""
    said, code = in_session(guest, "wrong", "thresher --ask inventory")
    right = code == 0 and "the access helper may not do this for you" in said
    return shown("refused, the program goes on without", right, "\n".join(said.splitlines()[:40]))


def without_session(guest: Guest) -> bool:
    """From a service, which nobody sits at."""
    said = guest.run(f"systemd-run -q --wait --pipe -p User={_USER} thresher access --ask; echo code $?", wait_s=300.0)
    right = "code 1" in said and "The rules of this computer (polkit) do not allow it" in said
    return shown("a user without a session is refused, and nobody is asked", right, said)


def logged(guest: Guest) -> bool:
    """The journal holds who asked for what."""
    said = guest.run("journalctl -t thresher-access -o cat --no-pager | tail -40")
    right = f"({_USER})" in said and "OpenDrive ('/dev/" in said and "refused" in said
    return shown("the journal holds who asked for what", right, "\n".join(said.splitlines()[-12:]))


def asked_for(guest: Guest, what: str) -> int:
    """Return how often the helper has done something in this boot."""
    return guest.run("journalctl -b -t thresher-access -o cat --no-pager").count(f"{what} (")


def crash(guest: Guest) -> bool:
    """A run with watchdog and resume unit: the machine freezes, is reset, and the run goes on as the user."""
    job = f"{_HOME}/hunt.thresher"
    sheet = f"{_HOME}/hunt.toml"
    guest.run(
        f'rm -f {job}*; cat > {sheet} <<\'X\'\nformat = "thresher-sheet/1"\ntitle = "Two halves"\n[after_crash]\n'
        'then = "go on"\nmost = 3\nbetween_s = 60.0\nwatchdog = true\n[[blocks]]\nrow = "processor"\nload = "integer"\n'
        'start = 0\nlength = "6:00"\nworking_set = "inside the core"\ncores = [0]\nX\n'
        f"chown {_USER}: {sheet}; sync"
    )
    before = guest.boot_id()
    command = f"thresher --ask run {sheet} --job {job}"
    starting = subprocess.Popen(
        [sys.executable, "-c", _IN_BACKGROUND, str(guest.folder), _PASSWORD, command],
        cwd=ROOT,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    until, armed = time.monotonic() + 400, asked_for(guest, "OpenWatchdog")
    while time.monotonic() < until and asked_for(guest, "OpenWatchdog") == armed:
        time.sleep(3.0)
    time.sleep(60.0)
    print(guest.run("cat /etc/systemd/system/thresher-go-on.service").strip(), flush=True)
    try:
        guest.run(_FROZEN, wait_s=25.0)
    except subprocess.TimeoutExpired:
        print("    (frozen)", flush=True)
    guest.wait_for_boot(before)
    starting.kill()
    starting.wait()
    until, said = time.monotonic() + 900, ""
    while time.monotonic() < until:
        said = guest.run("journalctl -b -t thresher-access -o cat; systemctl is-active thresher-go-on")
        if "OpenWatchdog" in said and "RemoveRestart" in said:
            break
        time.sleep(10.0)
    ends = guest.run(f"thresher endings {job}")
    right = "OpenWatchdog" in said and "RemoveRestart" in said and f"({_USER})" in said and "freeze" in ends
    return shown("watchdog and resume unit work through it over a freeze", right, said + ends)


_IN_BACKGROUND = """
import sys
from pathlib import Path
from tests.vm.access import in_session
from tests.vm.guest import Guest
print(in_session(Guest(Path(sys.argv[1])), sys.argv[2], sys.argv[3], 3000.0)[0])
"""


def main() -> int:
    """Carry the parts out and return how many came out wrong."""
    parts = {
        "allowed": allowed,
        "refused": refused,
        "without-session": without_session,
        "logged": logged,
        "crash": crash,
    }
    parser = argparse.ArgumentParser()
    parser.add_argument("--guest", type=Path, required=True)
    parser.add_argument(
        "--package", type=Path, help="the file of Debian's python3-jeepney, for a guest without network"
    )
    parser.add_argument("parts", nargs="*", default=list(parts))
    options = parser.parse_args()
    guest = Guest(options.guest)
    install(guest, options.package)
    print(guest.run("systemd-analyze security thresher-access.service --no-pager | tail -1").strip(), flush=True)
    wrong = sum(not parts[name](guest) for name in options.parts)
    print(f"{len(options.parts) - wrong} of {len(options.parts)} right")
    return wrong


if __name__ == "__main__":
    sys.exit(main())
