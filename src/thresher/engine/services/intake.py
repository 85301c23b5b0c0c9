"""The intake of a job: what should be there, what changed since the last visit, limits, trust and idle readings.

Owned by the engine and used on its thread only. It keeps what belongs to the machine in the shop's file of that
machine, and says through `notes` what has to be reported.
"""

import re
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import TypeVar

import numpy as np

from thresher.compose.sheet_file import load_sheet, shipped_sheets
from thresher.diagnosis.decision import Prices, default_price_list, load_prices, read_prices
from thresher.engine.services.proposals import Candidate, propose
from thresher.inventory.expectation import FIELDS, Expected, changes_since, expected_doubts, parse_expected
from thresher.inventory.identity import machine_key, tag_parts
from thresher.model.channels import Baseline, Channel, LimitSide, SensorDoubt, Tick
from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.model.parts import Doubt, Inventory, PartInstance
from thresher.model.port import System
from thresher.model.private_folder import made_folder
from thresher.model.regular_file import is_there
from thresher.protocol.intake import Intake
from thresher.sensors.limits import OwnLimit, check_own_limit, with_own_limits
from thresher.sensors.sanity import SHORTEST, take_baseline
from thresher.shop.own_sheets import read_sheet_file, read_uses, save_sheet, uses_path
from thresher.shop.store import (
    MachineFile,
    NewerFile,
    Shelf,
    ShopPart,
    Trust,
    Visit,
    change_machine,
    change_shelf,
    machine_path,
    own_sheets,
    prices_path,
    put_aside,
    read_machine,
    read_shelf,
    shelf_path,
)

T = TypeVar("T")

BASELINE_S = 30.0
OWN = "shop/"
"""How the name of a sheet begins that the shop keeps."""
_MOST_MINUTES = 14 * 24 * 60
_DISTRUST_CODES = ("X-830", "X-831", "X-832", "X-833", "X-836", "X-837", "X-838")


@dataclass(frozen=True, slots=True)
class Note:
    """Something to be reported on the tape as a warning."""

    title: str
    detail: str
    code: str = ""


