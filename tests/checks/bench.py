"""A bench for checks without an engine: what they ask for is answered by hand."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

from thresher.checks.check import Ask, Beside, Check, Coverage, LoadSeen, Pause, Progress, Reading, UnderLoad
from thresher.model.channels import Channel
from thresher.model.checks import CheckResult
from thresher.model.errors import ThresherError
from thresher.model.parts import Inventory
from thresher.model.port import System
from thresher.model.questions import Answer, Question
from thresher.model.sheet import Block

EMPTY = Inventory("bench", False, (), ())


@dataclass
class HandBench:
    """Answers a check: readings by machine time, what loads show, what a person says."""

    system: System
    inventory: Inventory = EMPTY
    channels: tuple[Channel, ...] = ()
    values: Callable[[float], tuple[float | None, ...]] = lambda _at: ()
    loads: Callable[[Block], LoadSeen] = lambda _block: LoadSeen((), (), 10.0, {})
    answers: list[str | Answer | None] = field(default_factory=list)
    attended: bool = False
    at: float = 100.0
    asked: list[Question] = field(default_factory=list)
    blocks: list[Block] = field(default_factory=list)
    before_pause: Callable[[float], None] = lambda _at: None
    samples: int = 5
    until: Callable[[Coverage], bool] = lambda _coverage: False
    in_load: Callable[[bool], None] = lambda _working: None

    @property
    def reading(self) -> Reading:
        return Reading(self.at, self.values(self.at))

    def now(self) -> float:
        return self.at

    def run(self, check: Check) -> tuple[CheckResult, ...]:
        """Carry a check out to its end."""
        steps = check.run(self)
        reply: object = None
        error: BaseException | None = None
        while True:
            try:
                request = steps.throw(error) if error is not None else steps.send(reply)
            except StopIteration as done:
                results: tuple[CheckResult, ...] = done.value
                return results
            reply, error = None, None
            match request:
                case Progress():
                    assert 0 <= request.share <= 1
                case Pause(seconds):
                    self.before_pause(self.at)
                    self.at += seconds
                case Beside(work=work):
                    try:
                        reply = work()
                    except ThresherError as raised:
                        error = raised
                case UnderLoad(block, meanwhile, until):
                    self.blocks.append(block)
                    self.until = until
                    self.at += block.length_s
                    self.in_load(True)
                    samples = tuple(meanwhile() for _ in range(self.samples)) if meanwhile is not None else ()
                    self.in_load(False)
                    reply = replace(self.loads(block), samples=samples)
                case Ask(question):
                    self.asked.append(question)
                    word = self.answers.pop(0) if self.answers else None
                    reply = Answer(word) if isinstance(word, str) else word


def outcomes(results: Sequence[CheckResult]) -> list[str]:
    """Return how each ended."""
    return [each.outcome.value for each in results]
