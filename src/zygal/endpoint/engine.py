"""A served model as an engine: what the gates, classify and tally run on works on a service too."""

from __future__ import annotations

import numpy as np

from zygal.endpoint import TIMEOUT_SECONDS
from zygal.endpoint.messages import DTYPES, Tensor
from zygal.endpoint.service import Service
from zygal.errors import EndpointError

IMAGES_AXES = 4
"""A service may leave the batch out of what it says; with as many axes it has not."""


class EndpointEngine:
    """See `engines.engine.Engine`. output: the name of the output to fetch; the only one, or "scores", unless given.
    May be pickled: the copy opens its own connections. Raises EndpointError where the service is not ready, or its
    model is no image classifier."""

    def __init__(self, url: str, timeout: float = TIMEOUT_SECONDS, output: str | None = None):
        self.service = Service(url, timeout)
        self._given = url, timeout, output
        about = self.service.described
        if len(about.inputs) != 1:
            names = ", ".join(each.name for each in about.inputs)
            raise EndpointError(f"{url} takes {len(about.inputs)} inputs ({names}); an image classifier takes one.")
        (self.input,) = about.inputs
        self.output = _chosen(about.outputs, output, url)
        self.input_name, self.output_name = self.input.name, self.output.name
        self.input_dtype = DTYPES.get(self.input.datatype)
        if self.input_dtype is None:
            raise EndpointError(f"{url} takes tensors of {self.input.datatype}, which are no numbers.")
        self.input_shape = tuple(None if size == -1 else size for size in self.input.shape)
        first = self.input.shape[0] if len(self.input.shape) == IMAGES_AXES else -1
        self.batch_size = first if first > 0 else None
        version = self.service.version or (about.versions[0] if len(about.versions) == 1 else None)
        self.name = f"{url}" + (f" (version {version})" if version else "")

    def run(self, batch: np.ndarray) -> np.ndarray:
        """Scores [N, ...] of a batch. Raises EndpointError, also where the answer has another number of rows."""
        if str(batch.dtype) != self.input_dtype:
            raise EndpointError(
                f"{self.service.url} takes {self.input.datatype}, but the tensors are {batch.dtype}; is it "
                f"another model?"
            )
        self._check_shape(batch.shape)
        scores = self.service.infer(self.input_name, self.output_name, batch).scores
        if scores.ndim < 2 or len(scores) != len(batch):
            raise EndpointError(
                f"{self.service.url} answers a batch of {len(batch)} images with scores {list(scores.shape)}; "
                f"its batching is wrong, or it is no classifier."
            )
        return scores.astype(np.float32, copy=False)

    def _check_shape(self, shape: tuple[int, ...]) -> None:
        said = self.input_shape
        # A service may leave the batch out of what it says.
        inner = said[1:] if len(said) == IMAGES_AXES else said
        if len(inner) != len(shape) - 1 or any(
            size is not None and size != have for size, have in zip(inner, shape[1:])
        ):
            stated = ", ".join("any" if size is None else str(size) for size in said)
            raise EndpointError(
                f"{self.service.url} takes tensors [{stated}], but these are [N, {', '.join(map(str, shape[1:]))}]; is "
                "it another model?"
            )

    def __getstate__(self) -> tuple:
        return self._given

    def __setstate__(self, given: tuple) -> None:
        self.__init__(*given)


def _chosen(outputs: tuple[Tensor, ...], wanted: str | None, url: str) -> Tensor:
    names = [each.name for each in outputs]
    if wanted is not None and wanted not in names and len(outputs) > 1:
        raise EndpointError(f"{url} has no output {wanted}; it has {', '.join(names[:6])}.")
    return (
        next((each for each in outputs if each.name == (wanted or "scores")), outputs[0])
        if len(outputs) > 1
        else outputs[0]
    )
