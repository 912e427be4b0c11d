"""Mobile flatbuffers as sources: a graph, and what the files say of themselves."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zygal.classifier.choice import Choice
from zygal.classifier.scores import operators_before, scores_by_operators, softmax_twice
from zygal.errors import SourceError, UnknownOperators, some_of
from zygal.files.families import Reading
from zygal.graph import Batch, Graph, TensorType
from zygal.graph.passes.dead import remove_dead
from zygal.inlet import Inlet
from zygal.mobile.contents import choice, made_by_names, names_of
from zygal.mobile.meaning import read_meaning
from zygal.mobile.model import MobileModel
from zygal.mobile.own import own_metadata
from zygal.mobile.read import read_model
from zygal.sources.mobile.entrance import own_inlet
from zygal.sources.mobile.translate import Translator
from zygal.sources.source import SignatureFacts, Source, SourceFacts

VERSION = "schema 3"
BOXES = ("TFLite_Detection_PostProcess", "NON_MAX_SUPPRESSION_V4", "NON_MAX_SUPPRESSION_V5")


@dataclass(frozen=True)
class Opened:
    """A file and the signature that is taken. inputs, outputs: tensors' numbers by name."""

    model: MobileModel
    inputs: dict[str, int]
    outputs: dict[str, int]
    signature: str | None
    chosen: Choice


def opened(path: str | Path, reading: Reading) -> Opened:
    """Raises FileError or SourceError."""
    model = read_model(path)
    names = [each.key for each in model.signatures]
    if reading.signature is not None:
        if reading.signature not in names:
            raise SourceError(f"{path} has no signature {reading.signature}; it has {', '.join(names) or 'none'}.")
        taken = next(each for each in model.signatures if each.key == reading.signature)
        model.signatures = [taken]
        model.inputs, model.outputs = list(taken.inputs.values()), list(taken.outputs.values())
    elif len(names) > 1:
        raise SourceError(f"{path} has several signatures ({', '.join(names)}); choose one with --signature.")
    outputs = names_of(model, model.outputs, "outputs")
    _refuse_detector(str(path), model, outputs)
    chosen = choice(str(path), model, outputs, made_by_names(model), reading.output, reading.classes)
    return Opened(
        model,
        names_of(model, model.inputs, "inputs"),
        outputs,
        reading.signature or (names[0] if names else None),
        chosen,
    )


def _refuse_detector(where: str, model: MobileModel, outputs: dict[str, int]) -> None:
    """Raises SourceError if the outputs are boxes, their scores, classes and number."""
    shapes = [model.tensors[number].shape for number in outputs.values()]
    boxes = any(len(shape) == 3 and shape[-1] == 4 for shape in shapes) and len(shapes) > 1
    if boxes or any(each.name in BOXES for each in model.operators):
        raise SourceError(
            f"{where} returns boxes and scores ({some_of(list(outputs))}): it is a detector, and no classifier."
        )


@contextmanager
def read(path: str | Path, reading: Reading) -> Iterator[Source]:
    """See `sources.read_source`."""
    file = opened(path, reading)
    translator, graph = _translated(path, file, reading)
    labels, inlet, sure = _stated(file, str(path))
    notes = list(translator.context.notes)
    if translator.hybrid:
        notes.append(
            f"{len(translator.hybrid)} layers have 8-bit weights and real inputs, which the mobile runtime rounds to 8 "
            "bits for each image; the artifact computes with the inputs as they are, so its scores are not those of "
            "the device"
        )
    if inlet is not None and not sure:
        notes.append(
            "the metadata state how pixels are normalised, not how images come to their size: a plain resize is "
            "taken for it; check it with zygal match"
        )
    yield Source(Path(path), "LiteRT", VERSION, graph, tuple(file.outputs), file.chosen, tuple(notes), labels, inlet)


