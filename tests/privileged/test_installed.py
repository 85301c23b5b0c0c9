"""The helper as it is installed: files, rights, polkit's words, the unit's hardening, and what it imports."""

import os
import re
import shutil
import subprocess
import sys
import xml.etree.ElementTree as ElementTree
from pathlib import Path

import pytest

from thresher.privileged.capabilities import Capability, keep_only, permitted

ROOT = Path(__file__).parents[2]
SYSTEM = ROOT / "src/thresher/privileged/system"


def installed(tmp_path: Path, what: str = "install") -> list[str]:
    script = ROOT / "scripts/install-helper"
    subprocess.run([str(script), what], env=os.environ | {"DESTDIR": str(tmp_path)}, check=True)
    return sorted(str(path.relative_to(tmp_path)) for path in tmp_path.rglob("*") if path.is_file())


def test_it_is_installed_and_removed_without_a_trace(tmp_path: Path) -> None:
    files = installed(tmp_path)
    for wanted in (
        "usr/lib/systemd/system/thresher-access.service",
        "usr/lib/sysusers.d/thresher-access.conf",
        "usr/lib/thresher-access/thresher-access",
        "usr/lib/thresher-access/thresher/privileged/allowlist.py",
        "usr/share/dbus-1/system-services/org.thresher.Access1.service",
        "usr/share/dbus-1/system.d/org.thresher.Access1.conf",
        "usr/share/polkit-1/actions/org.thresher.Access1.policy",
    ):
        assert wanted in files
    # nobody but root may change what runs with more rights
    assert not any((tmp_path / name).stat().st_mode & 0o022 for name in files)
    assert installed(tmp_path, "remove") == []


def test_the_installed_files_alone_are_enough_and_load_nothing_heavy(tmp_path: Path) -> None:
    installed(tmp_path)
    code = (
        "import sys;sys.path.insert(0,sys.argv[1]);import thresher.privileged.service as s;"
        "print(s.__file__);print(sorted({each.partition('.')[0] for each in sys.modules}))"
    )
    home = tmp_path / "usr/lib/thresher-access"
    done = subprocess.run([sys.executable, "-P", "-c", code, str(home)], capture_output=True, text=True, check=True)
    place, modules = done.stdout.splitlines()
    assert place.startswith(str(home))
    for heavy in ("numpy", "PyQt6", "msgspec", "typer", "scipy", "json", "asyncio"):
        assert f"'{heavy}'" not in modules


def test_every_right_has_words_and_only_people_at_the_machine_are_asked() -> None:
    policy = ElementTree.parse(SYSTEM / "org.thresher.Access1.policy")
    actions = {each.get("id"): each for each in policy.iter("action")}
    rights = ("read", "drives", "contents", "memory", "watchdog", "restart")
    assert set(actions) == {f"org.thresher.Access1.{word}" for word in ("all", *rights)}
    for action in actions.values():
        assert action.findtext("message", "").startswith("Thresher wants to ")
        defaults = [action.findtext(f"defaults/{who}") for who in ("allow_any", "allow_inactive", "allow_active")]
        assert defaults == ["no", "no", "auth_admin_keep"]
        notes = {each.get("key"): each.text for each in action.iter("annotate")}
        assert notes["org.freedesktop.policykit.owner"] == "unix-user:thresher-access"
    implied = [
        each.text for each in actions["org.thresher.Access1.all"].iter("annotate") if "imply" in str(each.get("key"))
    ]
    assert str(implied[0]).split() == [f"org.thresher.Access1.{word}" for word in rights]


def test_the_unit_is_closed_as_far_as_it_can_be() -> None:
    if shutil.which("systemd-analyze") is None:
        pytest.skip("systemd-analyze is not installed")
    command = ["systemd-analyze", "security", "--offline=true", str(SYSTEM / "thresher-access.service")]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    found = re.search(r"Overall exposure level for \S+: (\d+\.\d)", done.stdout)
    if found is None:
        pytest.skip(f"this systemd-analyze cannot do that: {done.stderr.strip()}")
    assert float(found[1]) <= 2.0


def test_rights_that_are_given_up_are_gone() -> None:
    child = os.fork()
    if not child:
        keep_only(Capability.SYS_RAWIO)
        os._exit(0 if permitted() in (0, 1 << 17) else 1)  # CAP_SYS_RAWIO has the number 17 (<linux/capability.h>)
    assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0
