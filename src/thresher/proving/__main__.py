"""One process of the proving ground: a result a line, as JSON. Arguments: seed, first, cases, step, policy, field."""

import sys

import msgspec

from thresher.proving.ground import prove_some
from thresher.proving.policy_names import Field, Policy


def main() -> None:
    """Prove every n-th case and print the results."""
    seed, first, cases, step = (int(each) for each in sys.argv[1:5])
    for result in prove_some(seed, range(first, cases, step), Policy(sys.argv[5]), Field(sys.argv[6])):
        sys.stdout.buffer.write(msgspec.json.encode(result) + b"\n")
        sys.stdout.buffer.flush()


if __name__ == "__main__":
    main()
