"""Blocks of graphics cards: raster, compute, card memory and transfer."""

from dataclasses import dataclass
from pathlib import Path

from thresher.engine.card_jobs.access import CardAccess
from thresher.engine.card_jobs.working import CardJob
from thresher.engine.run.context import RunContext
from thresher.engine.run.device_step import DeviceJob, DeviceStep
from thresher.engine.run.run import Run
from thresher.graphics.cards import Card
from thresher.graphics.order import CardOrder
from thresher.loads.graphics_loads import GRAPHICS_LOADS, GraphicsLoad
from thresher.loads.status import CardStatus, LoadedCard, LoadStatus
from thresher.model.card_port import CardUse
from thresher.model.findings import Severity
from thresher.model.run_states import StepState
from thresher.model.sheet import Block, SheetItem


@dataclass(slots=True)
class CardStep(DeviceStep):
    """A block of graphics cards on its way."""

    load: GraphicsLoad

    @classmethod
    def of(cls, index: int, item: SheetItem) -> "CardStep":
        """Return the step of a block."""
        assert isinstance(item, Block)
        return cls(index, item, GRAPHICS_LOADS[item.load], item.start_s, item.start_s + item.length_s)

    def make_jobs(self, run: Run, context: RunContext) -> list[DeviceJob]:
        """Return a job for every card of the block."""
        access = context.cards
        frames = access.frame_folder() if self.load.use is CardUse.RASTER else None
        return [
            CardJob(access, card, self._order(card, frames, run.number), self.block.hold_c, context.interval_s)
            for card in self._cards(access)
        ]

    def _cards(self, access: CardAccess) -> list[Card]:
        wanted, there = self.block.cards, access.cards()
        for name in [each for each in wanted if each not in {card.name for card in there}]:
            title = f"{self.load.name.capitalize()} of {name} left out"
            access.note(title, "the card is not there", Severity.WARNING)
        return [card for card in there if not wanted or card.name in wanted]

    def _order(self, card: Card, frames: Path | None, run: int) -> CardOrder:
        name = card.name.replace(" ", "-")
        return CardOrder(
            self.load.use,
            card.pci,
            self.block.amount or 0,
            folder=str(frames / f"run-{run}-{name}") if frames is not None else "",
            mirror=str(frames / f"{name}.mirror") if frames is not None else "",
            shape=self.block.shape,
        )

    def promise(self) -> str:
        """Return what a person wants to know when it begins."""
        return "every result is compared"

    def warmth(self, context: RunContext) -> float | None:
        """Return the temperature of the hottest card of the block."""
        warm = [job.temperature() for job in self.card_jobs]
        return max((each for each in warm if each is not None), default=None)

    @property
    def card_jobs(self) -> list[CardJob]:
        """The work of this block."""
        return [job for job in self.jobs if isinstance(job, CardJob)]

    def load_status(self) -> LoadStatus | None:
        """Return how each card does."""
        if self.state is not StepState.RUNNING or not self.jobs:
            return None
        return CardStatus(
            self.load.name,
            tuple(
                LoadedCard(
                    job.place,
                    job.status(),
                    job.software,
                    job.frames.middle_ms if job.frames is not None else None,
                    job.frames.longest_ms if job.frames is not None else None,
                    job.frames.recent_ms if job.frames is not None else (),
                    job.order.mirror if not job.over else "",
                )
                for job in self.card_jobs
            ),
        )


def jobs_on(run: Run, card: str) -> list[CardJob]:
    """Return the loads of a card that run now."""
    steps = [step for step in run.running() if isinstance(step, CardStep)]
    return [job for step in steps for job in step.card_jobs if job.place == card and not job.over]
