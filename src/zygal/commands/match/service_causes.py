"""Why a service gives other scores than were recorded: what people get wrong when they serve a model, tried one by
one."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import numpy as np

from zygal.classifier.layout import image_layout
from zygal.endpoint.engine import EndpointEngine
from zygal.engines.engine import run_in_batches
from zygal.errors import ZygalError

MOST_IMAGES = 8
CLOSE = 1e-3
"""Of the spread: scores that differ by less are taken for the same."""


@dataclass(frozen=True)
class Trial:
    """tensors: what is sent instead. says: the cause, if the scores are then the recorded ones."""

    tensors: np.ndarray
    says: str


def explain(engine: EndpointEngine, tensors: np.ndarray, recorded: np.ndarray, spread: float) -> str | None:
    """A sentence, or None if nothing that was tried explains it. tensors, recorded: of the witness."""
    few = _differing(engine, tensors, recorded, spread)
    if few is None:
        return None
    tensors, recorded = tensors[few], recorded[few]
    found = _single_images(engine, tensors, recorded, spread)
    if found:
        return found
    for trial in _trials(tensors):
        try:
            if _close(engine.run(trial.tensors), recorded, spread):
                return trial.says
        except ZygalError:
            continue
    return _order_of_rows(engine.run(tensors), recorded, spread)


def other_file(versions: Iterable[str]) -> str:
    """What remains if the artifact itself gives the recorded scores and nothing else explains those of its service."""
    answered = f" (version {', '.join(versions)} answered)" if versions else ""
    return (
        f"the service does not serve this artifact{answered}: on the recorded tensors the artifact gives the recorded "
        "scores, the service gives others. Deploy the artifact again, and check which version is loaded"
    )


def _close(scores: np.ndarray, recorded: np.ndarray, spread: float) -> bool:
    return scores.shape == recorded.shape and bool(np.abs(scores - recorded).max() <= CLOSE * spread)


def _differing(engine: EndpointEngine, tensors: np.ndarray, recorded: np.ndarray, spread: float) -> np.ndarray | None:
    """Indices of some images whose scores differ."""
    scores = np.concatenate(list(run_in_batches(engine, tensors)))
    if scores.shape != recorded.shape:
        return None
    apart = np.flatnonzero(~(np.abs(scores - recorded).max(axis=1) <= CLOSE * spread))
    return apart[:MOST_IMAGES] if len(apart) else None


def _single_images(engine: EndpointEngine, tensors: np.ndarray, recorded: np.ndarray, spread: float) -> str | None:
    """Whether images one at a time are answered as recorded."""
    if engine.batch_size not in (None, 1) or len(tensors) < 2:
        return None
    alone = np.concatenate([engine.run(tensor[None]) for tensor in tensors])
    if _close(alone, recorded, spread):
        return (
            "the service mixes up images that are sent as one batch: sent one at a time they get the recorded "
            "scores. Check its batching"
        )
    return None


def _trials(tensors: np.ndarray) -> Iterator[Trial]:
    layout = image_layout(("N", *tensors.shape[1:]))
    axis = 1 if layout == "NCHW" else tensors.ndim - 1
    if tensors.ndim == 4 and tensors.shape[axis] == 3:
        yield Trial(
            np.ascontiguousarray(np.flip(tensors, axis)),
            "the service takes the channels in reverse order (BGR where RGB was recorded, or the other way "
            "round): with them reversed it gives the recorded scores",
        )
    if tensors.ndim == 4:
        yield Trial(
            np.ascontiguousarray(np.flip(tensors, axis=-1 if layout == "NCHW" else -2)),
            "the service mirrors the images: sent mirrored they get the recorded scores",
        )
    if tensors.dtype == np.float32:
        yield Trial(
            tensors * np.float32(255),
            "the service divides the tensors by 255 once more: multiplied by 255 they get the recorded scores",
        )
        yield Trial(
            tensors / np.float32(255), "the service multiplies the tensors by 255, or leaves out a division by 255"
        )


def _order_of_rows(scores: np.ndarray, recorded: np.ndarray, spread: float) -> str | None:
    """Whether each image's scores are those of another image of the batch."""
    if len(scores) < 2:
        return None
    owners = [
        next((index for index, row in enumerate(recorded) if np.abs(row - each).max() <= CLOSE * spread), None)
        for each in scores
    ]
    if None not in owners and owners != list(range(len(scores))):
        return "the service returns the scores of a batch in another order than its images"
    return None
