"""Job files that were damaged or crafted: refused or read in part, in words, and never run."""

import os
import random
import shutil
import sqlite3
import threading
from contextlib import closing
from pathlib import Path

import pytest

from tests.conftest import Heard
from thresher.app.stored_job import stored_history, stored_snapshot
from thresher.app.stored_verdict import job_verdict
from thresher.engine.assembly import open_engine
from thresher.journal.jobfile import JobFile, create_job
from thresher.model.errors import InputError, ThresherError
from thresher.protocol.events import TickEvent
from thresher.report.html import render
from thresher.simulator.machine import SimulatedMachine
from thresher.simulator.scenario import Scenario


@pytest.mark.parametrize(
    ("statement", "words"),
    [
        ("CREATE TRIGGER helper AFTER UPDATE ON runs BEGIN DELETE FROM marks; END", "trigger 'helper'"),
        ("CREATE VIEW extra AS WITH RECURSIVE n(x) AS (SELECT 1 UNION ALL SELECT x FROM n) SELECT x FROM n", "view"),
        ("CREATE TABLE more (x)", "table 'more'"),
        ("ALTER TABLE marks ADD COLUMN x TEXT", "table 'marks'"),
        (
            "DROP TABLE marks; CREATE VIEW marks AS WITH RECURSIVE n(x) AS (SELECT 1 UNION ALL SELECT x FROM n) "
            "SELECT x AS mark, 1 AS run, 0.0 AS at, 'finding' AS kind, '{}' AS body FROM n",
            "view 'marks'",
        ),
    ],
)
@pytest.mark.parametrize("read_only", [True, False])
def test_what_thresher_does_not_make_is_refused_by_name(
    finished_job: Path, tmp_path: Path, statement: str, words: str, read_only: bool
) -> None:
    path = tmp_path / "theirs.thresher"
    shutil.copy(finished_job, path)
    with closing(sqlite3.connect(path)) as connection:
        connection.executescript(statement)
    with pytest.raises(InputError) as refused:
        JobFile(path, read_only=read_only)
    assert words in str(refused.value)


def read_everything(path: Path, out: Path) -> None:
    with JobFile(path, read_only=True) as stored:
        stored.summary()
        verdict = job_verdict(stored)
        stored_snapshot(stored, verdict)
        stored_history(stored)
        out.write_text(render(stored, verdict), encoding="utf-8")


def test_a_whole_file_is_read(finished_job: Path, tmp_path: Path) -> None:
    read_everything(finished_job, tmp_path / "r.html")


@pytest.mark.parametrize("seed", range(4))
def test_damaged_files_are_read_or_refused_in_words(finished_job: Path, tmp_path: Path, seed: int) -> None:
    whole = finished_job.read_bytes()
    rng = random.Random(seed)
    path, refused = tmp_path / "damaged.thresher", 0
    for _ in range(12):
        content = bytearray(whole)
        for _ in range(rng.choice((1, 4, 40, 400))):
            content[rng.randrange(len(content))] = rng.randrange(256)
        if rng.random() < 0.3:
            content = content[: rng.randrange(len(content))]
        path.write_bytes(content)
        try:
            read_everything(path, tmp_path / "r.html")
        except ThresherError as error:
            refused += 1
            assert str(path) in str(error)
    assert refused


@pytest.mark.parametrize("kind", ["finding", "tape", "block begins", "block ends", "distrust", "baseline", "machine"])
@pytest.mark.parametrize("body", ["", "{", "[" * 5000, "null", '{"index": "x"}', '{"channel": 7}', "NaN", "\ud800"])
def test_bodies_that_are_none_are_said_to_be_damaged(finished_job: Path, tmp_path: Path, kind: str, body: str) -> None:
    path = tmp_path / "theirs.thresher"
    shutil.copy(finished_job, path)
    with closing(sqlite3.connect(path)) as connection, connection:
        connection.execute(
            "INSERT INTO marks (run, at, kind, body) VALUES (1, 10.0, ?, CAST(? AS TEXT))",
            (kind, body.encode("utf-8", "surrogatepass")),
        )
    try:
        read_everything(path, tmp_path / "r.html")
    except ThresherError as error:
        assert "damaged" in str(error) or "theirs.thresher" in str(error)


def test_a_neighbour_that_is_locked_stops_no_tick_and_no_other_card(ferry: Scenario, tmp_path: Path) -> None:
    system = SimulatedMachine(ferry, speed=20.0)
    engine = open_engine(system, tmp_path / "mine.thresher")
    locked = tmp_path / "locked.thresher"
    create_job(locked, {"number": "0440", "machine": "Slipway winch"})
    os.mkfifo(tmp_path / "pipe.thresher")
    holder = sqlite3.connect(locked, isolation_level=None)
    holder.execute("PRAGMA locking_mode = EXCLUSIVE")
    holder.execute("BEGIN EXCLUSIVE")
    heard = Heard()
    engine.subscribe(heard)
    thread = threading.Thread(target=engine.serve)
    thread.start()
    try:
        engine.submit(engine.jobs.settle).result(10)
        cards = {Path(card.path).name: card.trouble for card in engine.jobs.cards()}
    finally:
        holder.close()
        engine.quit()
        thread.join(20)
    assert cards["mine.thresher"] == ""
    assert "not" in cards["pipe.thresher"] or "no such" in cards["pipe.thresher"]
    assert "locked.thresher" in cards
    ticks = [event.tick.at for event in heard.events if isinstance(event, TickEvent)]
    assert ticks, "ticks went on meanwhile"
    assert locked.stat().st_size > 0
