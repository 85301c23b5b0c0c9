"""Which drawn cases come to a bench: those whose owner has noticed that something is wrong."""

from dataclasses import replace
from itertools import count

from thresher.decoding.recognise import Tables
from thresher.model.findings import FindingKind
from thresher.proving.cases import Case, Trouble, draw_case, scenario_under
from thresher.proving.fault_catalogue import OF_CHECKS
from thresher.proving.policy_names import RuleSet
from thresher.proving.quick_run import QuickBench, Stint
from thresher.simulator.fault_kinds import FaultKind

_OWNER_LOADS = (
    Stint("matrix", 40.0),
    Stint("memory", 40.0),
    Stint("branchy", 20.0),
    Stint("relay", 20.0),
    Stint("raster", 60.0),
    Stint("card compute", 20.0),
    Stint("card memory", 20.0),
)
"""Two hours of hard work, with a card as many of play: what a machine's owner puts it through in some days of use."""
_OWNER_HOURS = 30.0
_OFTEN = 2
_ENDINGS = (FindingKind.ENDED_SUDDENLY, FindingKind.CORE_HANG, FindingKind.CARD_GONE)


def draw_noticed_case(
    seed: int, number: int, tables: Tables, only: tuple[FaultKind, ...] = (), rule_set: RuleSet = RuleSet.OWN
) -> Case:
    """Draw a case whose every trouble shows within what its owner does with it; others would not be brought in."""
    drawn = (draw_case(seed, number, attempt, only, rule_set) for attempt in count())
    return next(case for case in drawn if all(shows(case, trouble, tables) for trouble in case.own_troubles))


def shows(case: Case, trouble: Trouble, tables: Tables) -> bool:
    """Return whether one trouble by itself shows within what the owner does.

    That is more than once, in the drives' own figures, or by an end of the machine.
    """
    if trouble.fault.kind in OF_CHECKS:
        return True  # a key, a port or a battery that fails is noticed at once
    alone = replace(case, troubles=(trouble,), misleads=())
    scenario = scenario_under(alone, case.first_configuration, 999_999)
    if QuickBench(scenario, tables, None).read_health():
        return True
    worked = QuickBench(scenario, tables, 1).carry_out(_OWNER_LOADS, _OFTEN).findings
    if len(worked) >= _OFTEN or any(each.kind in _ENDINGS for each in worked):
        return True
    used = QuickBench(scenario, tables, None).live_everyday(_OWNER_HOURS).findings
    return sum(each.count for each in (*worked, *used)) >= _OFTEN
