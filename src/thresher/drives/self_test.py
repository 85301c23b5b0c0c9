"""The drive's own self-tests: started, followed, aborted. They read only; the drive goes on serving meanwhile."""

from dataclasses import dataclass

from thresher.drives import ata, nvme
from thresher.drives.reading import Family
from thresher.model.drive_commands import AtaCommand, DrivePort, NvmeCommand
from thresher.model.errors import EnvironmentFault

_START: dict[tuple[Family, bool], AtaCommand | NvmeCommand] = {
    (Family.ATA, False): AtaCommand.SELF_TEST_SHORT,
    (Family.ATA, True): AtaCommand.SELF_TEST_EXTENDED,
    (Family.NVME, False): NvmeCommand.SELF_TEST_SHORT,
    (Family.NVME, True): NvmeCommand.SELF_TEST_EXTENDED,
}
_SHORT_NVME_MINUTES = 2
_ABORT: dict[Family, AtaCommand | NvmeCommand] = {
    Family.ATA: AtaCommand.SELF_TEST_ABORT,
    Family.NVME: NvmeCommand.SELF_TEST_ABORT,
}


@dataclass(frozen=True, slots=True)
class Progress:
    """Where a self-test is: whether it runs, how much of it is done in per cent, and how it ended (empty: not yet)."""

    running: bool
    done: int
    ending: str = ""
    failed: bool = False
    lba: int | None = None


def _send(port: DrivePort, command: AtaCommand | NvmeCommand) -> None:
    if isinstance(command, AtaCommand):
        port.ata(command)
    else:
        port.nvme(command)


def minutes(port: DrivePort, family: Family, extended: bool) -> int:
    """Return how long the drive says a self-test takes. Raises SourceUnavailable, DamagedPage."""
    if family is Family.ATA:
        data = ata.parse_smart(port.ata(AtaCommand.SMART_DATA).data)
        return data.extended_minutes if extended else data.short_minutes
    controller = nvme.parse_controller(port.nvme(NvmeCommand.IDENTIFY_CONTROLLER))
    return controller.extended_minutes if extended else _SHORT_NVME_MINUTES


def start(port: DrivePort, family: Family, extended: bool) -> None:
    """Start a self-test. Raises EnvironmentFault where one runs already, SourceUnavailable where it is refused."""
    if family is Family.NVME:
        controller = nvme.parse_controller(port.nvme(NvmeCommand.IDENTIFY_CONTROLLER))
        if not controller.self_tests:
            raise EnvironmentFault("starting a self-test", "this drive has none", "Read it through with a scan.")
    if progress(port, family).running:
        raise EnvironmentFault("starting a self-test", "the drive tests itself already", "Wait for its end.")
    _send(port, _START[family, extended])


def abort(port: DrivePort, family: Family) -> None:
    """Abort the self-test that runs. Only for one that this program started."""
    _send(port, _ABORT[family])


def progress(port: DrivePort, family: Family) -> Progress:
    """Return where the self-test is, or how the last one ended. Raises SourceUnavailable, DamagedPage."""
    if family is Family.NVME:
        log = nvme.parse_self_tests(port.nvme(NvmeCommand.SELF_TEST_LOG))
        if log.running is not None:
            return Progress(True, log.done)
        last = log.tests[0] if log.tests else None
        if last is None:
            return Progress(False, 0)
        return Progress(False, 100, last.result.value, last.result is nvme.SelfTestResult.FAILED, last.lba)
    data = ata.parse_smart(port.ata(AtaCommand.SMART_DATA).data)
    state = ata.self_test_state(data.test_state)
    if state is ata.SelfTestState.RUNNING:
        return Progress(True, 100 - data.test_left)
    tests = ata.parse_self_tests(port.ata(AtaCommand.SELF_TEST_LOG).data)
    lba = tests[0].lba if tests else None
    return Progress(False, 100, state.value, state.failed, lba)
