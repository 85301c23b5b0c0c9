"""One process of the proving ground: a result a line, as JSON.

Arguments: seed, first, cases, step, policy, field, rules.
"""

import sys

import msgspec

from thresher.proving.ground import prove_some
from thresher.proving.policy_names import Field, Policy, RuleSet


def main() -> None:
    """Prove every n-th case and print the results."""
    seed, first, cases, step = (int(each) for each in sys.argv[1:5])
    policy, field, rules = Policy(sys.argv[5]), Field(sys.argv[6]), RuleSet(sys.argv[7])
    for result in prove_some(seed, range(first, cases, step), policy, field, rules):
        sys.stdout.buffer.write(msgspec.json.encode(result) + b"\n")
        sys.stdout.buffer.flush()


if __name__ == "__main__":
    main()
