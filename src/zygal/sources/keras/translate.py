"""A model's structure to a graph, layer by layer through the tables."""

from __future__ import annotations

from math import prod
from typing import Any

import numpy as np

from zygal.errors import GraphError, SourceError, UnknownOperators, shown, some_of
from zygal.graph import Batch, Graph, GraphBuilder, TensorType
from zygal.sources.keras import (  # noqa: F401  (each table enters its layers)
    table_activations,
    table_attention,
    table_images,
    table_normalisation,
    table_operations,
    table_rearranging,
    table_shapes,
)
from zygal.sources.keras.containers import KerasFile
from zygal.sources.keras.handlers import LAYERS, OPERATIONS
from zygal.sources.keras.site import LayerSite, function_of
from zygal.sources.keras.structure import Layer, Model, Reference, references_in
from zygal.sources.keras.weights import NamePath, Weights
from zygal.sources.layouts import View

PREPROCESSING = ("Rescaling", "Normalization", "Resizing", "CenterCrop")
LARGEST_IMAGE = 1 << 27
OWN_CODE = ("Lambda",)


def all_layers(model: Model) -> list[Layer]:
    """The layers of a model and of the models inside it."""
    found = []
    for layer in model.layers.values():
        found.append(layer)
        if layer.model is not None:
            found += all_layers(layer.model)
    return found


def unknown_layers(model: Model) -> dict[str, list[str]]:
    """The classes of layers that the tables lack, each with the layers that are of it."""
    unknown: dict[str, list[str]] = {}
    for layer in all_layers(model):
        known = layer.model is not None or layer.class_name == "InputLayer"
        known = known or (function_of(layer) in OPERATIONS if layer.is_operation else layer.class_name in LAYERS)
        if not known or layer.module == "custom":
            name = function_of(layer) if layer.is_operation else layer.class_name
            unknown.setdefault(name, []).append(layer.name)
    return unknown


def input_type(file: KerasFile, model: Model, image_shape: tuple[int, ...] | None = None) -> TensorType:
    """The type of the model's only input; sizes that it leaves open are those of `image_shape`. Raises SourceError."""
    if len(model.inputs) != 1:
        raise SourceError(
            f"{file.path} takes {len(model.inputs)} inputs ({', '.join(each.layer for each in model.inputs)}); an "
            "image classifier takes one, so save a model that takes the image alone."
        )
    config = model.layers[model.inputs[0].layer].config
    shape = config.get("batch_shape") or config.get("batch_input_shape")
    if not isinstance(shape, list) or len(shape) < 2:
        raise SourceError(
            f"{file.path} does not say the size of its images; call the model once on an image, and save it again."
        )
    if image_shape and len(image_shape) == len(shape) - 1:
        shape = [None, *(given if size is None else size for size, given in zip(shape[1:], image_shape))]
    if any(not isinstance(size, int) or size < 1 for size in shape[1:]):
        raise SourceError(
            f"{file.path} leaves the size of its images open ({_sizes(shape)}); say it with --shape, as in --shape "
            "224,224,3, or give an inlet that ends with a size."
        )
    if prod(shape[1:]) > LARGEST_IMAGE:
        raise SourceError(f"{file.path} takes images of {_sizes(shape)} numbers, so it is damaged or malicious.")
    return TensorType(_input_dtype(file, config), (Batch(), *shape[1:]))


def _input_dtype(file: KerasFile, config: dict[str, Any]) -> np.dtype:
    """The dtype of the input as the artifact computes it; a policy says what the layer computes in. Raises
    SourceError."""
    dtype = config.get("dtype") or "float32"
    if isinstance(dtype, dict):
        dtype = dtype.get("config", {}).get("name", "")
    dtype = str(dtype).removeprefix("mixed_")
    if dtype in ("float32", "float16", "bfloat16", "float64"):
        return np.dtype(np.float32)
    if dtype not in ("uint8", "int32", "int64"):
        raise SourceError(
            f"{file.path} takes images of the dtype {shown(dtype)}, which is not supported; save a model that "
            f"takes float32 or uint8."
        )
    return np.dtype(dtype)


def _sizes(shape: list) -> str:
    return " x ".join("?" if size is None else str(size) for size in shape[1:])


def translate(
    file: KerasFile,
    model: Model,
    weights: Weights,
    output: str | None = None,
    image_shape: tuple[int, ...] | None = None,
) -> Graph:
    """The model's graph with one output, the first unless named. Raises UnknownOperators naming all, or SourceError."""
    output = output or next(iter(model.outputs))
    if output not in model.outputs:
        raise SourceError(f"{file.path} has no output {output}; it has {', '.join(model.outputs)}.")
    refuse_own_code(file, model)
    return _Translator(file, model, weights).run(output, input_type(file, model, image_shape))


