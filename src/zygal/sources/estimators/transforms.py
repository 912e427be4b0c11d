"""Scalers, projections and choices of features."""

from __future__ import annotations

from typing import Any

import numpy as np

from zygal.sources.estimators.site import TRANSFORMS, EstimatorSite, entered


@entered(TRANSFORMS, "StandardScaler")
def standard_scaler(site: EstimatorSite, estimator: Any, x: str) -> str:
    """(x - mean) / scale."""
    width = site.type_of(x).dtype
    if estimator.with_mean:
        x = site.step("Sub", x, site.constant(estimator.mean_.astype(width), "mean"))
    return site.step("Div", x, site.constant(estimator.scale_.astype(width), "scale")) if estimator.with_std else x


@entered(TRANSFORMS, "MinMaxScaler")
def min_max_scaler(site: EstimatorSite, estimator: Any, x: str) -> str:
    """x * scale + min, clipped if that was chosen."""
    scaled = site.in_place("Mul", x, estimator.scale_, "scale")
    scaled = site.in_place("Add", scaled, estimator.min_, "min")
    if not estimator.clip:
        return scaled
    low, high = estimator.feature_range
    return site.step("Min", site.step("Max", scaled, site.number(float(low), scaled)), site.number(float(high), scaled))


@entered(TRANSFORMS, "MaxAbsScaler")
def max_abs_scaler(site: EstimatorSite, estimator: Any, x: str) -> str:
    """x / scale."""
    if getattr(estimator, "clip", False):
        site.refuse("clips its results, which is not supported")
    return site.in_place("Div", x, estimator.scale_, "scale")


@entered(TRANSFORMS, "RobustScaler")
def robust_scaler(site: EstimatorSite, estimator: Any, x: str) -> str:
    """(x - centre) / scale."""
    if estimator.with_centering:
        x = site.in_place("Sub", x, estimator.center_, "center")
    return site.in_place("Div", x, estimator.scale_, "scale") if estimator.with_scaling else x


@entered(TRANSFORMS, "Normalizer")
def normalizer(site: EstimatorSite, estimator: Any, x: str) -> str:
    """Each row divided by its length; rows of zeros stay."""
    wide = site.cast(x, "float64")
    if estimator.norm == "l2":
        length = site.step("Sqrt", site.step("ReduceSum", site.step("Mul", wide, wide), axes=[1], keepdims=1))
    else:
        magnitudes = site.step("Abs", wide)
        length = site.step("ReduceSum" if estimator.norm == "l1" else "ReduceMax", magnitudes, axes=[1], keepdims=1)
    one, zero = site.number(1.0, length), site.number(0.0, length)
    divisor = site.step("Where", site.step("Equal", length, zero), one, length)
    return site.cast(site.step("Div", wide, divisor), site.type_of(x).dtype.name)


def _projected(site: EstimatorSite, x: str, components: np.ndarray) -> str:
    """x C', as wide as the wider of the two."""
    width = np.result_type(site.type_of(x).dtype, components.dtype).name
    product = site.step("MatMul", site.cast(x, "float64"), site.doubles(components.T, "components"))
    return product if width == "float64" else site.cast(product, width)


@entered(TRANSFORMS, "PCA", "IncrementalPCA")
def principal_components(site: EstimatorSite, estimator: Any, x: str) -> str:
    """The projection on components, whitened if that was chosen."""
    turned = _projected(site, x, estimator.components_)
    turned = site.in_place("Sub", turned, estimator.mean_ @ estimator.components_.T, "mean")
    if not estimator.whiten:
        return turned
    # scikit-learn does not divide by less than this.
    deviations = np.maximum(np.sqrt(estimator.explained_variance_), np.finfo(estimator.explained_variance_.dtype).eps)
    return site.in_place("Div", turned, deviations, "deviations")


@entered(TRANSFORMS, "TruncatedSVD")
def truncated_svd(site: EstimatorSite, estimator: Any, x: str) -> str:
    """The projection on components."""
    return _projected(site, x, estimator.components_)


@entered(
    TRANSFORMS,
    "SelectKBest",
    "SelectPercentile",
    "SelectFromModel",
    "VarianceThreshold",
    "SelectFpr",
    "SelectFdr",
    "SelectFwe",
)
def selection(site: EstimatorSite, estimator: Any, x: str) -> str:
    """Some of the features."""
    kept = np.flatnonzero(estimator.get_support()).astype(np.int64)
    if not len(kept):
        site.refuse("selects no feature")
    return site.step("Gather", x, site.constant(kept, "kept"), axis=1)
