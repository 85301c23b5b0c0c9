"""The price: what was done and fitted, from the shop's price list, with and without tax; before a repair as a quote."""

import csv
import io
from dataclasses import dataclass

from thresher.diagnosis.decision import Prices, load_prices
from thresher.model.parts import PartKind
from thresher.model.trials import Book, Configuration, Trial
from thresher.model.verdict import Course, Verdict
from thresher.report.table import guarded
from thresher.shop.details import ShopDetails

_TREATMENTS = (("clean", "Cleaning"), ("reseat", "Reseating"))


@dataclass(frozen=True, slots=True)
class BillLine:
    """One line: what, how many of which unit, the price of one without tax in the shop's money."""

    what: str
    count: float
    unit: str
    each: float

    @property
    def net(self) -> float:
        """The price of the line without tax, to the cent."""
        return round(self.count * self.each + 1e-9, 2)


@dataclass(frozen=True, slots=True)
class Bill:
    """All lines, and how they are taxed. `quote` before a repair; `default_prices` when the shop has set none."""

    lines: tuple[BillLine, ...]
    currency: str
    tax_percent: float
    quote: bool
    default_prices: bool

    @property
    def net(self) -> float:
        """All lines without tax."""
        return round(sum(line.net for line in self.lines), 2)

    @property
    def tax(self) -> float:
        """The tax on them, to the cent."""
        return round(self.net * self.tax_percent / 100.0 + 1e-9, 2)

    @property
    def total(self) -> float:
        """What is to be paid."""
        return round(self.net + self.tax, 2)

    def money(self, amount: float) -> str:
        """Return an amount as it is printed."""
        return f"{self.currency} {amount:,.2f}"


def bill_of(book: Book, verdict: Verdict, details: ShopDetails, prices: Prices | None = None) -> Bill:
    """Return the bill of a job: of what was kept of its trials, or a quote of what is advised where nothing was.

    Parts of the shop that stay in the machine are charged by the price list, bench time by what each act takes.
    """
    listed = prices or load_prices()
    repairs = [trial for trial in book.trials[1:] if trial.kept]
    lines = _of_repairs(repairs, book, listed) if repairs else _quoted(verdict, listed)
    return Bill(lines, details.currency, details.tax_percent, not repairs, listed.default)


def _time(what: str, minutes: float, prices: Prices) -> BillLine:
    return BillLine(what, round(minutes / 60.0, 2), "h", prices.per_hour)


def _of_repairs(repairs: list[Trial], book: Book, prices: Prices) -> tuple[BillLine, ...]:
    lines: list[BillLine] = []
    before = book.trials[0].configuration
    for trial in repairs:
        step = _of_step(before, trial.configuration, book, prices)
        # what changed nothing in the book, such as fresh paste, still took bench time
        lines += step or [_time(trial.title, prices.minutes.get("clean", 15.0), prices)]
        before = trial.configuration
    return tuple(lines)


def _of_step(before: Configuration, after: Configuration, book: Book, prices: Prices) -> list[BillLine]:
    lines = []
    for tag in after.tags:
        if tag in before.tags:
            continue
        part = book.part(tag)
        kind = part.kind if part is not None else PartKind.BOARD
        name = part.name if part is not None and part.name else kind.word
        if prices.parts.get(kind):
            lines.append(BillLine(f"{name} ({tag})", 1, "piece", prices.parts[kind]))
        lines.append(_time(f"Fitting: {kind.word}", prices.minutes.get(f"replace {kind.value}", 30.0), prices))
    for tag in after.treated:
        if tag in before.treated:
            continue
        part = book.part(tag)
        kind_word = part.kind.value if part is not None else tag
        heat = kind_word in (PartKind.COOLING.value, PartKind.GRAPHICS.value)
        act, words = _TREATMENTS[0] if heat else _TREATMENTS[1]
        lines.append(_time(f"{words}: {kind_word}", prices.minutes.get(act, 15.0), prices))
    if set(after.stock) - set(before.stock):
        lines.append(_time("Settings back to stock", prices.minutes.get("back to stock", 8.0), prices))
    return lines


def _quoted(verdict: Verdict, prices: Prices) -> tuple[BillLine, ...]:
    advice = verdict.advice
    if advice is None or advice.course is not Course.ACT or advice.act is None:
        return ()
    act = advice.act
    lines = []
    if act.price:
        lines.append(BillLine(f"Parts: {act.words}", 1, "piece", act.price))
    lines.append(_time(f"Bench time: {act.words}", act.minutes, prices))
    return tuple(lines)


def bill_csv(bill: Bill) -> str:
    """Return a bill as CSV: a line each, then net, tax and total; amounts with a point and two digits."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["what", "count", "unit", f"each [{bill.currency}]", f"net [{bill.currency}]"])
    for line in bill.lines:
        writer.writerow([guarded(line.what), f"{line.count:g}", line.unit, f"{line.each:.2f}", f"{line.net:.2f}"])
    writer.writerow(["net", "", "", "", f"{bill.net:.2f}"])
    writer.writerow([f"tax {bill.tax_percent:g} %", "", "", "", f"{bill.tax:.2f}"])
    writer.writerow(["total", "", "", "", f"{bill.total:.2f}"])
    return out.getvalue()
