"""Runs and idle benches that nobody ended in order, as a job file and its black box have them."""

from collections.abc import Iterable

from thresher.compose.after_crash import Reached
from thresher.endings.conclude import OpenEnd
from thresher.endings.traces import LeftBehind
from thresher.engine.services.going_on import reached_by
from thresher.journal.black_box import BoxHeader
from thresher.journal.jobfile import BlockMark, JobFile, StoredRun
from thresher.model.endings import LastMoments
from thresher.model.exposure import some_of
from thresher.model.run_states import Ending

NO_MOMENTS = LastMoments((), ())
NOTHING_REACHED = Reached((), ())


def open_ends(
    stored: JobFile, box: tuple[BoxHeader, LastMoments] | None, boot_id: str
) -> list[tuple[OpenEnd, Reached]]:
    """Return what has to be looked into, with how far each run had come; to be called before the runs are ended as
    interrupted.

    `boot_id` is the present boot: an idle bench whose program was ended meanwhile says nothing about the machine.
    """
    found = []
    of_box = None
    if box is not None and not box[0].closed:
        header, moments = box
        number = moments.rows[-1].run if moments.rows else 0
        of_box = next((run for run in stored.runs() if run.number == number), None)
        if of_box is not None:
            found.append(_with_reached(stored, of_box, header, moments))
        elif header.boot_id != boot_id and moments.rows:
            found.append((_of_idle(header, moments), NOTHING_REACHED))
    for run in stored.runs():
        if run.ending is None and run is not of_box and (of_box is None or run.number != of_box.number):
            found.append(_with_reached(stored, run, None, NO_MOMENTS))
        elif run.ending is Ending.INTERRUPTED and (kept := stored.unjudged_moments(run)) is not None:
            found.append(_with_reached(stored, run, None, kept))
    return found


def _with_reached(
    stored: JobFile, run: StoredRun, header: BoxHeader | None, moments: LastMoments
) -> tuple[OpenEnd, Reached]:
    end = _of_run(stored, run, header, moments)
    blocks = stored.blocks(run)
    running = {each.index: max(0.0, end.left.last_at - each.began_at) for each in blocks if each.broken_off}
    return end, reached_by(run.sheet, running, {each.index for each in blocks})


def _of_run(stored: JobFile, run: StoredRun, header: BoxHeader | None, moments: LastMoments) -> OpenEnd:
    tick = stored.last_tick(run) or (run.began_at, run.began_wall)
    row = moments.rows[-1] if moments.rows and moments.rows[-1].run == run.number else None
    at, wall = (row.at, row.wall) if row is not None and row.at >= tick[0] else tick
    blocks = stored.blocks(run)
    running = [block for block in blocks if block.broken_off]
    cores = {cpu.cpu: cpu.core for cpu in run.machine.cpus}
    on = {cores.get(cpu, cpu) for block in running for cpu in block.cpus}
    left = LeftBehind(
        header.boot_id if header is not None else run.boot_id,
        at,
        wall,
        header.boot_wall if header is not None else None,
        header.pid if header is not None else 0,
        header.asked_by if header is not None else 0,
        moments,
        header.power_cycles if header is not None else {},
        bool(running),
        header.watchdog_armed if header is not None else False,
        header.known_words if header is not None else stored.known_words(),
        header.session if header is not None else "",
    )
    return OpenEnd(
        run.number,
        left,
        run.began_at,
        loaded_seconds(blocks, at),
        tuple(block.title for block in running),
        tuple(dict.fromkeys(block.load for block in running)),
        tuple(block.index for block in running),
        some_of(on, run.machine.core_count),
        wall - header.boot_wall if header is not None else at,
    )


def _of_idle(header: BoxHeader, moments: LastMoments) -> OpenEnd:
    last = moments.rows[-1]
    left = LeftBehind(
        header.boot_id,
        last.at,
        last.wall,
        header.boot_wall,
        header.pid,
        header.asked_by,
        moments,
        header.power_cycles,
        False,
        known_words=header.known_words,
    )
    return OpenEnd(0, left, header.began_at, 0.0, (), (), (), (), last.wall - header.boot_wall)


def loaded_seconds(blocks: Iterable[BlockMark], until: float) -> float:
    """Return for how long at least one block was under way, in seconds."""
    spans = sorted((block.began_at, until if block.ended_at is None else block.ended_at) for block in blocks)
    total, reached = 0.0, 0.0
    for begin, end in spans:
        total += max(0.0, end - max(begin, reached))
        reached = max(reached, end)
    return total