class IntakeService:
    """Keeps the intake of one job on one machine up to date."""

    def __init__(
        self,
        system: System,
        shop: Path | None,
        inventory: Inventory,
        channels: tuple[Channel, ...],
        job_name: str,
        known: tuple[PartInstance, ...],
    ) -> None:
        """`shop` is the shop's folder, None where nothing is to be kept; `known` are the parts the job has seen."""
        self._system = system
        self._shop = shop
        self.found = inventory
        self._given = channels
        self._job = job_name
        self._key = machine_key(inventory)
        self._taking: list[Tick] | None = None
        self._until = 0.0
        self._candidates: tuple[Candidate, ...] = ()
        self._running: tuple[SensorDoubt, ...] = ()
        self.notes: list[Note] = []
        self.instances = tag_parts(inventory, known)
        self.shelf = self._guarded(read_shelf, shelf_path, Shelf())
        self.prices = self.read_prices()
        empty = MachineFile()
        self.machine = empty
        if self._key is not None:
            key = self._key
            self.machine = self._guarded(
                lambda folder: read_machine(folder, key), lambda folder: machine_path(folder, key), empty
            )
        no_uses: dict[str, float] = {}
        self.uses = self._guarded(read_uses, uses_path, no_uses)
        self.reload_sheets()

    def _guarded(self, read: Callable[[Path], T], where: Callable[[Path], Path], empty: T) -> T:
        """Read a file of the shop; an unreadable one is moved aside and reported, so that nothing in it is lost."""
        if self._shop is None:
            return empty
        try:
            return read(self._shop)
        except NewerFile as error:
            self.notes.append(Note("A file of the shop is newer than this program", str(error), "X-860"))
            return empty
        except InputError as error:
            try:
                aside = put_aside(where(self._shop))
                self.notes.append(Note("A file of the shop cannot be read", f"{error}; kept as {aside}", "X-860"))
            except EnvironmentFault as fault:
                self.notes.append(Note("A file of the shop cannot be read", f"{error}; {fault}", "X-860"))
            return empty

    def read_prices(self) -> Prices:
        """Return the shop's own price list, the defaults where it has none or it cannot be used, which is reported."""
        if self._shop is None:
            return load_prices()
        try:
            return read_prices(prices_path(self._shop))
        except InputError as error:
            self.notes.append(Note("The shop's prices cannot be used", f"{error}; default prices are used", "X-860"))
            return load_prices()

    def keep_prices(self) -> Path:
        """Return the shop's own price list to be edited, begun with the defaults. Raises EnvironmentFault."""
        if self._shop is None:
            raise EnvironmentFault("keeping prices", "this bench has no shop folder", "Start the window normally.")
        path = prices_path(self._shop)
        if not is_there(path):
            try:
                made_folder(path.parent)
                path.write_text(default_price_list(), encoding="utf-8")
            except OSError as error:
                raise EnvironmentFault(
                    f"keeping prices in {path}", error.strerror or str(error), "Choose a folder that can be written."
                ) from error
        return path

    # ---- what follows from it all

    def channels(self) -> tuple[Channel, ...]:
        """Return the channels with the technician's limits, and with those ignored marked so."""
        doubts = self.machine.baseline.doubts if self.machine.baseline else ()
        doubts = (*doubts, *self._running)
        why = {doubt.channel: f"{doubt.title}: {doubt.detail}" for doubt in doubts if doubt.code in _DISTRUST_CODES}
        for trust in self.machine.trust:
            if trust.trusted:
                why.pop(trust.channel, None)
            else:
                why[trust.channel] = f"technician, {trust.date}: {trust.reason or 'ignored'}"
        limited = with_own_limits(self._given, self.machine.limits)
        return tuple(replace(channel, distrust=why.get(channel.key, "")) for channel in limited)

    def inventory(self, job: dict[str, str]) -> tuple[Inventory, tuple[str, ...]]:
        """Return the machine with all doubts about it, and what is new since its last visit."""
        doubts: list[Doubt] = list(self.found.doubts)
        expected, _ = _expected(job)
        doubts += expected_doubts(self._system, self.found, expected)
        news: list[str] = []
        before = self.machine.before(self._job)
        if before is not None:
            when = f"{datetime.fromtimestamp(before.wall).astimezone():%Y-%m-%d}"
            gone, news = changes_since(before.parts, self.found, when)
            doubts += gone
        return replace(self.found, doubts=tuple(doubts)), tuple(news)

    def intake(self, job: dict[str, str], symptoms: tuple[str, ...]) -> Intake:
        """Return what the Intake shows."""
        before = self.machine.before(self._job)
        last = ""
        if before is not None:
            last = f"{datetime.fromtimestamp(before.wall).astimezone():%Y-%m-%d}"
            last += f", job {before.number}" if before.number else ""
        left = None if self._taking is None else max(0.0, self._until - self._system.now())
        minutes = job.get("minutes", "")
        kinds = {part.kind for part in self.found.parts}
        there = float(minutes) if minutes else None
        offers = propose(self._candidates, symptoms, there, self.channels(), self.uses, kinds)
        news = self.inventory(job)[1]
        trouble = _expected(job)[1]
        return Intake(self.instances, self.shelf.parts, self.machine.baseline, left, last, news, offers, trouble)

    # ---- what a person does

    def note_visit(self, number: str) -> None:
        """Keep that the machine was here under this job, with the parts in it now."""
        if self._key is None or self._shop is None:
            return
        visit = Visit(wall=self._system.wall(), job=self._job, number=number, parts=self.found.parts)
        self._keep(lambda file: replace(file, name=self.found.name).visited(visit))

    def set_limit(self, channel: str, side: LimitSide, value: float | None, reason: str) -> None:
        """Set a limit on one side of a channel, or take the technician's away with None. Raises InputError."""
        own = OwnLimit(channel=channel, side=side, value=value or 0.0, reason=" ".join(reason.split()), date=_today())
        if value is not None:
            check_own_limit(own, self._given)

        def change(file: MachineFile) -> MachineFile:
            others = tuple(each for each in file.limits if (each.channel, each.side) != (channel, side))
            return replace(file, limits=(*others, own) if value is not None else others)

        self._keep(change)

    def set_trust(self, channel: str, trusted: bool, reason: str) -> None:
        """Say whether a channel is to be trusted. Raises InputError for one that this machine does not have."""
        if channel not in {each.key for each in self._given}:
            raise InputError("trust", [InputFault("channel", f"this machine has no channel {channel!r}")])
        trust = Trust(channel=channel, trusted=trusted, reason=" ".join(reason.split()), date=_today())

        def change(file: MachineFile) -> MachineFile:
            others = tuple(each for each in file.trust if each.channel != channel)
            return replace(file, trust=(*others, trust))

        self._keep(change)

    def set_shelf(self, parts: tuple[ShopPart, ...]) -> None:
        """Keep the shelf. Raises InputError for parts that cannot be distinguished, EnvironmentFault without a shop."""
        if self._shop is None:
            raise EnvironmentFault("keeping the shelf", "this bench has no shop folder", "Start the window normally.")
        self.shelf = change_shelf(self._shop, self.shelf, Shelf(parts=parts))

    def keep_sheet(self, name: str) -> Path:
        """Keep a copy of a sheet as the shop's own, to be changed, and return its path. Raises InputError."""
        found = next((each for each in self._candidates if each.name == name), None)
        if found is None:
            raise InputError("run sheet", [InputFault("name", f"there is no sheet {name!r}")])
        if self._shop is None:
            raise EnvironmentFault("keeping a sheet", "this bench has no shop folder", "Start the window normally.")
        text, _ = read_sheet_file(Path(found.path))
        path = save_sheet(self._shop, found.name.removeprefix(OWN), text)
        self.reload_sheets()
        return path

    def reload_sheets(self) -> None:
        """Reload all run sheets: those that ship, and the shop's own with what is wrong in them."""
        found = []
        own = own_sheets(self._shop) if self._shop is not None else {}
        for mine, paths in ((False, shipped_sheets()), (True, own)):
            for name, path in paths.items():
                try:
                    sheet, trouble = load_sheet(path), ""
                except InputError as error:
                    sheet, trouble = None, str(error)
                key = f"{OWN}{name}" if mine else name
                found.append(Candidate(key, mine, str(path), sheet, trouble))
        self._candidates = tuple(found)

    @property
    def key(self) -> str | None:
        """The name of the machine's files in the shop, None for a machine that cannot be told from others."""
        return self._key

    @property
    def shop(self) -> Path | None:
        """The shop's folder, None where nothing is kept."""
        return self._shop

    def sheet_path(self, name: str) -> Path | None:
        """Return the file of a sheet by name, None when there is none."""
        return next((Path(each.path) for each in self._candidates if each.name == name), None)

    def doubt(self, doubt: SensorDoubt) -> bool:
        """Doubt a channel because of what it does now; say whether that changes anything.

        It does not where the technician has said that the channel is to be trusted.
        """
        settled = any(trust.channel == doubt.channel for trust in self.machine.trust)
        known = any(each.channel == doubt.channel for each in self._running)
        if settled or known:
            return False
        self._running = (*self._running, doubt)
        return True

    # ---- idle readings

    def begin_baseline(self, seconds: float) -> None:
        """Take idle readings from the next tick on. Raises InputError."""
        if not SHORTEST <= seconds <= 3600:
            fault = InputFault("seconds", f"expected {SHORTEST} to 3600, found {seconds:g}")
            raise InputError("idle readings", [fault])
        self._taking = []
        self._until = self._system.now() + seconds

    def drop_baseline(self) -> bool:
        """Stop taking idle readings, because a load begins; say whether any were being taken."""
        taking, self._taking = self._taking is not None, None
        return taking

    def take(self, tick: Tick) -> Baseline | None:
        """Take a tick into the idle readings; return them when they are complete."""
        if self._taking is None:
            return None
        self._taking.append(tick)
        if tick.at < self._until:
            return None
        rows, self._taking = self._taking, None
        values = np.array([[np.nan if value is None else value for value in row.values] for row in rows])
        seconds = rows[-1].at - rows[0].at
        trusted = with_own_limits(self._given, self.machine.limits)
        baseline = take_baseline(trusted, values, rows[-1].missing, self._system.wall(), seconds)
        self.machine = replace(self.machine, baseline=baseline)  # good for this job, also when it cannot be kept
        return baseline

    def keep_baseline(self, baseline: Baseline) -> None:
        """Keep idle readings with the machine. Raises InputError, EnvironmentFault."""
        self._keep(lambda file: replace(file, baseline=baseline))

    def _keep(self, change: Callable[[MachineFile], MachineFile]) -> None:
        """Change the machine's file; for a machine that cannot be identified change it in memory only."""
        if self._shop is not None and self._key is not None:
            self.machine = change_machine(self._shop, self._key, change)
        else:
            self.machine = change(self.machine)


def _expected(job: dict[str, str]) -> tuple[Expected, str]:
    """Return what should be there, and what was not understood of it."""
    fields = {name: job.get(f"expected_{name}", "") for name in FIELDS}
    try:
        return parse_expected(fields), ""
    except InputError as error:
        return parse_expected(fields | {"memory": ""}), "; ".join(str(fault) for fault in error.faults)


def check_job_fields(fields: dict[str, str]) -> list[InputFault]:
    """Return what is wrong with fields of the intake."""
    minutes = fields.get("minutes", "")
    if not minutes or (re.fullmatch(r"[0-9]{1,5}", minutes) and 1 <= int(minutes) <= _MOST_MINUTES):
        return []
    return [InputFault("minutes", f"expected 1 to {_MOST_MINUTES} minutes, found {minutes!r}")]


def _today() -> str:
    return f"{datetime.now().astimezone():%Y-%m-%d}"
