"""Loads named on the command line, without a run sheet."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TypeVar

from thresher.cli.output import say, say_json
from thresher.compose.details import shape_of
from thresher.compose.entry import EntryError, length_text, parse_amount, parse_cores, parse_hold, parse_length
from thresher.compose.ready_made import Pick, Wish, block_of, in_turn, own_sheet
from thresher.compose.sheet_faults import sheet_faults
from thresher.compose.sheet_words import parse_limits
from thresher.loads.registry import WORK_LOADS
from thresher.model.errors import InputError, InputFault
from thresher.model.sheet import AfterCrash, Block, CrashPlan, RunSheet, Shape, SheetLimits

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class LoadWish:
    """What was typed: the loads, and the texts of the options; an empty text is the usual."""

    loads: tuple[str, ...]
    cores: str = ""
    length: str = "10m"
    amount: str = ""
    hold: str = ""
    shape: str = ""
    stop_at: str = ""
    after_another: bool = False


def print_loads(json: bool) -> None:
    """Print every load with the part it loads, what it strains, finds and misses."""
    if json:
        say_json(
            [
                {
                    "load": load.name,
                    "part": load.row,
                    "strains": load.strains,
                    "finds": load.finds,
                    "misses": load.misses,
                    "data": load.working_sets,
                }
                for load in WORK_LOADS.values()
            ]
        )
        return
    for load in WORK_LOADS.values():
        say(f"{load.name} ({load.row.value})")
        for word, text in (("strains", load.strains), ("finds", load.finds), ("misses", load.misses)):
            if text:
                say(f"    {word:8} {text}")


def sheet_of_loads(wish: LoadWish, sheet: str = "") -> RunSheet:
    """Return the run sheet of loads named on the command line. Raises InputError with everything wrong in it."""
    faults: list[InputFault] = []
    if sheet:
        faults.append(InputFault("--load", f"leave out the sheet {sheet!r}, or the loads"))

    def read(option: str, parse: Callable[[str], T], text: str, usual: T) -> T:
        if not text:
            return usual
        try:
            return parse(text)
        except EntryError as error:
            faults.append(InputFault(option, str(error)))
            return usual

    unknown = [name for name in wish.loads if name not in WORK_LOADS]
    faults += [
        InputFault("--load", f"there is no load {name!r}; known are {', '.join(WORK_LOADS)}") for name in unknown
    ]
    no_cores: tuple[int, ...] = ()
    all_free: tuple[float, int | None] = (1.0, None)
    cores = read("--cores", parse_cores, wish.cores, no_cores)
    share, amount = read("--amount", parse_amount, wish.amount, all_free)
    seconds = read("--for", parse_length, wish.length, 600.0)
    shape = read("--shape", shape_of, wish.shape, Shape())
    limits = read("--stop-at", parse_limits, wish.stop_at, SheetLimits())
    common = Wish(seconds, "", None, shape, read("--hold", parse_hold, wish.hold, None), share, amount)
    if faults:
        raise InputError("run", faults)
    made = (block_of(WORK_LOADS[name].row, replace(common, load=name), 0.0, Pick((), cores)) for name in wish.loads)
    blocks = tuple(block for block in made if isinstance(block, Block))
    items = in_turn(blocks) if wish.after_another else blocks
    title = f"{' and '.join(wish.loads)}, {length_text(seconds)}"
    found = replace(own_sheet(title, items), limits=limits)
    wrong = sheet_faults(found)
    if wrong:
        hint = "; use --after-another for one after the other" if len(blocks) > 1 and not wish.after_another else ""
        raise InputError("run", [InputFault(each.place(found), f"{each.message}{hint}") for each in wrong])
    return found


_AFTER_CRASH = {"wait": AfterCrash.WAIT, "go-on": AfterCrash.GO_ON, "find-the-part": AfterCrash.ISOLATE}


def crash_plan(after: str, most: int, watchdog: bool, of_sheet: CrashPlan) -> CrashPlan:
    """Return what happens after a sudden end, as typed; what was not typed is the sheet's. Raises InputError."""
    if after and after not in _AFTER_CRASH:
        known = ", ".join(_AFTER_CRASH)
        raise InputError("--after-crash", [InputFault("after-crash", f"expected {known}; found {after!r}")])
    then = _AFTER_CRASH[after] if after else of_sheet.then
    return replace(of_sheet, then=then, most=most if after else of_sheet.most, watchdog=watchdog or of_sheet.watchdog)
