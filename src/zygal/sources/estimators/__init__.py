"""Fitted estimators of scikit-learn that classify what a network returns, as the end of its graph.

One file per family. An estimator is known by its class; its numbers are read from its fitted attributes.
"""

from zygal.sources.estimators.end import class_labels, notes_on, score_method, with_estimator

__all__ = ["class_labels", "notes_on", "score_method", "with_estimator"]
