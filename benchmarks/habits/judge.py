"""Recovers each recorded pipeline and judges the inlet on photographs that the search has not seen.

    python benchmarks/habits/record.py FOLDER           (in environments with the libraries; each adds what it can)
    python benchmarks/habits/judge.py FOLDER [NAMES]    (in Zygal's environment)

A pipeline named reject_... is outside of what an inlet can say and must be refused. "Right" is within half a grey level
at 99.9 % of the values of every unseen photograph; "everywhere" at all of them.
"""

import sys
import time
from pathlib import Path

import numpy as np

from zygal.errors import ImageError
from zygal.inlet import apply_inlet
from zygal.inlet.recovery import recover_inlet


def unseen_difference(inlet, paths, tensors):
    """The largest difference and the largest 99.9 % quantile over photographs, in grey levels."""
    largest, nearly_all = 0.0, 0.0
    for path, wanted in zip(paths, tensors):
        try:
            made = apply_inlet(path, inlet)
        except ImageError:
            return np.inf, np.inf
        if made.tensor.shape != wanted.shape:
            return np.inf, np.inf
        level = np.abs(made.grey_level)
        level = level[:, None, None] if inlet.tensor.layout == "NCHW" else level
        differences = np.abs(made.tensor.astype(np.float64) - wanted) / level
        largest, nearly_all = (
            max(largest, float(differences.max())),
            max(nearly_all, float(np.quantile(differences, 0.999))),
        )
    return largest, nearly_all


def verdict_of(outside, found, nearly_all):
    if outside:
        return "ACCEPTED, though no inlet can say it" if found.explains else "refused"
    return "MISSED" if not found.explains else "right" if nearly_all <= 0.5 else "WRONG"


def main():
    folder, names = Path(sys.argv[1]), sys.argv[2:]
    seen, unseen = (sorted((folder / part).iterdir()) for part in ("seen", "unseen"))
    verdicts, seconds, everywhere = [], [], 0
    for path in sorted((folder / "recordings").glob("*.npz")):
        if names and not any(name in path.stem for name in names):
            continue
        recording = np.load(path)
        began = time.perf_counter()
        found = recover_inlet(seen, recording["seen"])
        seconds.append(time.perf_counter() - began)
        largest, nearly_all = unseen_difference(found.inlet, unseen, recording["unseen"])
        verdicts.append(verdict_of("reject" in path.stem, found, nearly_all))
        everywhere += verdicts[-1] == "right" and largest <= 0.5
        print(
            f"{path.stem:32} {seconds[-1]:5.1f} s  {verdicts[-1]}, unseen: {largest:.3g} at most, "
            f"{nearly_all:.3g} at 99.9 %",
            flush=True,
        )
    count = {
        word: sum(each.startswith(word) for each in verdicts)
        for word in ("right", "WRONG", "MISSED", "refused", "ACCEPTED")
    }
    print(
        f"{count['right']} of {count['right'] + count['WRONG'] + count['MISSED']} right on unseen photographs "
        f"({everywhere} everywhere; {count['WRONG']} accepted and wrong), {count['refused']} of "
        f"{count['refused'] + count['ACCEPTED']} others refused; {np.median(seconds):.1f} s in the median, "
        f"{max(seconds):.1f} s at most"
    )


if __name__ == "__main__":
    main()
