"""The proof after a repair: what ran on the machine as it is returned, how long, how hot, with which result."""

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np
import numpy.typing as npt

from thresher.journal.jobfile import JobFile, StoredRun
from thresher.model.channels import LimitSide, watched_temperatures
from thresher.model.durations import duration_words
from thresher.model.findings import Severity
from thresher.model.run_states import Ending
from thresher.model.trials import Book

_POINTS = 160
_ROOM_K = 4.0
"""Kelvin of air above and below the curves."""

Floats = npt.NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class TemperatureCurve:
    """The hottest processor reading of one run: seconds since the load came on, °C."""

    name: str
    seconds: tuple[float, ...]
    celsius: tuple[float, ...]


@dataclass(frozen=True, slots=True)
class ProofRun:
    """One run of the proof, for the table of a warranty claim."""

    run: int
    began_wall: float
    loads: str
    result: str
    hottest: str
    simulated: bool


@dataclass(frozen=True, slots=True)
class Proof:
    """What was run on the machine as it is returned. `clean` when a run was finished and none had a finding.

    `before` and `after` are temperatures under the same load, where both are there; `limit_c` what they may reach.
    """

    sentence: str
    clean: bool
    findings: int
    minutes: float
    runs: tuple[ProofRun, ...]
    before: TemperatureCurve | None = None
    after: TemperatureCurve | None = None
    limit_c: float | None = None


@dataclass(slots=True)
class _Sum:
    minutes: dict[str, float] = field(default_factory=lambda: defaultdict(float))
    findings: int = 0
    finished: int = 0
    hottest: float | None = None
    limit: float | None = None


def proof_of(stored: JobFile, runs: Sequence[StoredRun], book: Book) -> Proof:
    """Return the proof of a job: of the runs since the last repair, of all of them where nothing was repaired."""
    kept = [trial.number for trial in book.trials[1:] if trial.kept]
    last = kept[-1] if kept else 0
    since: list[StoredRun] = []
    earlier: list[StoredRun] = []
    for run in runs:
        if run.ending is None:
            continue
        trial = book.trial_of(run.number)
        (since if trial is None or trial.number >= last else earlier).append(run)
    total = _Sum()
    rows = tuple(_row(stored, run, total) for run in since)
    minutes = sum(total.minutes.values())
    clean = bool(total.finished and minutes > 0 and not total.findings)
    shown = _worth_drawing(stored, since)
    after = _curve(stored, shown, "after" if kept else "hottest") if shown is not None else None
    before = _matching(stored, earlier, shown) if shown is not None and after is not None else None
    sentence = _sentence(total, minutes, bool(kept))
    return Proof(sentence, clean, total.findings, minutes, rows, before, after, total.limit)


def _row(stored: JobFile, run: StoredRun, total: _Sum) -> ProofRun:
    minutes: dict[str, float] = defaultdict(float)
    for exposure in stored.exposures(run):
        if not exposure.broken_off:
            minutes[exposure.load] += exposure.minutes
            total.minutes[exposure.load] += exposure.minutes
    found = sum(each.count for each in stored.findings(run) if each.severity is not Severity.NOTE)
    finished = run.ending is Ending.FINISHED
    total.findings += found
    total.finished += finished
    hottest, limit = _hottest(stored, run)
    if hottest is not None:
        total.hottest = hottest if total.hottest is None else max(total.hottest, hottest)
    total.limit = limit if total.limit is None or limit is None else min(limit, total.limit)
    loads = ", ".join(f"{duration_words(each * 60.0)} of {load}" for load, each in minutes.items()) or "no load"
    result = f"{found} finding{'' if found == 1 else 's'}" if found else "no errors"
    if not finished:
        result = f"{run.ending}, {result}"
    shown = f"{hottest:.0f} °C" if hottest is not None else "unknown"
    return ProofRun(run.number, run.began_wall, loads, result, shown, run.simulated)


def _sentence(total: _Sum, minutes: float, repaired: bool) -> str:
    if minutes <= 0:
        return "No run since the repair yet." if repaired else "No load has run yet."
    loads = ", ".join(load for load, each in total.minutes.items() if each > 0)
    after = " after the repair" if repaired else ""
    result = f"{total.findings} error{'' if total.findings == 1 else 's'}" if total.findings else "no errors"
    sentence = f"{duration_words(minutes * 60.0)} of full load{after} ({loads}), every result checked: {result}."
    if total.hottest is not None:
        sentence += f" Hottest processor reading {total.hottest:.0f} °C"
        if total.limit is not None:
            room = total.limit - total.hottest
            where = f"{room:.0f} °C below its limit" if room > 0 else f"at its limit of {total.limit:.0f} °C"
            sentence += f", {where}"
        sentence += "."
    return sentence


def _celsius(stored: JobFile, run: StoredRun) -> tuple[Floats, Floats] | None:
    """Return times and the hottest trusted processor reading of a run, None where it has none."""
    hot = watched_temperatures(run.channels)
    readings = stored.readings(run)
    if not hot or not len(readings.at):
        return None
    hottest = np.fmax.reduce(readings.values[:, hot], axis=1).astype(np.float64)
    there = np.isfinite(hottest)
    return (readings.at[there], hottest[there]) if there.any() else None


