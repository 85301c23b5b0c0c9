"""By which rules cases are drawn: the proving ground's own, and wider ones that nothing is tuned on.

The wide rules are written apart from the knowledge base and from the own rules, so that what was tuned on the one is
held against the other: faults fainter and stronger, that come in spells and grow; more machines with two; owners who
say the wrong thing or nothing; shop parts that are none; hot and cold rooms; coolers of any size; slots that are bad.
"""

from collections.abc import Mapping
from dataclasses import dataclass, field

from thresher.proving.policy_names import RuleSet
from thresher.simulator.fault_kinds import FaultKind


@dataclass(frozen=True, slots=True, kw_only=True)
class Rules:
    """How cases are drawn.

    The first four are shares of machines with one fault, with two, sound ones, and misleading ones. `shifted` is by how
    many decades the shares of faults are shifted by chance for each seed, `stretched` by how much the range of
    strengths is widened in its logarithm. `silent` owners say nothing of what is wrong, `mistaken` ones what fits
    another fault. `bad_shop` is the share of known-good parts that are none, `room_c` the range of the room's
    temperature, `rise_k` that of the heatsink above the air at full load (small coolers let it rise further). `spells`
    and `drifts` are the shares of the faults that come and go, and that grow or fade by up to `drift` decades an hour;
    `wander` is by how many decades a fault differs from run to run. `crashing_system` is the share of misleading
    machines whose installed system crashes. `kept_going` are the numbers of findings after which a run is ended, drawn
    for each case. `more_shares` are those of faults that the own rules do not have.
    """

    one: float
    two: float
    sound: float
    misleading: float
    shifted: float
    stretched: float = 1.0
    silent: float = 0.0
    mistaken: float = 0.0
    bad_shop: float = 0.01
    room_c: tuple[float, float] = (17.0, 28.0)
    rise_k: tuple[float, float] = (20.0, 38.0)
    spells: float = 0.0
    drifts: float = 0.0
    drift: float = 0.0
    wander: float = 0.0
    crashing_system: float = 0.0
    kept_going: tuple[int, ...] = (3,)
    more_shares: Mapping[FaultKind, float] = field(default_factory=dict)


_OWN = Rules(one=0.62, two=0.08, sound=0.20, misleading=0.10, shifted=0.12)
_WIDE = Rules(
    one=0.56,
    two=0.15,
    sound=0.16,
    misleading=0.13,
    shifted=0.3,
    stretched=1.5,
    silent=0.15,
    mistaken=0.15,
    bad_shop=0.05,
    room_c=(15.0, 38.0),
    rise_k=(14.0, 62.0),
    spells=0.25,
    drifts=0.25,
    drift=0.25,
    wander=0.15,
    crashing_system=0.3,
    kept_going=(1, 3, 12, 60),
    more_shares={FaultKind.BAD_SLOT: 5.0},
)
_NAMED = {RuleSet.OWN: _OWN, RuleSet.WIDE: _WIDE}


def rules_named(name: RuleSet) -> Rules:
    """Return the rules of a name."""
    return _NAMED[name]