def refuse_own_code(file: KerasFile, model: Model) -> None:
    """Raises SourceError or UnknownOperators if a layer holds code, quantised weights, or is of a class that is not
    known."""
    coded = [layer.name for layer in all_layers(model) if layer.class_name in OWN_CODE]
    unknown = unknown_layers(model)
    if coded:
        also = f" It also has layers of unknown classes: {', '.join(sorted(unknown))}." if unknown else ""
        raise SourceError(
            f"{file.path} cannot be converted: {'layer' if len(coded) == 1 else 'layers'} {some_of(coded, 8)} (Lambda) "
            f"{'holds' if len(coded) == 1 else 'hold'} Python code, which is never run; replace "
            f"{'it' if len(coded) == 1 else 'them'} by layers of the framework, load the weights, and save that.{also}"
        )
    quantised = [f"{layer.name} ({layer.class_name})" for layer in all_layers(model) if _is_quantised(layer)]
    if quantised:
        raise SourceError(
            f"{file.path} cannot be converted: {some_of(quantised, 8)} keeps quantised weights, whose meaning depends "
            "on the release of Keras; save the model before quantising it."
        )
    if unknown:
        raise UnknownOperators(str(file.path), unknown, "layer", "save")


def _is_quantised(layer: Layer) -> bool:
    policy = layer.config.get("dtype")
    by_policy = isinstance(policy, dict) and "uantiz" in str(policy.get("class_name"))
    return bool(by_policy or layer.config.get("quantization_config"))


class _Translator:
    def __init__(self, file: KerasFile, model: Model, weights: Weights):
        self._file, self._model, self._weights = file, model, weights
        self._builder, self._held = GraphBuilder(), {}

    def run(self, output: str, type: TensorType) -> Graph:
        name = self._builder.input(self._model.inputs[0].layer, type)
        if type.dtype != np.float32:
            name = self._builder.add("Cast", (name,), f"{name}.float", "input", to="float32")
        view = View(name, tuple(range(type.rank)))
        (made,) = self._results(self._model, (), [view], [self._model.outputs[output]])
        last = self._model.layers[self._model.outputs[output].layer]
        site = LayerSite(self._builder, str(self._file.path), last, last.name, [made], {}, {})
        return self._builder.finish([site.plain(made)])

    def _results(self, model: Model, path_of_names: NamePath, given: list[View], wanted: list[Reference]) -> list[View]:
        """The wanted results of a model that is called on some values."""
        done: dict[tuple[str, int], list[View]] = {
            (reference.layer, reference.call): [view] for reference, view in zip(model.inputs, given, strict=True)
        }
        pending, opened = [(each.layer, each.call) for each in wanted], set()
        while pending:
            index = pending[-1]
            if index in done:
                pending.pop()
                continue
            layer = model.layers.get(index[0])
            if layer is None or not 0 <= index[1] - layer.first_call < len(layer.calls):
                raise SourceError(f"{self._file.path} is damaged: call {index[1]} of layer {index[0]} is never made.")
            call = layer.calls[index[1] - layer.first_call]
            missing = [
                each for each in references_in([call.positional, call.named]) if (each.layer, each.call) not in done
            ]
            if missing:
                if index in opened:
                    raise SourceError(f"{self._file.path} is damaged: layer {index[0]} reads its own result.")
                opened.add(index)
                pending += [(each.layer, each.call) for each in missing]
                continue
            positional, named = (_filled(each, done, self._file) for each in (list(call.positional), dict(call.named)))
            done[index] = self._call(layer, (*path_of_names, layer.name), positional, named)
            pending.pop()
        return [_result(done, each, self._file) for each in wanted]

    def _call(self, layer: Layer, path_of_names: NamePath, positional: list, named: dict) -> list[View]:
        if layer.model is not None:
            views = positional[0] if isinstance(positional[0], list) else [positional[0]]
            if len(views) != len(layer.model.inputs) or not all(isinstance(view, View) for view in views):
                raise SourceError(
                    f"{self._file.path} is damaged: the model {layer.name} is called on {len(views)} values."
                )
            return self._results(layer.model, path_of_names, views, list(layer.model.outputs.values()))
        site = self._site(layer, positional, named, path_of_names)
        table, name = (OPERATIONS, function_of(layer)) if layer.is_operation else (LAYERS, layer.class_name)
        return self._guarded(site, lambda: site.run(table[name]))

    def _guarded(self, site: LayerSite, run) -> list[View]:
        try:
            return run()
        except GraphError as fault:
            raise SourceError(f"{self._file.path} cannot be converted: {fault}") from fault
        except (KeyError, TypeError, ValueError, IndexError, AttributeError, ArithmeticError) as fault:
            site.refuse(f"has settings or arguments that do not fit it ({type(fault).__name__}: {fault})")

    def _site(self, layer: Layer, positional: list, named: dict, path_of_names: NamePath) -> LayerSite:
        if path_of_names not in self._held:
            self._held[path_of_names] = self._weights.of(path_of_names, layer)
        name = "/".join(path_of_names) or layer.name
        site = LayerSite(self._builder, str(self._file.path), layer, name, positional, named, self._held[path_of_names])
        site.first_ages = not self._file.version.startswith("3")
        return site


def _filled(argument: Any, done: dict[tuple[str, int], list[View]], file: KerasFile) -> Any:
    """An argument with values in the places of references."""
    if isinstance(argument, Reference):
        return _result(done, argument, file)
    if isinstance(argument, (list, tuple)):
        return [_filled(each, done, file) for each in argument]
    if isinstance(argument, dict):
        return {key: _filled(each, done, file) for key, each in argument.items()}
    return argument


def _result(done: dict[tuple[str, int], list[View]], reference: Reference, file: KerasFile) -> View:
    results = done[reference.layer, reference.call]
    if not 0 <= reference.result < len(results):
        raise SourceError(f"{file.path} is damaged: layer {reference.layer} has no result {reference.result}.")
    return results[reference.result]
