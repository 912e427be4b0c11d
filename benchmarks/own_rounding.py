"""A fault of the conversion or the model's own rounding: networks made ill-conditioned on purpose, and wrong
conversions made on purpose.

    python benchmarks/own_rounding.py [CASES]

Printed: how many of so many cases of each kind are judged wrongly, and how far the sides were from float64 in multiples
of the own rounding.
"""

import sys
import tempfile
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from test_own_rounding import FAULTS, judged  # noqa: E402

from zygal.evidence.rounding import BY_CONVERSION, BY_ROUNDING  # noqa: E402


def main(cases: str = "20") -> None:
    for name, wanted in (("ill-conditioned", BY_ROUNDING), ("wrong conversion", BY_CONVERSION)):
        found = []
        for seed in range(int(cases)):
            fault = None if wanted == BY_ROUNDING else FAULTS[seed % len(FAULTS)]
            with tempfile.TemporaryDirectory() as folder:
                found.append(judged(Path(folder), seed, 8 + seed % 8 if fault is None else seed % 8, fault))
        ratios = [each.framework / each.own for each in found]
        print(
            f"{name}: {sum(each.conclusion != wanted for each in found)} of {len(found)} judged wrongly; framework "
            f"from {min(ratios):.2g} to {max(ratios):.2g} times the own rounding (median {np.median(ratios):.2g})"
        )


if __name__ == "__main__":
    main(*sys.argv[1:])
