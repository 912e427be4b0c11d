"""What an artifact is fed while it is measured.

Random numbers can flatter or hurt: kernels are slower on denormal numbers, and activations of noise are other than
those of pictures. So real tensors are taken where there are any.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from copy import copy
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from zygal.classifier.layout import FROM_OTHER, permuted
from zygal.engines.session import Session
from zygal.errors import BenchError


@dataclass(frozen=True)
class Given:
    """What the user said of the inputs. tensors: [N, ...] real ones. origin: where these are from.

    image_size: (height, width) where the artifact leaves them open. shapes: of one image or row, by the input's name.
    """

    tensors: np.ndarray | None = None
    origin: str = "random numbers"
    image_size: tuple[int, int] | None = None
    shapes: Mapping[str, tuple[int, ...]] = field(default_factory=dict)


class Feeds:
    """The arrays that an artifact takes, for any batch. Raises BenchError where it is not known what they are.

    batch_size: the number of images that it insists on, or None. whence: where the numbers are from.
    """

    def __init__(self, session: Session, given: Given, artifact: str | Path):
        self.artifact, self.inputs = artifact, {each.name: each for each in session.inputs}
        self.dtypes = {name: each.dtype for name, each in self.inputs.items()}
        for name, dtype in self.dtypes.items():
            if dtype is None:
                raise BenchError(
                    f"{artifact} takes {self.inputs[name].stated} as {name}, for which Zygal cannot generate inputs."
                )
        self._check_given(given)
        firsts = [each.shape[0] for each in self.inputs.values() if each.shape]
        self.batch_size = next((size for size in firsts[:1] if isinstance(size, int) and size > 0), None)
        self.shapes = {name: self._shape_of(name, given) for name in self.inputs}
        if given.image_size is not None and all(_is_fixed(each.shape[1:]) for each in self.inputs.values()):
            raise BenchError(f"--image-size has no effect on {artifact}, whose image size is fixed; leave it out.")
        self.tensors, self.origin = None, "random numbers"
        if given.tensors is not None:
            self.tensors, self.origin = self._fitting(given.tensors, given.origin), given.origin
        self._made: dict[int, dict[str, np.ndarray]] = {}

    @property
    def image_bytes(self) -> int:
        """What the tensors of one image take."""
        return sum(
            int(np.prod(shape, dtype=np.int64)) * np.dtype(self.dtypes[name]).itemsize
            for name, shape in self.shapes.items()
        )

    def shapes_of(self, batch: int) -> dict[str, tuple[tuple[int, ...], str]]:
        """For each input the whole shape and the type, at a batch."""
        return {
            name: ((batch, *self.shapes[name]) if self.inputs[name].shape else (), self.dtypes[name])
            for name in self.inputs
        }

    def of(self, batch: int) -> dict[str, np.ndarray]:
        """The arrays by the inputs' names; the same ones each time."""
        if batch not in self._made:
            self._made[batch] = {name: self._array(name, batch) for name in self.inputs}
        return self._made[batch]

    def again(self) -> Feeds:
        """The same arrays in other places of the memory."""
        other = copy(self)
        other._made = {
            batch: {name: array.copy() for name, array in made.items()} for batch, made in self._made.items()
        }
        return other

    def for_another(self, image_size: Sequence[int] | None = None) -> Given:
        """What another artifact is given to be fed the same."""
        if len(self.inputs) > 1:
            return Given(shapes=self.shapes)
        ((name, array),) = self.of(self.batch_size or 16).items()
        port = self.inputs[name]
        array = port.real(array) if port.takes_real else array
        return Given(array, str(self.artifact), tuple(image_size) if image_size else None)

    def _array(self, name: str, batch: int) -> np.ndarray:
        if self.tensors is not None:
            return np.ascontiguousarray(np.resize(self.tensors, (batch, *self.tensors.shape[1:])))
        shape, dtype = self.shapes_of(batch)[name]
        rng = np.random.default_rng(0)
        if dtype == "uint8":
            return rng.integers(0, 256, shape, np.uint8)
        if np.dtype(dtype).kind in "iub":
            # Masks, counts and switches, for which noise would make no sense.
            return np.ones(shape, dtype)
        return rng.standard_normal(shape, np.float32).astype(dtype)

    def _shape_of(self, name: str, given: Given) -> tuple[int, ...]:
        """One image's: what is declared, with what is open there filled in."""
        stated = tuple(self.inputs[name].shape[1:])
        if name in given.shapes:
            shape = given.shapes[name]
            if len(shape) != len(stated) or any(isinstance(a, int) and a > 0 and a != b for a, b in zip(stated, shape)):
                raise BenchError(f"{self.artifact} takes {name} as {_in_words(stated)}, so it cannot be {list(shape)}.")
            return shape
        sizes = iter(given.image_size or ())
        shape = tuple(size if isinstance(size, int) and size > 0 else next(sizes, None) for size in stated)
        if None not in shape:
            return shape
        # What is fed says the sizes that are open, in one order of the axes or the other.
        fed = given.tensors.shape[1:] if given.tensors is not None else ()
        for each in (fed, fed[1:] + fed[:1], fed[-1:] + fed[:-1]):
            if len(each) == len(stated) and all(a == b for a, b in zip(stated, each) if isinstance(a, int) and a > 0):
                return tuple(each)
        if len(self.inputs) == 1 and len(stated) == 3 and shape.count(None) == 2:
            raise BenchError(
                f"{self.artifact} takes tensors {_in_words(stated)} with open sizes other than the batch; give the "
                "image size with --image-size HEIGHT,WIDTH."
            )
        example = ",".join(str(size) if size else "SIZE" for size in shape)
        raise BenchError(
            f"{self.artifact} takes {name} as {_in_words(stated)} with open sizes other than the batch; give them with "
            f"--input-shape {name}={example}."
        )

    def _check_given(self, given: Given) -> None:
        unknown = sorted(set(given.shapes) - set(self.inputs))
        if unknown:
            raise BenchError(f"{self.artifact} has no input {unknown[0]}; it takes {', '.join(self.inputs)}.")
        if given.tensors is not None and len(self.inputs) > 1:
            raise BenchError(
                f"{self.artifact} takes {len(self.inputs)} inputs ({', '.join(self.inputs)}), and {given.origin} has "
                "tensors for one only; leave out --witness to use random numbers."
            )

    def _fitting(self, tensors: np.ndarray, origin: str) -> np.ndarray:
        """The tensors in the artifact's layout and type."""
        ((name, shape),) = self.shapes.items()
        dtype, has = np.dtype(self.dtypes[name]), tensors.shape[1:]
        if has != shape and len(has) == 3:
            for layout, axes in FROM_OTHER.items():
                if tuple(permuted(tensors.shape, layout))[1:] == shape:
                    tensors = tensors.transpose(axes)
                    break
        if tensors.dtype.kind == "f" and self.inputs[name].takes_real:
            tensors = self.inputs[name].stored(tensors)
        if tensors.shape[1:] != shape or (dtype.kind == "f") != (tensors.dtype.kind == "f"):
            raise BenchError(
                f"{origin} has tensors {list(has)} of {tensors.dtype}, and {self.artifact} takes {list(shape)} of "
                f"{dtype}; they cannot be used together."
            )
        return np.ascontiguousarray(tensors, dtype)


def _is_fixed(shape: Sequence) -> bool:
    return all(isinstance(size, int) and size > 0 for size in shape)


def _in_words(shape: tuple) -> str:
    return "[" + ", ".join(str(size) if size else "?" for size in shape) + "]"
