"""A hundred kills of the engine at random moments, and twenty write-ahead files torn at random bytes.

Every job file must open again and lack at most the last tick that was reported. Run: python bench/kills.py [KILLS]
[TORN]"""

import random
import shutil
import sys
import tempfile
import threading
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.crash.engine_process import EngineProcess

from thresher.journal.jobfile import JobFile
from thresher.model.errors import EnvironmentFault
from thresher.protocol.client import EngineClient
from thresher.protocol.commands import StartRun, Subscribe
from thresher.protocol.events import TickEvent

ARGUMENTS = ("--simulate", "ferry-office", "--speed", "20", "--sheet", "short-round")


def listen(path: Path, reported: list[float]) -> threading.Thread:
    """Collect the times of all ticks that the engine reports, until it is gone."""
    client = EngineClient(path, timeout_s=30)
    client.call(Subscribe())

    def work() -> None:
        try:
            while True:
                event = client.next_event()
                if isinstance(event, TickEvent) and event.run.state not in ("idle", "ended"):
                    reported.append(event.tick.at)
        except EnvironmentFault:
            client.close()

    thread = threading.Thread(target=work, daemon=True)
    thread.start()
    return thread


def kill_once(folder: Path, rng: random.Random) -> tuple[bool, int]:
    """Kill one engine in a run; return whether its file opens, and how many reported ticks it lacks."""
    engine = EngineProcess(folder, *ARGUMENTS)
    reported: list[float] = []
    thread = listen(engine.socket, reported)
    engine.client.call(StartRun())
    time.sleep(0.1 + rng.random())
    engine.kill()
    thread.join(10)
    try:
        with JobFile(engine.job) as stored:
            run = stored.runs()[-1]
            kept = set(stored.readings(run).at.tolist())
            missing = [at for at in reported if at > run.began_at and at not in kept]
            return True, len(missing)
    except Exception as error:  # noqa: BLE001 (any failure to open is what is looked for)
        print(f"does not open: {error}")
        return False, -1


def tear(folder: Path, rng: random.Random, times: int) -> tuple[int, int]:
    """Cut the write-ahead file of a killed engine at random bytes; return how many opened, and how many kept order."""
    engine = EngineProcess(folder, *ARGUMENTS)
    engine.client.call(StartRun())
    time.sleep(2.5)
    engine.kill()
    wal = folder / "job.thresher-wal"
    whole = wal.read_bytes()
    opened = ordered = 0
    everything: list[float] = []
    for number in range(times + 1):
        target = folder / f"torn-{number}" / "job.thresher"
        target.parent.mkdir()
        shutil.copy(folder / "job.thresher", target)
        cut = len(whole) if not number else rng.randrange(len(whole))
        (target.parent / "job.thresher-wal").write_bytes(whole[:cut])
        with JobFile(target) as stored:
            runs = stored.runs()
            kept = stored.readings(runs[0]).at.tolist() if runs else []
        if not number:
            everything = kept
            continue
        opened += 1
        ordered += kept == everything[: len(kept)]
    return opened, ordered


def main() -> None:
    """Print how many survived."""
    kills, torn = (int(word) for word in (*sys.argv[1:3], "100", "20")[:2]) if len(sys.argv) > 2 else (100, 20)
    rng = random.Random(11)
    opened, lost = 0, []
    for _ in range(kills):
        with tempfile.TemporaryDirectory() as folder:
            fine, missing = kill_once(Path(folder), rng)
            opened += fine
            lost.append(missing)
    print(f"{kills} kills: {opened} files open again")
    print(f"acknowledged ticks missing: at most {max(lost)} in one file, {sum(lost)} in all")
    with tempfile.TemporaryDirectory() as folder:
        files, ordered = tear(Path(folder), rng, torn)
    print(f"{torn} torn files: {files} open again, {ordered} hold an unbroken beginning of the run")


if __name__ == "__main__":
    main()
