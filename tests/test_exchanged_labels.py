"""Wrong label orders are found in counts of predictions, whatever else is confused, and none is alleged in right
ones."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from zygal.tally.exchange import exchanged_labels

RIGHT = st.floats(0.72, 0.99)


def model(rng, classes, right, worst=0.55):
    """Shares [true, predicted] of a model of about that accuracy; its errors go to few classes."""
    shares = np.zeros((classes, classes))
    for true in range(classes):
        recall = np.clip(rng.normal(right, 0.06), worst, 1)
        others = rng.dirichlet(np.full(classes - 1, 0.4))
        shares[true, np.arange(classes) != true] = (1 - recall) * others
        shares[true, true] = recall
    return shares


def counted(rng, shares, images, order=None):
    counts = np.array([rng.multinomial(images, row) for row in shares])
    if order is None:
        return counts
    renamed = np.zeros_like(counts)
    renamed[:, order] = counts
    return renamed


def names(classes):
    return tuple(f"c{index}" for index in range(classes))


@given(st.integers(0, 10**6), st.integers(3, 14), RIGHT, st.sampled_from((20, 40, 80)))
def test_right_orders_are_not_alleged(seed, classes, right, images):
    rng = np.random.default_rng(seed)
    assert exchanged_labels(counted(rng, model(rng, classes, right), images), names(classes)) is None


@given(st.integers(0, 10**6), st.integers(4, 14), st.floats(0.82, 0.99), st.data())
def test_any_wrong_order_is_named_class_by_class(seed, classes, right, data):
    rng = np.random.default_rng(seed)
    order = np.array(data.draw(st.permutations(range(classes))))
    found = exchanged_labels(counted(rng, model(rng, classes, right, 0.75), 60, order), names(classes))
    wanted = {f"c{index}": f"c{order[index]}" for index in range(classes) if order[index] != index}
    assert (found.predicted_as if found else {}) == wanted


def test_two_classes_of_a_good_model_and_a_rotation_of_nine():
    rng = np.random.default_rng(3)
    shares = model(rng, 10, 0.96)
    swap = np.array([0, 1, 5, 3, 4, 2, 6, 7, 8, 9])
    found = exchanged_labels(counted(rng, shares, 30, swap), names(10))
    assert found.predicted_as == {"c2": "c5", "c5": "c2"} and found.correct_if_exchanged > found.correct + 40
    rotation = np.array([0, *np.roll(np.arange(1, 10), 1)])
    found = exchanged_labels(counted(rng, shares, 30, rotation), names(10))
    assert len(found.predicted_as) == 9 and found.shift is None and found.p_value < 1e-6
    found = exchanged_labels(counted(rng, shares, 30, (np.arange(10) + 8) % 10), names(10))
    assert found.shift == -2 and len(found.predicted_as) == 10


@pytest.mark.parametrize("recall", [0.45, 0.52, 0.6])
def test_classes_that_are_hard_to_tell_apart_are_no_exchange(recall):
    counts = np.diag([90, 90, 90, 90])
    counts[:2, :2] = [
        [round(100 * recall), 100 - round(100 * recall)],
        [100 - round(100 * recall), round(100 * recall)],
    ]
    assert exchanged_labels(counts, names(4)) is None


def test_a_class_that_is_predicted_as_one_without_images_is_no_exchange_unless_it_nearly_always_is():
    counts = np.diag([50, 50, 20, 0])
    counts[2, 3] = 30
    assert exchanged_labels(counts, names(4)) is None
    counts[2, 2:] = [1, 49]
    assert exchanged_labels(counts, names(4)).predicted_as == {"c2": "c3"}


def test_one_class_alone_says_nothing():
    assert exchanged_labels(np.array([[0, 9], [0, 0]]), ("a", "b")) is None
