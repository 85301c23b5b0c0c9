"""What can be done with a drive on a run sheet. The work is done by `thresher.drives`, not by a team of workers."""

from dataclasses import dataclass
from enum import StrEnum

from thresher.model.parts import PartKind
from thresher.model.sheet import Precision, WorkingSet


class DriveUse(StrEnum):
    """What is done."""

    READ_SAMPLE = "read sample"
    READ_ALL = "read all"
    SHORT_TEST = "short self-test"
    LONG_TEST = "long self-test"
    VERIFIED = "write and compare"


@dataclass(frozen=True, slots=True)
class DriveLoad:
    """One use of a drive as a load on the sheet.

    `hard` marks what a dying drive is spared. `ends_itself` says whether it ends when it is through; until then it goes
    on, however long the block is planned.
    """

    use: DriveUse
    strains: str
    finds: str
    misses: str
    usual_s: float
    hard: bool = True
    ends_itself: bool = True
    heat: float = 0.05
    row: PartKind = PartKind.DRIVE
    working_sets: tuple[WorkingSet, ...] = (WorkingSet.MAIN_MEMORY,)
    precisions: tuple[Precision, ...] = (Precision.DOUBLE,)
    short_beat: bool = False
    pairs_workers: bool = False
    walks_memory: bool = False
    shaped: bool = False

    @property
    def name(self) -> str:
        """The name that a run sheet uses."""
        return self.use.value


_ALL = (
    DriveLoad(
        DriveUse.READ_SAMPLE,
        "the drive's medium and its link by some hundred reads over the whole drive",
        "places that are slow or cannot be read, where there are many, and a bad link",
        "single bad sectors between the samples, and everything that shows while writing only",
        180.0,
        hard=False,
    ),
    DriveLoad(
        DriveUse.READ_ALL,
        "the drive's medium and its link by reading all of it, past every cache",
        "every sector that cannot be read, slow regions, drives that drop out",
        "faults that show while writing only, and data that is wrong but readable",
        3 * 3600.0,
    ),
    DriveLoad(
        DriveUse.SHORT_TEST,
        "the drive's electronics and a part of its medium, by the drive's own test",
        "what the drive itself knows to be broken",
        "most of the medium, the cable and the port",
        120.0,
        hard=False,
    ),
    DriveLoad(
        DriveUse.LONG_TEST,
        "the drive's electronics and its whole medium, by the drive's own test",
        "what the drive itself knows to be broken, with the first bad sector",
        "the cable and the port: nothing leaves the drive meanwhile",
        2 * 3600.0,
    ),
    DriveLoad(
        DriveUse.VERIFIED,
        "the drive, its link and its supply by a scratch file that is written, read back and compared",
        "data that comes back changed, lost writes, stalls, drives that slow down or drop out when warm",
        "the medium outside the scratch file",
        600.0,
        ends_itself=False,
        heat=0.15,
    ),
)

DRIVE_LOADS: dict[str, DriveLoad] = {each.name: each for each in _ALL}