def _hottest(stored: JobFile, run: StoredRun) -> tuple[float | None, float | None]:
    found = _celsius(stored, run)
    limits = [run.channels[index].limit(LimitSide.BELOW) for index in watched_temperatures(run.channels)]
    values = [limit.value for limit in limits if limit is not None]
    return (float(found[1].max()) if found is not None else None), (min(values) if values else None)


def _longest_load(stored: JobFile, run: StoredRun) -> tuple[str, float, float] | None:
    """Return the load of a run that lasted longest, when it came on and when it ended."""
    blocks = [(each.load, each.began_at, each.ended_at) for each in stored.blocks(run)]
    ended = [(load, began, end) for load, began, end in blocks if end is not None]
    return max(ended, key=lambda each: each[2] - each[1], default=None)


def _worth_drawing(stored: JobFile, runs: Sequence[StoredRun]) -> StoredRun | None:
    """Return the newest run whose load lasted at least half as long as the longest one's."""
    lasted = [(run, load[2] - load[1]) for run in runs if (load := _longest_load(stored, run)) is not None]
    longest = max((seconds for _, seconds in lasted), default=0.0)
    return next((run for run, seconds in reversed(lasted) if seconds >= longest / 2), None)


def _curve(stored: JobFile, run: StoredRun, name: str) -> TemperatureCurve | None:
    load, found = _longest_load(stored, run), _celsius(stored, run)
    if load is None or found is None:
        return None
    _, began, ended = load
    times, celsius = found
    inside = (times >= began) & (times <= ended)
    times, celsius = times[inside] - began, celsius[inside]
    if len(times) < 2:
        return None
    edges = np.linspace(0, len(times), min(_POINTS, len(times)) + 1).astype(int)
    pieces = [slice(a, b) for a, b in pairwise(edges)]
    return TemperatureCurve(
        name, tuple(float(times[each].mean()) for each in pieces), tuple(float(celsius[each].mean()) for each in pieces)
    )


def _matching(stored: JobFile, earlier: Sequence[StoredRun], after: StoredRun) -> TemperatureCurve | None:
    """Return the curve of the first run before the repair with the same load."""
    mine = _longest_load(stored, after)
    for run in earlier:
        theirs = _longest_load(stored, run)
        if mine is not None and theirs is not None and theirs[0] == mine[0]:
            return _curve(stored, run, "before")
    return None


@dataclass(frozen=True, slots=True)
class ProofChart:
    """The two curves ready for a page: polylines in a box of `width` by `height`, labels with their places."""

    width: int
    height: int
    left: int
    right: int
    lines: tuple[tuple[str, str, bool], ...]
    labels: tuple[tuple[float, float, str, str], ...]
    limit_y: float | None
    limit_text: str
    marks: tuple[tuple[float, str], ...]
    levels: tuple[tuple[float, str], ...]


def draw_proof(proof: Proof) -> ProofChart | None:
    """Return the chart of a proof, None where there is nothing to draw. The line after the repair is the strong one."""
    curves = [each for each in (proof.before, proof.after) if each is not None]
    if not curves:
        return None
    width, height, left, right, bottom = 660, 190, 44, 84, 22
    span = max(each.seconds[-1] for each in curves) or 1.0
    values = [value for each in curves for value in each.celsius]
    low, high = min(values) - _ROOM_K, max(values) + _ROOM_K
    if proof.limit_c is not None and proof.limit_c <= high + 25.0:
        high = max(high, proof.limit_c + _ROOM_K)

    def x(seconds: float) -> float:
        return left + (width - left - right) * seconds / span

    def y(celsius: float) -> float:
        return 6 + (height - bottom - 6) * (high - celsius) / (high - low)

    lines, labels = [], []
    for curve in curves:
        points = " ".join(f"{x(s):.1f},{y(c):.1f}" for s, c in zip(curve.seconds, curve.celsius, strict=True))
        lines.append((curve.name, points, curve is proof.after))
        labels.append((x(curve.seconds[-1]) + 6, y(curve.celsius[-1]) + 4, curve.name, f"{curve.celsius[-1]:.0f} °C"))
    if len(labels) == 2 and abs(labels[0][1] - labels[1][1]) < 13:
        upper, lower = sorted(labels, key=lambda each: each[1])
        middle = (upper[1] + lower[1]) / 2
        labels = [(upper[0], middle - 7, *upper[2:]), (lower[0], middle + 7, *lower[2:])]
    limit_y = y(proof.limit_c) if proof.limit_c is not None and low <= proof.limit_c <= high else None
    step = next((each for each in (60, 120, 300, 600, 1800, 3600, 7200, 21600) if span / each <= 6), 43200)
    marks = tuple((x(at), f"{at / 60:.0f} min") for at in np.arange(0.0, span, step))
    rise = 10 if high - low < 60 else 20
    levels = tuple((y(level), f"{level:.0f} °C") for level in np.arange(np.ceil(low / rise) * rise, high, rise))
    limit_text = f"limit {proof.limit_c:.0f} °C" if proof.limit_c is not None else ""
    return ProofChart(
        width, height, left, width - right, tuple(lines), tuple(labels), limit_y, limit_text, marks, levels
    )
