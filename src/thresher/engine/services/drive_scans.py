"""Read scans of single drives from the bench, beside any run: started, followed once a tick, stopped."""

from thresher.drives.reading import size_of
from thresher.drives.scan import ScanForm
from thresher.drives.scan_worker import Order
from thresher.engine.drive_jobs.access import DriveAccess
from thresher.engine.drive_jobs.scanning import ScanJob
from thresher.model.errors import EnvironmentFault, InputError, InputFault
from thresher.protocol.status import ScanStatus

_MIB = 1 << 20


class ScanService:
    """One scan at a time."""

    def __init__(self, access: DriveAccess) -> None:
        """Begin with none."""
        self._access = access
        self._job: ScanJob | None = None

    @property
    def status(self) -> ScanStatus | None:
        """The scan that windows show, of a run or of this service."""
        return self._access.board.status

    @property
    def running(self) -> bool:
        """Whether a scan of this service is on its way."""
        return self._job is not None and not self._job.over

    def start(self, name: str, quick: bool, go_on: bool, anyway: bool, region: tuple[int, int] = (0, 0)) -> ScanStatus:
        """Begin to read a drive, or a region of it in bytes.

        Raises InputError for an unknown drive or region, EnvironmentFault where it must not be read.
        """
        access = self._access
        drive = access.drive(name)
        if drive is None:
            raise InputError("scan", [InputFault("drive", f"this machine has no drive {name!r}")])
        if self.running:
            raise EnvironmentFault(f"scanning {name}", "a scan is in progress", "Stop it first, or wait for its end.")
        why = access.why_dying(name)
        if why and not anyway:
            remedy = "Copy the data off first: a long scan may be the end of it."
            raise EnvironmentFault(f"scanning {name}", why, remedy)
        order = Order(ScanForm.THOROUGH)
        begin, end = region
        if end:
            size = size_of(access.system, drive)
            if not 0 <= begin < end or begin >= size:
                words = f"expected a begin before its end, within {size / 1e9:.1f} GB, found {region}"
                raise InputError("scan", [InputFault("region", words)])
            order = Order(ScanForm.RANGE, begin // _MIB * _MIB, -(-end // _MIB) * _MIB)
        elif quick:
            order = Order(ScanForm.QUICK, again=access.places_to_try(drive))
        if go_on:
            kept = access.kept(drive)
            if kept is None or kept.state is None:
                raise EnvironmentFault(f"scanning {name}", "no scan of this drive was stopped", "Start one.")
            order = Order(state=kept.state)
        job = ScanJob(access, drive, order)
        job.begin()
        self._job = job
        how = f"from {begin / 1e9:.1f} to {end / 1e9:.1f} GB" if end else "a sample of it" if quick else "all of it"
        access.note(f"Read scan of {name} begins", f"{how}; nothing is written")
        return job.status

    def stop(self) -> None:
        """Stop the scan; where it was is kept."""
        if self._job is not None:
            self._job.stop()

    def close(self) -> None:
        """End the scan because the engine closes."""
        self.stop()

    def follow(self) -> None:
        """Bring in the newest report."""
        if self._job is not None and not self._job.over:
            self._job.follow(self._access.system.now())
