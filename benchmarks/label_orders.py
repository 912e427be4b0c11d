"""How many wrong label orders `tally` finds, on classifiers of handwritten digits that are 70 % to 99 % right.

python benchmarks/label_orders.py [SEED]
"""

import sys

import numpy as np
from sklearn.datasets import load_digits
from sklearn.linear_model import LogisticRegression
from sklearn.model_selection import train_test_split

from zygal.tally.exchange import exchanged_labels

NAMES = tuple(f"digit {index}" for index in range(10))


def confusion_at(noise: float, rng: np.random.Generator) -> np.ndarray:
    """Counts [true class, predicted class] of a linear classifier on 899 images with that much noise in grey levels of
    16."""
    images, truth = load_digits(return_X_y=True)
    images = (images + rng.normal(0, noise, images.shape)) / 16
    seen, unseen, labels, true = train_test_split(images, truth, test_size=0.5, random_state=0, stratify=truth)
    predicted = LogisticRegression(max_iter=1000).fit(seen, labels).predict(unseen)
    counts = np.zeros((10, 10), np.int64)
    np.add.at(counts, (true, predicted), 1)
    return counts


def orders(rng: np.random.Generator):
    """Wrong orders of ten classes: for each class, the name that its output wrongly has."""
    for _ in range(10):
        order, pair = np.arange(10), rng.choice(10, 2, replace=False)
        order[pair] = order[pair[::-1]]
        yield "two exchanged", order
    for offset in (1, 2, 3, 5, -1):
        yield f"shifted by {offset:+d}", (np.arange(10) + offset) % 10
    for _ in range(10):
        order, some = np.arange(10), rng.choice(10, int(rng.integers(3, 7)), replace=False)
        order[some] = np.roll(some, 1)
        yield f"{len(some)} permuted", order
    yield "nine rotated", np.array([0, *np.roll(np.arange(1, 10), 1)])
    spelt = ["zero", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine"]
    yield "sorted by name", np.array(sorted(range(10), key=spelt.__getitem__))
    yield "reversed", np.arange(9, -1, -1)
    for _ in range(2):
        yield "random", rng.permutation(10)


def main() -> None:
    rng = np.random.default_rng(int(sys.argv[1]) if len(sys.argv) > 1 else 0)
    models = [confusion_at(noise, rng) for noise in np.linspace(0, 7, 30)]
    found = right = alleged = 0
    for counts, (kind, order) in zip(models, orders(rng), strict=True):
        renamed = np.zeros_like(counts)
        renamed[:, order] = counts
        result = exchanged_labels(renamed, NAMES)
        wanted = {NAMES[i]: NAMES[order[i]] for i in range(10) if order[i] != i}
        found += result is not None
        right += result is not None and result.predicted_as == wanted
        alleged += exchanged_labels(counts, NAMES) is not None
        print(f"{np.trace(counts) / counts.sum():6.1%} right, {kind:16} {'found' if result else 'not found'}")
    print(f"wrong orders found: {found} of 30, named exactly: {right}; alleged in right orders: {alleged} of 30")


if __name__ == "__main__":
    main()
