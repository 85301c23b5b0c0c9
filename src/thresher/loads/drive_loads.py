"""What can be done with a drive on a run sheet. The work is done by `thresher.drives`, not by a team of workers."""

from dataclasses import dataclass
from enum import StrEnum

from thresher.loads.device_load import DeviceLoad
from thresher.model.parts import PartKind


class DriveUse(StrEnum):
    """What is done."""

    READ_SAMPLE = "read sample"
    READ_ALL = "read all"
    SHORT_TEST = "short self-test"
    LONG_TEST = "long self-test"
    VERIFIED = "write and compare"


@dataclass(frozen=True, slots=True, kw_only=True)
class DriveLoad(DeviceLoad):
    """One use of a drive as a load on the sheet. `hard` marks what a dying drive is spared."""

    use: DriveUse
    hard: bool = True
    ends_itself: bool = True
    row: PartKind = PartKind.DRIVE


_ALL = (
    DriveLoad(
        use=DriveUse.READ_SAMPLE,
        strains="the drive's medium and its link by some hundred reads over the whole drive",
        finds="places that are slow or cannot be read, where there are many, and a bad link",
        misses="single bad sectors between the samples, and everything that shows while writing only",
        usual_s=180.0,
        hard=False,
    ),
    DriveLoad(
        use=DriveUse.READ_ALL,
        strains="the drive's medium and its link by reading all of it, past every cache",
        finds="every sector that cannot be read, slow regions, drives that drop out",
        misses="faults that show while writing only, and data that is wrong but readable",
        usual_s=3 * 3600.0,
    ),
    DriveLoad(
        use=DriveUse.SHORT_TEST,
        strains="the drive's electronics and a part of its medium, by the drive's own test",
        finds="what the drive itself knows to be broken",
        misses="most of the medium, the cable and the port",
        usual_s=120.0,
        hard=False,
    ),
    DriveLoad(
        use=DriveUse.LONG_TEST,
        strains="the drive's electronics and its whole medium, by the drive's own test",
        finds="what the drive itself knows to be broken, with the first bad sector",
        misses="the cable and the port: nothing leaves the drive meanwhile",
        usual_s=2 * 3600.0,
    ),
    DriveLoad(
        use=DriveUse.VERIFIED,
        strains="the drive, its link and its supply by a scratch file that is written, read back and compared",
        finds="data that comes back changed, lost writes, stalls, drives that slow down or drop out when warm",
        misses="the medium outside the scratch file",
        usual_s=600.0,
        ends_itself=False,
        heat=0.15,
    ),
)

DRIVE_LOADS: dict[str, DriveLoad] = {each.name: each for each in _ALL}
