"""Bring a guest to its end in every way and print what Thresher says of it. See README.md in this folder."""

import argparse
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from tests.vm.guest import PLACE, Guest

_PERSON_COMES_S = 200.0
"""How long nobody is there to start the machine again."""
_FROZEN = (
    "sysctl -q kernel.sched_rt_runtime_us=-1; for cpu in 0 1; do"
    " setsid chrt -f 99 taskset -c $cpu sh -c 'while :; do :; done' </dev/null >/dev/null 2>&1 & done; sleep 1"
)
"""Only two endless loops of the highest priority get a processor: screen, keys, log and programs stand still."""

End = Callable[[Guest, argparse.Namespace, str], str]
"""Ends the guest, given its boot id, and starts it again; returns what somebody saw, empty for nobody."""


def _gone(guest: Guest, command: str) -> None:
    """Run a command that ends the guest or cuts the way to it."""
    try:
        guest.run(command, wait_s=25.0)
    except subprocess.TimeoutExpired:
        print("    (no answer any more)")


def reset(guest: Guest, _options: argparse.Namespace, boot: str) -> str:
    """Somebody, or the board's supply, resets it."""
    guest.host("monitor.sh", "system_reset")
    guest.wait_for_boot(boot)
    return ""


def freeze(guest: Guest, _options: argparse.Namespace, boot: str) -> str:
    """It stands still until somebody presses reset."""
    _gone(guest, _FROZEN)
    time.sleep(_PERSON_COMES_S)
    guest.host("monitor.sh", "system_reset")
    guest.wait_for_boot(boot)
    return "stood_still"


def watchdog(guest: Guest, _options: argparse.Namespace, boot: str) -> str:
    """It stands still until the hardware watchdog resets it."""
    _gone(guest, _FROZEN)
    guest.wait_for_boot(boot)
    return ""


def power_off(guest: Guest, _options: argparse.Namespace, _boot: str) -> str:
    """It goes off; somebody finds it so."""
    guest.host("powercut.sh")
    time.sleep(_PERSON_COMES_S)
    guest.boot()
    return "was_off"


def power_cut(guest: Guest, _options: argparse.Namespace, _boot: str) -> str:
    """The mains is cut; everything on it goes off."""
    guest.host("powercut.sh")
    time.sleep(_PERSON_COMES_S)
    guest.boot()
    return "all_off"


def unknown(guest: Guest, _options: argparse.Namespace, _boot: str) -> str:
    """Nobody was there, and nothing of that boot is left: no log, no black box."""
    guest.run(f"rm -f {PLACE}/*.blackbox; rm -rf /var/log/journal/*; sync", wait_s=30.0)
    guest.host("powercut.sh")
    time.sleep(_PERSON_COMES_S)
    guest.boot()
    return ""


def heat(guest: Guest, options: argparse.Namespace, _boot: str) -> str:
    """The thermal zone goes beyond its critical trip point, and the kernel shuts down."""
    subprocess.run(options.heat, shell=True, check=True)
    time.sleep(100.0)
    guest.host("powercut.sh", check=False)
    subprocess.run(options.cool, shell=True, check=False)
    guest.boot()
    return ""


def panic(guest: Guest, _options: argparse.Namespace, boot: str) -> str:
    """The kernel panics and starts again by itself."""
    _gone(guest, "sysctl -q kernel.sysrq=1; echo c > /proc/sysrq-trigger")
    guest.wait_for_boot(boot)
    return ""


def out_of_memory(guest: Guest, _options: argparse.Namespace, _boot: str) -> str:
    """Memory runs out for the program, and the kernel ends it."""
    guest.run("systemctl set-property --runtime end MemorySwapMax=0 MemoryMax=20M; sleep 20")
    return ""


def killed(guest: Guest, _options: argparse.Namespace, _boot: str) -> str:
    """Somebody kills the program."""
    guest.run("systemctl kill -s KILL end; sleep 1")
    return ""


def shut_down(guest: Guest, _options: argparse.Namespace, _boot: str) -> str:
    """Somebody shuts the machine down."""
    _gone(guest, "systemctl poweroff")
    time.sleep(60.0)
    guest.host("powercut.sh", check=False)
    guest.boot()
    return ""


KINDS: dict[str, tuple[End, str, str]] = {
    "killed": (killed, "program killed", ""),
    "out-of-memory": (out_of_memory, "out of memory", ""),
    "reset": (reset, "reset", ""),
    "panic": (panic, "kernel panic", ""),
    "watchdog": (watchdog, "freeze", "--watchdog"),
    "shut-down": (shut_down, "a person shut it down", ""),
    "heat": (heat, "shutdown by heat", ""),
    "freeze": (freeze, "freeze", ""),
    "power-off": (power_off, "power off", ""),
    "power-cut": (power_cut, "power cut", ""),
    "unknown": (unknown, "unknown", ""),
}


def main() -> int:
    """Go through the kinds and return how many were named wrongly."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--guest", type=Path, required=True)
    parser.add_argument("--heat", default="")
    parser.add_argument("--cool", default="true")
    parser.add_argument("kinds", nargs="*", default=list(KINDS))
    options = parser.parse_args()
    guest, wrong = Guest(options.guest), 0
    for name in options.kinds:
        end, expected, more = KINDS[name]
        job = f"{PLACE}/end.thresher"
        guest.begin_run(job, more)
        time.sleep(10.0)
        seen = end(guest, options, guest.boot_id())
        found = guest.endings(job)
        if seen and found and found[-1]["question"]:
            guest.run(f"thresher endings {job} --seen {seen}")
            found = guest.endings(job)
        last: dict[str, Any] = found[-1] if found else {"kind": "nothing", "chances": [], "traces": []}
        right = last["kind"] == expected
        wrong += not right
        chance = last["chances"][0]["probability"] if last["chances"] else 0.0
        asked = f", answered {seen}" if seen else ""
        print(f"{'right' if right else 'WRONG'}  {name}: {last['kind']} ({chance * 100:.0f} %){asked}", flush=True)
        for trace in last["traces"]:
            print(f"    {trace['words']}", flush=True)
    print(f"{len(options.kinds) - wrong} of {len(options.kinds)} named rightly")
    return wrong


if __name__ == "__main__":
    sys.exit(main())
