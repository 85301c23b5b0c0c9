"""What the Intake shows beside the machine: jobs, parts with tags, the shelf, idle readings, proposed run sheets."""

import msgspec

from thresher.model.channels import Baseline
from thresher.model.parts import PartInstance
from thresher.shop.store import ShopPart


class JobCard(msgspec.Struct, frozen=True):
    """A job as it stands on the strip. `touched` is Unix time; `model` names the scenario of a simulated one.

    `trouble` says why the file cannot be read; the other fields are then empty.
    """

    path: str
    number: str
    machine: str
    symptoms: tuple[str, ...]
    runs: int
    findings: int
    last_ending: str
    touched: float
    model: str = ""
    current: bool = False
    trouble: str = ""


class SheetOffer(msgspec.Struct, frozen=True):
    """A run sheet as it is proposed: why, what it can and cannot find; `own` is one that the shop keeps.

    `path` is the file, for whoever wants to change it; `trouble` says why a file of the shop cannot be used,
    `last_used` is the Unix time of the last start.
    """

    name: str
    title: str
    length_s: float
    about: str
    finds: str
    misses: str
    reasons: tuple[str, ...]
    fits: bool
    own: bool
    path: str
    trouble: str = ""
    last_used: float | None = None


class Intake(msgspec.Struct, frozen=True):
    """Everything that the Intake shows beside the machine itself.

    `baseline_left_s` is the time that idle readings still take, None when none are being taken. `last_visit` says when
    the machine was here before, empty when it never was or cannot be distinguished from others. `expected_trouble` is
    what was not understood of what should be there; half a word is kept and not understood until it is whole."""

    instances: tuple[PartInstance, ...] = ()
    shelf: tuple[ShopPart, ...] = ()
    baseline: Baseline | None = None
    baseline_left_s: float | None = None
    last_visit: str = ""
    news: tuple[str, ...] = ()
    offers: tuple[SheetOffer, ...] = ()
    expected_trouble: str = ""
