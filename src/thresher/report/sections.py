"""What goes into a report and for whom: sections, readers, and what each reader gets if nothing else is chosen."""

from dataclasses import dataclass, field
from enum import StrEnum

from thresher.shop.details import Paper


class Reader(StrEnum):
    """Whom a report is for."""

    CUSTOMER = "customer"
    SHOP = "shop"
    SUPPLIER = "supplier"


class Section(StrEnum):
    """The sections of a report, in the order in which they are printed."""

    WRONG = "What was wrong"
    DONE = "What we did"
    PROOF = "Proof"
    WATCH = "What to watch"
    PRICE = "Price"
    WARRANTY = "Proof for a claim"
    REASONS = "Suspects and reasons"
    RUNS = "Runs and lanes"
    FINDINGS = "Findings, decoded"
    MACHINE = "Machine and parts"
    LEFT_OPEN = "Not read, not tested"
    CODES = "Fault codes"


_CUSTOMER = (Section.WRONG, Section.DONE, Section.PROOF, Section.WATCH, Section.PRICE)

USUAL: dict[Reader, tuple[Section, ...]] = {
    Reader.CUSTOMER: _CUSTOMER,
    Reader.SHOP: tuple(Section),
    Reader.SUPPLIER: tuple(
        each for each in Section if each not in (*_CUSTOMER, Section.CODES) or each is Section.PROOF
    ),
}
"""What each reader gets if nothing else is chosen."""


@dataclass(frozen=True, slots=True)
class Choice:
    """What goes into a report. `serials` shows serial numbers and addresses, which are masked otherwise."""

    reader: Reader = Reader.SHOP
    sections: tuple[Section, ...] = field(default=USUAL[Reader.SHOP])
    serials: bool = True
    paper: Paper = Paper.A4

    def has(self, section: Section) -> bool:
        """Whether a section goes in."""
        return section in self.sections


def usual_choice(reader: Reader, paper: Paper = Paper.A4) -> Choice:
    """Return what a reader gets if nothing else is chosen; a customer gets no serial numbers."""
    return Choice(reader, USUAL[reader], reader is not Reader.CUSTOMER, paper)
