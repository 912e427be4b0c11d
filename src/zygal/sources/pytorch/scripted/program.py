"""A scripted archive as a program, like a captured one."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zygal.errors import SourceError, UnknownOperators
from zygal.graph import Batch, TensorType
from zygal.sources.pytorch.modes import captured_in_training
from zygal.sources.pytorch.program import Program
from zygal.sources.pytorch.scripted.archive import ScriptedArchive
from zygal.sources.pytorch.scripted.interpreter import Interpreter
from zygal.sources.pytorch.scripted.recorder import Recorder
from zygal.sources.pytorch.scripted.values import Tensor
from zygal.sources.pytorch.tensors import COMPUTED_AS_FLOAT32, SCALAR_TYPES, TensorBytes

FIXED_BATCHES = (1, 2, 4, 8, 16, 3, 32, 64, 5, 128)
"""A trace holds the number of images that it was made with as plain numbers. These are tried, the likeliest first."""


@dataclass(frozen=True)
class Recorded:
    """A program, what its tensors are read from, and whether the model was saved in training mode."""

    program: Program
    tensors: TensorBytes
    in_training: bool


def scripted_program(archive: ScriptedArchive, image_shape: tuple[int, ...]) -> Recorded:
    """The program that an archive's code is for images of that shape [C, H, W]: for any number of them, or for the one
    that a trace holds. Raises SourceError or UnknownOperators."""
    recorder = _recorder(archive, (Batch(), *image_shape))
    try:
        return _recorded(archive, recorder)
    except UnknownOperators:
        raise
    except SourceError as fault:
        if recorder.undecided:
            # With another number of images it may be another model.
            raise
        for count in FIXED_BATCHES:
            try:
                return program_for(archive, image_shape, count)
            except SourceError:
                continue
        raise fault


def program_for(archive: ScriptedArchive, image_shape: tuple[int, ...], count: int) -> Recorded:
    """The program for so many images of that shape [C, H, W]. Raises SourceError or UnknownOperators."""
    return _recorded(archive, _recorder(archive, (count, *image_shape)))


def _recorder(archive: ScriptedArchive, shape: tuple) -> Recorder:
    image = TensorType(np.dtype("float32"), shape)
    return Recorder(str(archive.path), archive, image, _image_dtype(archive))


def _recorded(archive: ScriptedArchive, recorder: Recorder) -> Recorded:
    where = str(archive.path)
    try:
        result = Interpreter(archive, recorder).forward(archive.model, recorder.images)
    except RecursionError:
        raise SourceError(f"{where} cannot be converted: its code is nested beyond reason.") from None
    except SourceError:
        if recorder.unknown_operators:
            raise UnknownOperators(where, recorder.unknown_operators) from None
        raise
    outputs = _outputs(where, result)
    floats = {name for name in recorder.tensors if "float" in recorder.dtype_names[name]}
    program = Program(
        path=archive.path,
        inputs=("images",),
        outputs=tuple(each.name for each, _ in outputs.values()),
        output_names=tuple(outputs),
        output_places=tuple(place for _, place in outputs.values()),
        batch="N" if isinstance(recorder.types["images"].shape[0], Batch) else None,
        tensors=recorder.tensors,
        # A frozen model no longer says which of its tensors were trained.
        trained=frozenset(recorder.trained or floats),
        calls=tuple(recorder.calls),
        types=recorder.types,
        layouts={},
        dtype_names=recorder.dtype_names,
        framework_version=f"archive version {archive.version}",
        schema_version=archive.version,
    )
    return Recorded(program, recorder, recorder.in_training or captured_in_training(program))


def _image_dtype(archive: ScriptedArchive) -> str:
    """Images come in the width of the weights, if all have one."""
    widths = {SCALAR_TYPES[each.scalar_type] for each in archive.tensors.values() if each.sizes}
    floats = {each for each in widths if "float" in each}
    return floats.pop() if len(floats) == 1 and floats <= set(COMPUTED_AS_FLOAT32) else "float32"


def _outputs(where: str, result: object) -> dict[str, tuple[Tensor, int]]:
    """The tensors that a model returns by their names (a key, a place, or "output" where there is one), each with its
    place among all that it returns, lists and dictionaries spelt out."""
    if isinstance(result, Tensor):
        return {"output": (result, 0)}
    if isinstance(result, dict):
        found = {str(key): value for key, value in result.items()}
    elif isinstance(result, (list, tuple)):
        found = {f"output_{place}": value for place, value in enumerate(result)}
    else:
        found = {}
    outputs, place = {}, 0
    for name, value in found.items():
        if isinstance(value, Tensor):
            outputs[name] = value, place
        place += _leaves(value)
    if not outputs:
        raise SourceError(f"{where} returns no tensor; save a model that returns its scores.")
    return outputs


def _leaves(value: object) -> int:
    """How many values there are in lists and dictionaries."""
    if isinstance(value, (list, tuple, dict)):
        return sum(map(_leaves, value.values() if isinstance(value, dict) else value))
    return 1
