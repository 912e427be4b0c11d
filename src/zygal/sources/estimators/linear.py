"""Linear models and perceptrons with several layers."""

from __future__ import annotations

from typing import Any

import numpy as np

from zygal.sources.estimators.site import DECISIONS, PROBABILITIES, EstimatorSite, entered

_LOGISTIC = ("LogisticRegression", "LogisticRegressionCV")


@entered(
    DECISIONS,
    *_LOGISTIC,
    "LinearDiscriminantAnalysis",
    "LinearSVC",
    "PassiveAggressiveClassifier",
    "Perceptron",
    "RidgeClassifier",
    "RidgeClassifierCV",
    "SGDClassifier",
)
def decision(site: EstimatorSite, estimator: Any, x: str) -> str:
    """x W' + b, [N, classes]; of two classes [N, 1]."""
    product = site.step("MatMul", x, site.doubles(np.atleast_2d(estimator.coef_).T, "coefficients"))
    return site.step("Add", product, site.doubles(estimator.intercept_, "intercept"))


def _one_against_rest(site: EstimatorSite, decided: str) -> str:
    """The logistic function of each decision value, divided by their sum."""
    share = site.step("Sigmoid", decided)
    return site.two_columns(share) if site.type_of(share).shape[1] == 1 else site.shares(share)


@entered(PROBABILITIES, *_LOGISTIC)
def logistic_regression(site: EstimatorSite, estimator: Any, x: str) -> str:
    """Probabilities by a softmax, or by a sigmoid for each class."""
    decided = decision(site, estimator, x)
    way = getattr(estimator, "multi_class", "deprecated")
    by_class = way == "ovr" or (
        way in ("auto", "deprecated") and (len(estimator.classes_) <= 2 or estimator.solver == "liblinear")
    )
    if by_class:
        return _one_against_rest(site, decided)
    if site.type_of(decided).shape[1] == 1:
        decided = site.step("Concat", site.step("Neg", decided), decided, axis=1)
    return site.step("Softmax", decided, axis=1)


@entered(PROBABILITIES, "LinearDiscriminantAnalysis")
def discriminant_analysis(site: EstimatorSite, estimator: Any, x: str) -> str:
    """Probabilities of classes with one covariance."""
    decided = decision(site, estimator, x)
    if site.type_of(decided).shape[1] == 1:
        return site.two_columns(site.step("Sigmoid", decided))
    return site.step("Softmax", decided, axis=1)


_ACTIVATIONS = {"logistic": "Sigmoid", "tanh": "Tanh", "relu": "Relu"}


@entered(PROBABILITIES, "MLPClassifier")
def perceptron_of_layers(site: EstimatorSite, estimator: Any, x: str) -> str:
    """Layers of weights with activations between them."""
    if estimator.activation not in (*_ACTIVATIONS, "identity"):
        site.refuse(f"has the activation {estimator.activation!r}, which is not supported")
    for position, (weights, bias) in enumerate(zip(estimator.coefs_, estimator.intercepts_)):
        x = site.step("MatMul", x, site.doubles(weights, f"weights{position}"))
        x = site.step("Add", x, site.doubles(bias, f"bias{position}"))
        if position < len(estimator.coefs_) - 1 and estimator.activation != "identity":
            x = site.step(_ACTIVATIONS[estimator.activation], x)
    if estimator.out_activation_ == "softmax":
        return site.step("Softmax", x, axis=1)
    if site.type_of(x).shape[1] != 1:
        site.refuse("gives an image several labels, which is not supported")
    return site.two_columns(site.step("Sigmoid", x))
