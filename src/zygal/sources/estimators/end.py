"""An estimator, or a pipeline of them, behind the graph of a network."""

from __future__ import annotations

from typing import Any

import numpy as np

from zygal.errors import SourceError
from zygal.graph import Graph, GraphBuilder
from zygal.graph.shapes import shape_text
from zygal.sources.estimators import distances, linear, transforms, trees  # noqa: F401  (each enters its classes)
from zygal.sources.estimators.site import DECISIONS, PROBABILITIES, TRANSFORMS, EstimatorSite

SCORES = "estimator_scores"


def with_estimator(graph: Graph, estimator: Any) -> Graph:
    """The graph with its output [batch, features] classified by a fitted estimator: [batch, classes] in float32.

    Raises SourceError for an estimator, or a setting of one, that is not known.
    """
    steps = _steps(estimator)
    type = graph.types[graph.outputs[0]]
    features = getattr(steps[0], "n_features_in_", None)
    if type.rank != 2 or (features is not None and type.shape[1] != features):
        raise SourceError(
            f"the model returns {shape_text(type.shape)}, but the estimator {type_name(steps[0])} takes [batch, "
            f"{features}]; return the features that it was fitted on."
        )
    builder = GraphBuilder()
    for name in graph.inputs:
        builder.input(name, graph.types[name])
    for name, array in graph.constants.items():
        builder.constant(name, array)
    for node in graph.nodes:
        builder.append(node)
    (x,) = graph.outputs
    for step in steps[:-1]:
        x = TRANSFORMS[type_name(step)](EstimatorSite(builder, step), step, x)
    site = EstimatorSite(builder, steps[-1])
    table = PROBABILITIES if score_method(estimator) == "predict_proba" else DECISIONS
    scores = table[type_name(steps[-1])](site, steps[-1], site.cast(x, "float64"))
    if site.type_of(scores).shape[1] == 1:
        scores = site.step("Concat", site.step("Sub", scores, scores), scores, axis=1)
    return builder.finish([builder.add("Cast", (scores,), builder.free_name(SCORES), "estimator", to="float32")])


def score_method(estimator: Any) -> str:
    """The method that gives the scores: `predict_proba` where it is known, else `decision_function`. Raises
    SourceError."""
    last = _steps(estimator)[-1]
    name = type_name(last)
    if name in PROBABILITIES and hasattr(last, "predict_proba"):
        return "predict_proba"
    return "decision_function"


def notes_on(estimator: Any) -> list[str]:
    """What the user should know about the scores."""
    last = _steps(estimator)[-1]
    notes = [f"the scores are those of {type_name(last)}.{score_method(estimator)}"]
    if type_name(last) in ("SVC", "NuSVC") and len(last.classes_) > 2 and not last.break_ties:
        notes.append(
            f"where classes have equally many votes, {type_name(last)}.predict takes the first of them and the scores "
            "take the more certain one; break_ties=True makes predict do the same"
        )
    return notes


def class_labels(estimator: Any) -> tuple[str, ...] | None:
    """The names of the classes, in the order of the scores; None if the estimator numbers them from 0."""
    classes = np.asarray(estimator.classes_)
    if classes.dtype.kind in "iu" and np.array_equal(classes, np.arange(len(classes))):
        return None
    return tuple(str(each) for each in classes.tolist())


def type_name(estimator: Any) -> str:
    """What scikit-learn calls it."""
    return type(estimator).__name__


def _steps(estimator: Any) -> list[Any]:
    """The transformers and, last, the classifier, all of them known. Raises SourceError."""
    steps = list(_taken_apart(estimator))
    for position, step in enumerate(steps):
        last = position == len(steps) - 1
        tables = (PROBABILITIES, DECISIONS) if last else (TRANSFORMS,)
        if not type(step).__module__.startswith("sklearn.") or not any(type_name(step) in table for table in tables):
            known = sorted({name for table in tables for name in table})
            raise SourceError(
                f"the estimator {type(step).__module__}.{type_name(step)} cannot be converted as a "
                f"{'classifier' if last else 'step before the classifier'}; known are {', '.join(known)}."
            )
        if last and not hasattr(step, "classes_"):
            raise SourceError(f"the estimator {type_name(step)} is not fitted; fit it before it is returned.")
    return steps


def _taken_apart(estimator: Any):
    if hasattr(estimator, "best_estimator_") and type(estimator).__module__.startswith("sklearn.model_selection"):
        yield from _taken_apart(estimator.best_estimator_)
    elif type_name(estimator) == "Pipeline" and type(estimator).__module__.startswith("sklearn."):
        for _, step in estimator.steps:
            if step is not None and step != "passthrough":
                yield from _taken_apart(step)
    else:
        yield estimator