def _stated(file: Opened, where: str) -> tuple[tuple[str, ...] | None, Inlet | None, bool]:
    """The labels and the inlet that a file states, and whether the inlet is all ours, or as far as the open metadata
    have one."""
    model, meaning, own = file.model, read_meaning(file.model, where), own_metadata(file.model, where)
    labels = own.labels or (meaning.labels or {}).get(list(file.outputs).index(file.chosen.name))
    if own.inlet is not None or not model.inputs:
        return labels, own.inlet, True
    return labels, own_inlet(meaning, model.tensors[model.inputs[0]]), False


def _translated(path: str | Path, file: Opened, reading: Reading) -> tuple[Translator, Graph]:
    translator = Translator(file.model, str(path), reading.widen, reading.image_shape)
    translator.run()
    return translator, remove_dead(translator.graph_of(file.outputs[file.chosen.name]))


def facts(path: str | Path, reading: Reading) -> SourceFacts:
    """What a flatbuffer says of itself. Raises FileError or SourceError."""
    file = opened(path, reading)
    model, why_not, unknown, graph = file.model, "", [], None
    try:
        _, graph = _translated(path, file, reading)
    except UnknownOperators as fault:
        unknown = sorted(fault.layers)
    except SourceError as fault:
        why_not = str(fault)
    ending = list(operators_before(model.tensors[file.outputs[file.chosen.name]].name, made_by_names(model)))
    constants = [each for each in model.tensors if each.data is not None]
    labels, inlet, _ = _stated(file, str(path))
    types = {name: _type(model, number) for name, number in file.outputs.items()}
    if graph is not None:
        types[file.chosen.name] = graph.types[graph.outputs[0]]
    return SourceFacts(
        path=Path(path),
        framework="LiteRT",
        framework_version=VERSION,
        file_format=f"mobile flatbuffer, {_precision(model)}",
        inputs={
            name: graph.types[graph.inputs[0]] if graph is not None else _type(model, number)
            for name, number in file.inputs.items()
        },
        outputs=types,
        scores=scores_by_operators(ending),
        chosen=file.chosen,
        softmax_twice=softmax_twice(ending),
        mode=None,
        preprocessing=[],
        operators=dict(Counter(each.name for each in model.operators).most_common()),
        unknown_operators=unknown,
        layers=graph.layer_names() if graph is not None else [],
        tensors=len(constants),
        parameters=sum(each.data.size for each in constants if each.dtype in ("float32", "float16", "int8", "uint8")),
        weight_dtypes=sorted({each.dtype for each in constants if each.data.size > 1}),
        size_bytes=Path(path).stat().st_size,
        signatures=_signatures(model, file.signature),
        labels=labels,
        inlet=inlet,
        why_not=why_not,
    )


def _precision(model: MobileModel) -> str:
    """How numbers are stored, in words."""
    stored = [
        each for each in model.tensors if each.quantization is not None and each.dtype in ("int8", "uint8", "int16")
    ]
    if any(each.data is None for each in stored):
        per_axis = any(each.quantization.per_axis for each in stored)
        return (
            f"{stored[0].dtype} throughout, weights with a scale "
            f"{'for each channel' if per_axis else 'for each tensor'}"
        )
    if stored:
        return "weights in 8 bits"
    return "weights in float16" if any(each.dtype == "float16" for each in model.tensors) else "float32"


def _type(model: MobileModel, number: int) -> TensorType | None:
    tensor = model.tensors[number]
    try:
        return TensorType(np.dtype(tensor.dtype), tuple(Batch() if size is None else size for size in tensor.sizes))
    except TypeError:
        return None


def _signatures(model: MobileModel, taken: str | None) -> tuple[SignatureFacts, ...]:
    def tensors(listed):
        return {
            name: (model.tensors[number].name, model.tensors[number].dtype, model.tensors[number].sizes)
            for name, number in listed.items()
        }

    return tuple(
        SignatureFacts(each.key, (), tensors(each.inputs), tensors(each.outputs), each.key == taken)
        for each in model.signatures
    )
