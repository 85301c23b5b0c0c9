"""Component checks on a machine of the proving ground: what they ask for is done at once, on its own clock."""

from collections.abc import Callable
from dataclasses import dataclass

from thresher.checks.check import Ask, Beside, Check, LoadSeen, Pause, Progress, Reading, UnderLoad
from thresher.engine.run.stand_in import stand_in_answer
from thresher.model.channels import Channel
from thresher.model.checks import CheckResult
from thresher.model.errors import ThresherError
from thresher.model.parts import Inventory
from thresher.model.port import Stress
from thresher.simulator.machine import SimulatedMachine

_STEP_S = 1.0
_FULL = Stress(busy=1.0)


@dataclass(slots=True)
class CheckWork:
    """Answers a check; `sample` returns the newest reading, which `machine` has lived up to."""

    machine: SimulatedMachine
    parts: Inventory
    all_channels: tuple[Channel, ...]
    sample: Callable[[], Reading]
    last: Reading | None = None

    @property
    def system(self) -> SimulatedMachine:
        """The machine."""
        return self.machine

    @property
    def inventory(self) -> Inventory:
        """Its parts."""
        return self.parts

    @property
    def channels(self) -> tuple[Channel, ...]:
        """Its channels."""
        return self.all_channels

    @property
    def reading(self) -> Reading | None:
        """The newest tick."""
        return self.last

    @property
    def attended(self) -> bool:
        """Whether a person is there."""
        return self.machine.has_person

    def now(self) -> float:
        """Machine time in seconds."""
        return self.machine.now()

    def carry_out(self, check: Check) -> tuple[CheckResult, ...]:
        """Carry a check out to its end; what it cannot read makes it inconclusive, as on the bench."""
        steps = check.run(self)
        reply: object = None
        raised: BaseException | None = None
        self.last = self.sample()
        while True:
            try:
                request = steps.throw(raised) if raised is not None else steps.send(reply)
            except StopIteration as done:
                results: tuple[CheckResult, ...] = done.value
                return results
            except ThresherError as error:
                return (check.unclear(str(error)),)
            reply, raised = None, None
            match request:
                case Progress():
                    continue
                case Pause(seconds):
                    self._live(seconds)
                case Beside(work=work):
                    try:
                        reply = work()
                    except ThresherError as error:
                        raised = error
                case UnderLoad():
                    reply = self._loaded(request)
                case Ask(question):
                    reply = stand_in_answer(self.machine, question)

    def _live(self, seconds: float) -> None:
        self.machine.live_until(self.now() + max(_STEP_S, seconds))
        self.last = self.sample()

    def _loaded(self, request: UnderLoad) -> LoadSeen:
        """Let all CPUs work for the block's length, with what is to be done meanwhile once a second."""
        cpus = [each.cpu for each in self.parts.cpus]
        self.machine.work.set_stress(dict.fromkeys(cpus, _FULL))
        readings, samples = [], []
        until = self.now() + request.block.length_s
        while self.now() < until:
            self._live(_STEP_S)
            assert self.last is not None
            readings.append(self.last)
            if request.meanwhile is not None:
                samples.append(request.meanwhile())
        self.machine.work.set_stress({})
        seconds = request.block.length_s
        return LoadSeen((), tuple(readings), seconds, {}, samples=tuple(samples))
