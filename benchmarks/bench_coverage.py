"""How often the bench's 95 % intervals hold the truth, in simulation: epochs, blocks and runs each have an effect of
their own.

python benchmarks/bench_coverage.py [TRIES]
"""

import sys

import numpy as np

from zygal.statistics.quantiles import median_of, ratio_of

BLOCKS, RUNS = 6, 10
EPOCH, BLOCK, RUN = 0.03, 0.02, 0.01
"""Standard deviations on the logarithmic scale."""


def main(tries: int = 3000) -> None:
    print("epochs   median   ratio")
    for epochs in (3, 6, 7, 9, 16):
        chance, held = np.random.default_rng(epochs), np.zeros(2)
        marks = [epoch for epoch in range(epochs) for _ in range(BLOCKS)]

        def moods(chance=chance, epochs=epochs):
            return np.repeat(chance.normal(0, EPOCH, epochs), BLOCKS) + chance.normal(0, BLOCK, epochs * BLOCKS)

        for _ in range(tries):
            median = median_of(list(np.exp(moods()[:, None] + chance.normal(0, RUN, (epochs * BLOCKS, RUNS)))), marks)
            ratio = ratio_of(np.exp(moods()), np.exp(moods()), marks)
            held += [median.low <= 1 <= median.high, ratio.low <= 1 <= ratio.high]
        print(f"{epochs:6}   {100 * held[0] / tries:4.1f} %   {100 * held[1] / tries:4.1f} %")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 3000)
