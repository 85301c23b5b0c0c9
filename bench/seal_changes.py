"""A thousand changed reports and jobs: is every change found that a seal covers, and none reported that is not there?

Usage: python bench/seal_changes.py [COUNT] [SEED]. Two of three are changed in what the seal covers: a bit of a report,
a value of a run, of a reading, of an entry. One of three is not: a field of the job, an entry that came later, a copy.
"""

import random
import shutil
import sqlite3
import sys
import tempfile
from contextlib import closing
from pathlib import Path

from thresher.app.handing_over import keep_seal, write_handover
from thresher.compose.sheet_file import parse_sheet
from thresher.engine.assembly import open_engine
from thresher.journal.jobfile import JobFile
from thresher.model.errors import InputError
from thresher.report.sealed_file import check_report
from thresher.report.sections import Reader, usual_choice
from thresher.seal.keys import keyring_of
from thresher.seal.verify import check_job
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import load_scenario, shipped_scenarios

_SHEET = """
format = "thresher-sheet/1"
title = "Sealed run"
[[blocks]]
row = "processor"
load = "matrix"
start = 0
length = 240
"""
_COVERED = {
    "ticks": ("at", ("wall", "late", "reading")),
    "marks": ("mark", ("at", "kind", "body")),
    "runs": ("run", ("title", "sheet", "machine", "channels", "boot_id", "began_at", "began_wall", "ended_at")),
}


def changed(value: object, chance: random.Random) -> object:
    """Return a value with the smallest change: one bit of bytes or of a letter, one step of a number."""
    if isinstance(value, bytes):
        place = chance.randrange(len(value))
        return value[:place] + bytes([value[place] ^ (1 << chance.randrange(8))]) + value[place + 1 :]
    if isinstance(value, int):
        return value + 1
    if isinstance(value, float):
        return value + 1e-6
    text = str(value)
    place = chance.randrange(len(text))
    return text[:place] + chr(ord(text[place]) ^ 1) + text[place + 1 :]


def change_job(job: Path, chance: random.Random) -> None:
    """Change one value that the seal covers."""
    with closing(sqlite3.connect(job)) as connection:
        table = chance.choice(list(_COVERED))
        key, columns = _COVERED[table]
        column = chance.choice(columns)
        where = "WHERE kind NOT IN ('seal', 'sealed rows')" if table == "marks" else ""
        rows = connection.execute(f"SELECT {key}, {column} FROM {table} {where}").fetchall()  # noqa: S608 (constants)
        place, value = chance.choice(rows)
        connection.execute(f"UPDATE {table} SET {column} = ? WHERE {key} = ?", (changed(value, chance), place))  # noqa: S608
        connection.commit()


def leave_alone(job: Path, chance: random.Random) -> None:
    """Change what the seal does not cover."""
    with closing(sqlite3.connect(job)) as connection:
        match chance.randrange(3):
            case 0:
                connection.execute("INSERT OR REPLACE INTO job VALUES ('machine', ?)", (f"renamed {chance.random()}",))
            case 1:
                body = f'{{"title": "Note", "detail": "{chance.random()}"}}'
                connection.execute("INSERT INTO marks (run, at, kind, body) VALUES (1, 5.0, 'later', ?)", (body,))
            case _:
                connection.execute("VACUUM")
        connection.commit()


def main() -> int:
    """Count what was found and what was reported wrongly."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 1000
    chance = random.Random(int(sys.argv[2]) if len(sys.argv) > 2 else 1)
    missed = wrongly = covered = other = 0
    with tempfile.TemporaryDirectory(prefix="thresher-bench-") as here:
        folder = Path(here)
        shop, original = folder / "shop", folder / "original.thresher"
        engine = open_engine(
            SimulatedMachine(load_scenario(shipped_scenarios()["lighthouse-playout"]), 0.0), original, {}
        )
        engine.run_to_end(parse_sheet(_SHEET, "bench"))
        engine.close()
        files = {}
        for ending in (".html", ".pdf"):
            out = folder / f"report{ending}"
            with JobFile(original, read_only=True) as stored:
                written = write_handover(stored, out, usual_choice(Reader.CUSTOMER), shop)
            assert written is not None
            assert keep_seal(original, written) == ""
            files[out] = out.read_bytes()
        keys = keyring_of(shop)
        job = folder / "job.thresher"
        for number in range(count):
            if number % 3 == 0:
                out, data = chance.choice(list(files.items()))
                place = chance.randrange(len(data))
                out.write_bytes(data[:place] + bytes([data[place] ^ (1 << chance.randrange(8))]) + data[place + 1 :])
                try:
                    valid = check_report(out, keys, lambda _: None).valid
                except InputError:
                    valid = False
                out.write_bytes(data)
                covered, missed = covered + 1, missed + valid
                continue
            shutil.copy(original, job)
            touched = number % 3 == 1
            (change_job if touched else leave_alone)(job, chance)
            try:
                with JobFile(job, read_only=True) as stored:
                    valid = all(each.valid for each in check_job(stored, keys))
            except InputError:
                valid = False  # it is said to be damaged
            covered, missed = covered + touched, missed + (touched and valid)
            other, wrongly = other + (not touched), wrongly + (not touched and not valid)
    print(f"changed in what the seal covers: {missed} of {covered} missed")
    print(f"not changed in what it covers: {wrongly} of {other} reported")
    return 1 if missed or wrongly else 0


if __name__ == "__main__":
    sys.exit(main())
