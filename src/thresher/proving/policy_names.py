"""The ways to handle a job by name, apart from what they need, so that the command line loads nothing else."""

from enum import StrEnum


class Policy(StrEnum):
    """How each job is handled: by the program's advice, by two rules of thumb, or with every trial there is."""

    ADVISED = "advised"
    CHEAPEST_FIRST = "cheapest-first"
    FIXED_ORDER = "fixed-order"
    EVERY_TRIAL = "every-trial"


class RuleSet(StrEnum):
    """By which rules cases are drawn: the own ones, or wider ones that nothing is tuned on."""

    OWN = "own"
    WIDE = "wide"


class Field(StrEnum):
    """Which machines are drawn."""

    ALL = "all"
    DRIVES = "drives"
    CARDS = "cards"
    CHECKS = "checks"
    CRASHES = "crashes"
