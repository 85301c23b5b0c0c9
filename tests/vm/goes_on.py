"""A guest that crashes whenever a CPU works: the run goes on by itself and names it; then one that crashes at each
start.

See README.md in this folder. In the guest a small program stands in for the weak CPU: it lets the kernel panic as soon
as a worker has kept that CPU busy for some seconds.
"""

import argparse
import json
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

from tests.vm.guest import PLACE, Guest

JOB = f"{PLACE}/hunt.thresher"
_WEAK_CPU = 1
_SHEET = """
format = "thresher-sheet/1"
title = "Crash hunt in a guest"
[after_crash]
then = "{then}"
most = {most}
between_s = 60.0
[[blocks]]
row = "processor"
load = "integer"
start = 0
length = "20:00"
working_set = "inside the core"
[[blocks]]
row = "memory"
load = "memory"
start = 0
length = "20:00"
threads = 1
amount = "64 MiB"
patterns = ["fixed"]
"""
_WEAK = f"""#!/bin/sh
seen=0
while sleep 3; do
  busy=$(ps -eo psr,stat,args | awk '$1 == {_WEAK_CPU} && $2 ~ /R/ && /loads.worker/' | wc -l)
  if [ "$busy" -gt 0 ]; then seen=$((seen + 1)); else seen=0; fi
  if [ "$seen" -ge 4 ]; then echo c > /proc/sysrq-trigger; fi
done
"""
_LOOP = "#!/bin/sh\nsleep 150\necho c > /proc/sysrq-trigger\n"
_UNIT = f"""[Service]
ExecStartPre=/bin/sh -c 'echo 1 > /proc/sys/kernel/sysrq'
ExecStart={PLACE}/crash.sh
[Install]
WantedBy=multi-user.target
"""
_LOOK = f"""
import json, sqlite3
job = sqlite3.connect("file:{JOB}?mode=ro", uri=True)
going = job.execute("SELECT value FROM job WHERE name = 'going on'").fetchone()
def marks(kind, key):
    return [json.loads(body)[key] for (body,) in job.execute("SELECT body FROM marks WHERE kind = ?", (kind,))]
runs = job.execute("SELECT count(*) FROM runs").fetchone()[0]
going = going[0] if going else ""
print(json.dumps(dict(going=going, runs=runs, ends=marks("ending", "kind"), tape=marks("tape", "title"))))
"""


def crash_by(guest: Guest, script: str) -> None:
    """Let the guest crash by a script from now on, also after its next starts."""
    guest.run(f"mkdir -p {PLACE}; cat > {PLACE}/crash.sh <<'X'\n{script}X\nchmod +x {PLACE}/crash.sh", check=True)
    guest.run(f"cat > /etc/systemd/system/crash.service <<'X'\n{_UNIT}X\nsystemctl daemon-reload", check=True)
    guest.run("systemctl enable -q --now crash.service; sync", check=True)


def state(guest: Guest) -> dict[str, Any]:
    """Return what the job file holds of ends and of what goes on; nothing while the guest is starting again."""
    try:
        printed = guest.run(f"python3 {PLACE}/look.py", wait_s=40.0)
    except subprocess.TimeoutExpired:
        return {}
    try:
        found: dict[str, Any] = json.loads(printed)
    except ValueError:
        return {}
    return found


def follow(guest: Guest, minutes: float) -> dict[str, Any]:
    """Wait until nothing goes on by itself any more, and return the last state."""
    last: dict[str, Any] = {}
    until, said, went = time.monotonic() + 60.0 * minutes, "", False
    while time.monotonic() < until:
        now = state(guest)
        last = now or last
        words = f"{last.get('runs')} runs, ends: {last.get('ends')}"
        if words != said:
            print(f"    {time.strftime('%H:%M:%S')} {words}", flush=True)
            said = words
        went = went or bool(now.get("going"))  # the run begins before its plan is in the file
        if went and now and not now["going"]:
            return now
        time.sleep(5.0)
    return last


def begin(guest: Guest, then: str, most: int) -> None:
    """Start the run in the guest."""
    guest.run(
        f"mkdir -p {PLACE}; rm -f {JOB}*; cat > {PLACE}/hunt.toml <<'X'\n{_SHEET.format(then=then, most=most)}X",
        check=True,
    )
    guest.run(f"cat > {PLACE}/look.py <<'X'\n{_LOOK}X", check=True)
    guest.run("systemctl stop hunt.service thresher-go-on.service; systemctl reset-failed")
    guest.run(f"systemd-run -q --collect --unit=hunt thresher run {PLACE}/hunt.toml --job {JOB}", check=True)


def main() -> int:
    """Do both and print what came of them."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--guest", type=Path, required=True)
    parser.add_argument("parts", nargs="*", default=["part", "loop"])
    options = parser.parse_args()
    guest, wrong = Guest(options.guest), 0
    if "part" in options.parts:
        begin(guest, "find the part", 12)
        crash_by(guest, _WEAK)
        found = follow(guest, 60.0)
        titles = [title for title in found.get("tape", []) if title.startswith("The machine ends under")]
        print(f"part: {len(found.get('ends', []))} ends, {titles[-1:] or 'nothing named'}", flush=True)
        left = guest.run("systemctl disable -q --now crash.service; ls /etc/systemd/system/thresher-go-on.service 2>&1")
        print(f"    the unit: {left.strip()}")
        wrong += not (titles and titles[-1].endswith(f"core {_WEAK_CPU}"))
    if "loop" in options.parts:
        begin(guest, "go on", 3)
        time.sleep(60.0)
        crash_by(guest, _LOOP)
        found = follow(guest, 45.0)
        ends = len(found.get("ends", []))
        stopped = any("Nothing goes on" in title for title in found.get("tape", []))
        print(f"loop: {ends} ends looked into, {'it came to its own end' if stopped else 'IT DID NOT END'}")
        guest.run("systemctl disable -q --now crash.service")
        wrong += not stopped
    return wrong


if __name__ == "__main__":
    sys.exit(main())
