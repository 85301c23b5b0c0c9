"""Modules that lie in the working folder are never run, by no part of the program."""

import os
import re
import subprocess
from pathlib import Path

import thresher
from thresher.model.own_program import own_command


def test_no_child_runs_what_lies_in_the_working_folder(tmp_path: Path) -> None:
    for name in ("json", "logging", "msgspec", "typer", "thresher", "numba", "select"):
        (tmp_path / f"{name}.py").write_text("from pathlib import Path\nPath('run-by-mistake').write_text('x')\n")
    for module, *words in (
        ("thresher.cli", "inventory", "--simulate", "ferry-office"),
        ("thresher.machine.kmsg_reader", "/nowhere"),
        ("thresher.loads.worker.spawner", "99"),
    ):
        environment = {name: value for name, value in os.environ.items() if name != "PYTHONPATH"}
        subprocess.run(
            own_command(module, *words), cwd=tmp_path, env=environment, capture_output=True, timeout=60, check=False
        )
        assert not (tmp_path / "run-by-mistake").exists(), module


def test_only_one_function_makes_commands_of_our_own_modules() -> None:
    source = Path(thresher.__file__).parent
    own = re.compile(r"sys\.executable, *\[?\s*(?!own_command)[\"']|[\"']-m[\"']")
    found = {str(path.relative_to(source)) for path in source.rglob("*.py") if own.search(path.read_text())}
    # the access helper writes one into a unit; it can import nothing of the program, and keeps the safe path as well
    assert found == {"model/own_program.py", "privileged/restart_unit.py"}
