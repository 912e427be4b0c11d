"""Support vector machines and nearest neighbours: what compares an image's features with those of training images."""

from __future__ import annotations

from typing import Any

import numpy as np

from zygal.sources.estimators.site import DECISIONS, PROBABILITIES, EstimatorSite, entered


@entered(DECISIONS, "SVC", "NuSVC")
def support_vectors(site: EstimatorSite, estimator: Any, x: str) -> str:
    """One machine for each pair of classes, then one value a class; Chang and Lin, "LIBSVM", 2011."""
    if estimator.kernel not in ("linear", "poly", "rbf", "sigmoid"):
        site.refuse(f"has the kernel {estimator.kernel!r}, which is not supported")
    vectors = np.asarray(estimator.support_vectors_, np.float64)
    similar = _kernel(site, estimator, x, vectors)
    classes, ends = len(estimator.classes_), np.cumsum(estimator.n_support_)
    bounds = list(zip([0, *ends[:-1]], ends))
    # The sign with which the library keeps the machine of two classes is turned.
    dual, intercept = estimator._dual_coef_, estimator._intercept_
    pairs = [(i, j) for i in range(classes) for j in range(i + 1, classes)]
    weights = np.zeros((len(vectors), len(pairs)))
    for column, (i, j) in enumerate(pairs):
        for own, other in ((i, j), (j, i)):
            first, last = bounds[own]
            weights[first:last, column] = dual[other - 1 if other > own else other, first:last]
    decided = site.step("MatMul", similar, site.doubles(weights, "weights"))
    decided = site.step("Add", decided, site.doubles(intercept, "intercept"))
    if classes == 2:
        return site.step("Neg", decided)
    if estimator.decision_function_shape != "ovr":
        site.refuse("gives one value for each pair of classes; fit it with decision_function_shape='ovr'")
    return _one_value_a_class(site, decided, pairs, classes)


def _one_value_a_class(site: EstimatorSite, decided: str, pairs: list[tuple[int, int]], classes: int) -> str:
    """The votes of the machines of all pairs, and less than half a vote for how sure they are, as scikit-learn adds
    them."""
    first, second = (np.zeros((len(pairs), classes)) for _ in range(2))
    for row, (i, j) in enumerate(pairs):
        first[row, i] = second[row, j] = 1
    # Zero votes for the first.
    for_first = site.cast(site.step("LessOrEqual", site.number(0.0, decided), decided), "float64")
    for_second = site.step("Sub", site.number(1.0, decided), for_first)
    votes = site.step(
        "Add",
        site.step("MatMul", for_first, site.doubles(first, "first")),
        site.step("MatMul", for_second, site.doubles(second, "second")),
    )
    sums = site.step("MatMul", decided, site.doubles(first - second, "signs"))
    sure = site.step(
        "Div",
        sums,
        site.step("Mul", site.number(3.0, sums), site.step("Add", site.step("Abs", sums), site.number(1.0, sums))),
    )
    return site.step("Add", votes, sure)


def _kernel(site: EstimatorSite, estimator: Any, x: str, vectors: np.ndarray) -> str:
    if estimator.kernel == "rbf":
        far = _squared_distances(site, x, vectors)
        return site.step("Exp", site.step("Mul", far, site.number(-float(estimator._gamma), far)))
    product = site.step("MatMul", x, site.doubles(vectors.T, "vectors"))
    if estimator.kernel == "linear":
        return product
    product = site.step("Mul", product, site.number(float(estimator._gamma), product))
    product = site.step("Add", product, site.number(float(estimator.coef0), product))
    if estimator.kernel == "sigmoid":
        return site.step("Tanh", product)
    return site.step("Pow", product, site.number(float(estimator.degree), product))


