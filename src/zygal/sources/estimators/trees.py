"""Decision trees and what is made of many: the way through all trees at once, one level a step."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from zygal.sources.estimators.site import DECISIONS, PROBABILITIES, EstimatorSite, entered


@dataclass(frozen=True)
class Tree:
    """left, right: children of each node; a leaf is its own child. feature, threshold: an image goes left where the
    feature is at most the threshold. value: [nodes, numbers], what a leaf gives."""

    left: np.ndarray
    right: np.ndarray
    feature: np.ndarray
    threshold: np.ndarray
    value: np.ndarray

    @property
    def depth(self) -> int:
        """Questions from the root to the deepest leaf."""
        level, depth = np.zeros(len(self.left), int), 0
        open_nodes = [0]
        while open_nodes:
            node = open_nodes.pop()
            depth = max(depth, level[node])
            for child in (self.left[node], self.right[node]):
                if child != node:
                    level[child] = level[node] + 1
                    open_nodes.append(child)
        return int(depth)


def _tree(estimator: Any) -> Tree:
    """A tree of scikit-learn's own structure, its values as they are."""
    tree = estimator.tree_
    left, right = tree.children_left.astype(np.int64), tree.children_right.astype(np.int64)
    leaf, nodes = left < 0, np.arange(len(left))
    threshold = tree.threshold.astype(np.float64)
    return Tree(
        np.where(leaf, nodes, left),
        np.where(leaf, nodes, right),
        np.where(leaf, 0, tree.feature).astype(np.int64),
        _as_float32(threshold),
        tree.value.reshape(len(left), -1).astype(np.float64),
    )


def _as_float32(threshold: np.ndarray) -> np.ndarray:
    """The largest float32 that is not above: a float32 is at most the one exactly if it is at most the other."""
    rounded = threshold.astype(np.float32)
    return np.where(rounded.astype(np.float64) > threshold, np.nextafter(rounded, np.float32(-np.inf)), rounded).astype(
        np.float64
    )


def _leaves(site: EstimatorSite, trees: Sequence[Tree], x: str) -> str:
    """What the leaves give that the images reach, [N, trees, numbers], of features [N, F]."""
    starts = np.cumsum([0, *(len(tree.left) for tree in trees)])[:-1].astype(np.int64)
    joined = {
        "left": np.concatenate([tree.left + start for tree, start in zip(trees, starts)]),
        "right": np.concatenate([tree.right + start for tree, start in zip(trees, starts)]),
        "feature": np.concatenate([tree.feature for tree in trees]),
        "threshold": np.concatenate([tree.threshold for tree in trees]),
    }
    tables = {name: site.constant(array, name) for name, array in joined.items()}
    features = site.type_of(x).shape[1]
    # As many zeros as there are images: no number is less than itself.
    column = site.step("Slice", x, starts=[0], ends=[1], axes=[1], steps=[1])
    zeros = site.cast(site.step("Less", column, column), "int64")
    node = site.step("Add", zeros, site.constant(starts[None], "roots"))
    for _ in range(max(tree.depth for tree in trees)):
        feature = site.step("Gather", tables["feature"], node, axis=0)
        value = site.step("GatherElements", x, feature, axis=1) if features > 1 else x
        goes_left = site.step("LessOrEqual", value, site.step("Gather", tables["threshold"], node, axis=0))
        left, right = (site.step("Gather", tables[side], node, axis=0) for side in ("left", "right"))
        node = site.step("Where", goes_left, left, right)
    values = site.constant(np.concatenate([tree.value for tree in trees]), "values")
    return site.step("Gather", values, node, axis=0)


def _fraction(tree: Tree) -> Tree:
    """The tree with the shares of the classes in each leaf."""
    sums = tree.value.sum(axis=1, keepdims=True)
    return Tree(tree.left, tree.right, tree.feature, tree.threshold, tree.value / np.where(sums == 0, 1, sums))


@entered(
    PROBABILITIES, "DecisionTreeClassifier", "ExtraTreeClassifier", "RandomForestClassifier", "ExtraTreesClassifier"
)
def trees(site: EstimatorSite, estimator: Any, x: str) -> str:
    """The mean of the trees' shares; Breiman, "Random forests", 2001."""
    if estimator.n_outputs_ != 1:
        site.refuse("gives an image several labels, which is not supported")
    members = getattr(estimator, "estimators_", [estimator])
    # Trees compare in float32.
    narrowed = site.cast(site.cast(x, "float32"), "float64")
    shares = _leaves(site, [_fraction(_tree(each)) for each in members], narrowed)
    return site.step("ReduceMean", shares, axes=[1], keepdims=0)


@entered(DECISIONS, "GradientBoostingClassifier")
def boosted(site: EstimatorSite, estimator: Any, x: str) -> str:
    """The sum of the trees of each class; Friedman, "Greedy function approximation", 2001."""
    if not (estimator.init_ == "zero" or type(estimator.init_).__name__ == "DummyClassifier"):
        site.refuse("starts from another estimator (init), which is not supported")
    start = estimator._raw_predict_init(np.zeros((1, estimator.n_features_in_), np.float32))
    narrowed, columns = site.cast(site.cast(x, "float32"), "float64"), []
    for members in estimator.estimators_.T:
        scaled = _leaves(site, [_tree(each) for each in members], narrowed)
        columns.append(site.step("ReduceSum", scaled, axes=[1], keepdims=0))
    summed = columns[0] if len(columns) == 1 else site.step("Concat", *columns, axis=1)
    summed = site.step("Mul", summed, site.doubles(estimator.learning_rate, "rate"))
    return site.step("Add", summed, site.doubles(start, "start"))


@entered(DECISIONS, "HistGradientBoostingClassifier")
def boosted_by_histograms(site: EstimatorSite, estimator: Any, x: str) -> str:
    """The raw predictions of trees over bins."""
    columns = []
    for members in zip(*estimator._predictors):
        scaled = _leaves(site, [_histogram_tree(site, each.nodes) for each in members], x)
        columns.append(site.step("ReduceSum", scaled, axes=[1], keepdims=0))
    summed = columns[0] if len(columns) == 1 else site.step("Concat", *columns, axis=1)
    return site.step("Add", summed, site.doubles(np.reshape(estimator._baseline_prediction, (1, -1)), "start"))


def _histogram_tree(site: EstimatorSite, nodes: np.ndarray) -> Tree:
    if nodes["is_categorical"].any():
        site.refuse("splits by categories, which is not supported")
    leaf, places = nodes["is_leaf"].astype(bool), np.arange(len(nodes))
    left, right = (np.where(leaf, places, nodes[side].astype(np.int64)) for side in ("left", "right"))
    feature = np.where(leaf, 0, nodes["feature_idx"]).astype(np.int64)
    return Tree(
        left, right, feature, nodes["num_threshold"].astype(np.float64), nodes["value"].astype(np.float64)[:, None]
    )


@entered(PROBABILITIES, "GradientBoostingClassifier", "HistGradientBoostingClassifier")
def boosted_shares(site: EstimatorSite, estimator: Any, x: str) -> str:
    """Probabilities of boosted trees."""
    if getattr(estimator, "loss", "log_loss") != "log_loss":
        site.refuse(f"has the loss {estimator.loss!r}, which is not supported")
    decided = DECISIONS[type(estimator).__name__](site, estimator, x)
    if site.type_of(decided).shape[1] == 1:
        return site.two_columns(site.step("Sigmoid", decided))
    return site.step("Softmax", decided, axis=1)
