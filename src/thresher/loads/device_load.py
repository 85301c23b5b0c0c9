"""What stands on a sheet and is done without a team of workers: uses of drives and graphics cards, and checks."""

from abc import abstractmethod
from dataclasses import dataclass
from enum import StrEnum
from typing import ClassVar

from thresher.model.parts import PartKind
from thresher.model.sheet import Precision, WorkingSet


@dataclass(frozen=True, slots=True, kw_only=True)
class SteadyLoad:
    """One thing to do on a row of the sheet.

    `ends_itself` says whether it ends when it is through; until then it goes on, however long the block is planned.
    `shaped` says whether it can be pulsed and held at a temperature.
    """

    strains: str
    finds: str
    misses: str
    usual_s: float
    ends_itself: bool = False
    heat: float = 0.05
    shaped: bool = False
    row: PartKind
    working_sets: tuple[WorkingSet, ...] = (WorkingSet.MAIN_MEMORY,)
    precisions: tuple[Precision, ...] = (Precision.DOUBLE,)
    short_beat: ClassVar[bool] = False
    pairs_workers: ClassVar[bool] = False
    walks_memory: ClassVar[bool] = False

    @property
    @abstractmethod
    def name(self) -> str:
        """The name that a run sheet uses."""


@dataclass(frozen=True, slots=True, kw_only=True)
class DeviceLoad(SteadyLoad):
    """One use of a kind of device."""

    use: StrEnum

    @property
    def name(self) -> str:
        """The name that a run sheet uses."""
        return self.use.value