def _squared_distances(site: EstimatorSite, x: str, vectors: np.ndarray) -> str:
    """|x|^2 - 2 x v + |v|^2, [N, vectors], not below zero."""
    own = site.step("ReduceSum", site.step("Mul", x, x), axes=[1], keepdims=1)
    product = site.step("MatMul", x, site.doubles(-2 * vectors.T, "vectors"))
    theirs = site.doubles((vectors**2).sum(axis=1)[None], "lengths")
    far = site.step("Add", site.step("Add", product, own), theirs)
    return site.step("Max", far, site.number(0.0, far))


@entered(PROBABILITIES, "KNeighborsClassifier")
def nearest_neighbours(site: EstimatorSite, estimator: Any, x: str) -> str:
    """The share of each class among the nearest; Cover and Hart, "Nearest neighbor pattern classification", 1967."""
    if estimator.outputs_2d_:
        site.refuse("gives an image several labels, which is not supported")
    if estimator.weights not in ("uniform", "distance", None):
        site.refuse("weighs its neighbours by a function, which is not supported")
    far = _distances(site, estimator, x)
    near, places = site.several("TopK", far, count=2, k=[int(estimator.n_neighbors)], axis=1, largest=0, sorted=1)
    classes = np.eye(len(estimator.classes_))[np.asarray(estimator._y).ravel()]
    theirs = site.step("Gather", site.doubles(classes, "classes"), places, axis=0)
    if estimator.weights != "distance":
        return site.step("ReduceMean", theirs, axes=[1], keepdims=0)
    weights = _by_distance(site, near)
    weighed = site.step("Mul", theirs, site.step("Unsqueeze", weights, axes=[2]))
    return site.shares(site.step("ReduceSum", weighed, axes=[1], keepdims=0))


def _by_distance(site: EstimatorSite, near: str) -> str:
    """1 / distance; where a neighbour is at no distance at all, only such count."""
    zero, one = site.number(0.0, near), site.number(1.0, near)
    same = site.step("Equal", near, zero)
    counted = site.cast(same, "float64")
    whether = site.step("Less", zero, site.step("ReduceMax", counted, axes=[1], keepdims=1))
    return site.step("Where", whether, counted, site.step("Div", one, site.step("Where", same, one, near)))


def _distances(site: EstimatorSite, estimator: Any, x: str) -> str:
    vectors = estimator._fit_X
    if hasattr(vectors, "toarray"):
        site.refuse("was fitted on a sparse matrix, which is not supported")
    vectors = np.asarray(vectors, np.float64)
    metric, order = estimator.effective_metric_, (estimator.effective_metric_params_ or {}).get("p", 2)
    euclidean = metric == "euclidean" or (metric == "minkowski" and order == 2)
    if euclidean and estimator._fit_method == "brute":
        return site.step("Sqrt", _squared_distances(site, x, vectors))
    if metric == "cosine":
        return _cosine_distances(site, x, vectors)
    if not euclidean and metric not in ("manhattan", "chebyshev"):
        site.refuse(f"measures distances by {metric!r}, which is not supported")
    apart = site.step("Sub", site.step("Unsqueeze", x, axes=[1]), site.doubles(vectors[None], "vectors"))
    if euclidean:
        # As trees of neighbours do it: small distances keep their digits.
        return site.step("Sqrt", site.step("ReduceSum", site.step("Mul", apart, apart), axes=[2], keepdims=0))
    apart = site.step("Abs", apart)
    return site.step("ReduceSum" if metric == "manhattan" else "ReduceMax", apart, axes=[2], keepdims=0)


def _cosine_distances(site: EstimatorSite, x: str, vectors: np.ndarray) -> str:
    lengths = np.linalg.norm(vectors, axis=1, keepdims=True)
    own = site.step("Sqrt", site.step("ReduceSum", site.step("Mul", x, x), axes=[1], keepdims=1))
    zero, one = site.number(0.0, own), site.number(1.0, own)
    direction = site.step("Div", x, site.step("Where", site.step("Equal", own, zero), one, own))
    similar = site.step(
        "MatMul", direction, site.doubles((vectors / np.where(lengths == 0, 1, lengths)).T, "directions")
    )
    return site.step("Max", site.step("Sub", one, similar), zero)
