"""A model's configuration as one structure, whichever age of Keras spelled it."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from zygal.errors import SourceError
from zygal.sources.keras.keras1 import as_second_age

MODELS = ("Sequential", "Functional", "Model")
DEEPEST_NESTING = 40


@dataclass(frozen=True)
class Reference:
    """One result of one call of a layer."""

    layer: str
    call: int = 0
    result: int = 0


@dataclass(frozen=True)
class LayerCall:
    """The arguments of one call; tensors among them are References, in lists as they were given."""

    positional: tuple[Any, ...]
    named: dict[str, Any] = field(default_factory=dict)


@dataclass
class Layer:
    """A layer of a model; `model` is its own structure where it is a model itself."""

    name: str
    class_name: str
    module: str
    config: dict[str, Any]
    calls: list[LayerCall]
    trainable: bool = True
    model: Model | None = None
    first_call: int = 0
    """What the first of its calls is numbered: releases that count how a nested model was built begin with 1."""

    @property
    def is_operation(self) -> bool:
        """Whether it is a call of one of the framework's functions, kept as a layer."""
        if self.class_name in ("TFOpLambda", "SlicingOpLambda", "TensorFlowOpLayer"):
            return True
        # Where the module is not kept, functions are known by what every layer has and they have not.
        from zygal.sources.keras.handlers import LAYERS, OPERATIONS

        bare = not self.module and self.model is None and self.class_name != "InputLayer"
        # Some layers keep no more than their own settings.
        bare = bare and not (self.class_name in LAYERS and self.class_name not in OPERATIONS)
        return ".ops" in self.module or bare and not {"trainable", "batch_input_shape"} & self.config.keys()


@dataclass
class Model:
    """Layers in the order of the file, what comes in, and what goes out by the names that a person knows."""

    name: str
    class_name: str
    layers: dict[str, Layer]
    inputs: list[Reference]
    outputs: dict[str, Reference]
    trainable: bool = True
    build_shape: list | None = None


def read_structure(configuration: dict[str, Any], path: Path, version: str) -> Model:
    """The structure of a configuration. Raises SourceError where it is inconsistent."""
    if version.startswith(("0", "1")):
        configuration = as_second_age(configuration)
    if configuration.get("class_name") not in MODELS or "config" not in configuration:
        name = configuration.get("registered_name") or configuration.get("class_name", "unnamed")
        raise SourceError(
            f"{path} holds a model of a custom class ({name}), whose layers only its Python code knows; rebuild it in "
            "Keras as a functional model, load the weights, and save that."
        )
    try:
        return _model(configuration, path, 0)
    except (KeyError, TypeError, ValueError, IndexError, AttributeError) as fault:
        raise SourceError(
            f"{path} is damaged: its configuration is inconsistent ({type(fault).__name__}: {fault})."
        ) from fault


def _model(configuration: dict[str, Any], path: Path, depth: int) -> Model:
    if depth > DEEPEST_NESTING:
        raise SourceError(f"{path} nests models more than {DEEPEST_NESTING} deep, so it is damaged or malicious.")
    config, class_name = configuration["config"], configuration["class_name"]
    if isinstance(config, list):  # A sequential model of the first years is only its layers.
        config = {"name": configuration.get("name", "sequential"), "layers": config}
    layers: dict[str, Layer] = {}
    for position, entry in enumerate(config["layers"]):
        layer = _layer(entry, path, depth, position)
        if layer.name in layers:
            raise ValueError(f"two layers are named {layer.name}")
        layers[layer.name] = layer
    name = config.get("name", "model")
    trainable = config.get("trainable", True)
    if class_name == "Sequential":
        return _sequential(name, layers, config, configuration, path, trainable)
    _number_calls(layers, config["output_layers"])
    inputs = list(_references(config["input_layers"]))
    outputs = _named_outputs(config["output_layers"])
    for reference in (*inputs, *outputs.values()):
        if reference.layer not in layers:
            raise ValueError(f"there is no layer {reference.layer}")
    return Model(name, class_name, layers, inputs, outputs, trainable)


def _number_calls(layers: dict[str, Layer], outputs: Any) -> None:
    """Finds out from what number on the calls of nested models are counted."""
    read: dict[str, set[int]] = {}
    for reference in (
        *references_in([[call.positional, call.named] for layer in layers.values() for call in layer.calls]),
        *_references(outputs),
    ):
        read.setdefault(reference.layer, set()).add(reference.call)
    for layer in layers.values():
        if layer.model is not None and read.get(layer.name) and min(read[layer.name]) == 1:
            layer.first_call = 1


def references_in(argument: Any) -> Iterator[Reference]:
    """The references in an argument, lists and dictionaries of any depth included."""
    if isinstance(argument, Reference):
        yield argument
    elif isinstance(argument, (list, tuple)):
        for each in argument:
            yield from references_in(each)
    elif isinstance(argument, dict):
        yield from references_in(list(argument.values()))


def _sequential(name, layers, config, configuration, path, trainable) -> Model:
    """A chain: each layer is called once, on the one before it."""
    if not layers:
        raise SourceError(f"{path} holds a model without layers; save it again.")
    shape = config.get("build_input_shape") or _mapping(configuration, "build_config", f"the model {name}", path).get(
        "input_shape"
    )
    first = next(iter(layers.values()))
    if first.class_name != "InputLayer":
        inner = first.config.get("batch_input_shape") or first.config.get("batch_shape")
        if inner is None and isinstance(first.config.get("layer"), dict):
            inner = _mapping(first.config["layer"], "config", f"the layer in {first.name}", path).get(
                "batch_input_shape"
            )
        if inner is None and first.model is not None:
            head = next(iter(first.model.layers.values()))
            inner = head.config.get("batch_shape") or head.config.get("batch_input_shape") or first.model.build_shape
        # A name that no layer can have keeps it apart; in containers it has no place of its own.
        stand_in = Layer("/input", "InputLayer", "", {"batch_shape": inner or shape}, [])
        layers = {stand_in.name: stand_in, **layers}
    before = None
    for layer in layers.values():
        layer.calls = [LayerCall((Reference(before),))] if before is not None else []
        before = layer.name
    return Model(
        name, "Sequential", layers, [Reference(next(iter(layers)))], {before: Reference(before)}, trainable, shape
    )


def _mapping(holder: dict[str, Any], key: str, what: str, path: Path) -> dict[str, Any]:
    """The object under a key; an empty one where there is none. Raises SourceError."""
    value = holder.get(key)
    if value is not None and not isinstance(value, dict):
        raise SourceError(
            f"{path} is damaged: {key} of {what} is no JSON object but {type(value).__name__}; save it again."
        )
    return value or {}


def _layer(entry: dict[str, Any], path: Path, depth: int, position: int) -> Layer:
    config, class_name = entry["config"], entry["class_name"]
    class_name = class_name.rpartition(">")[2]
    named = entry.get("name") or (config.get("name") if isinstance(config, dict) else None)
    name = named or f"{class_name.lower()}_{position}"
    calls = [_call(each) for each in entry.get("inbound_nodes") or []]
    layer = Layer(name, class_name, str(entry.get("module") or ""), config if isinstance(config, dict) else {}, calls)
    layer.trainable = layer.config.get("trainable", True) is not False
    if isinstance(layer.config.get("dtype"), dict):
        _mapping(layer.config["dtype"], "config", f"the dtype of layer {name}", path)
    registered = entry.get("registered_name") or ""
    if ">" in registered and not registered.startswith("keras") and not layer.module.startswith("keras"):
        layer.module = "custom"
    if class_name in MODELS:
        layer.model = _model(entry, path, depth + 1)
    if class_name == "TensorFlowOpLayer":
        return _single_operator(layer)
    return layer


_FUNCTIONS = {
    "Add": "math.add",
    "AddV2": "math.add",
    "BiasAdd": "nn.bias_add",
    "Mul": "math.multiply",
    "Sub": "math.subtract",
    "RealDiv": "math.truediv",
    "Maximum": "math.maximum",
    "Minimum": "math.minimum",
    "Relu": "nn.relu",
    "Relu6": "nn.relu6",
    "Sigmoid": "nn.sigmoid",
    "Elu": "nn.elu",
    "Selu": "nn.selu",
    "Exp": "math.exp",
    "Square": "math.square",
}


def _single_operator(layer: Layer) -> Layer:
    """What releases 2.2 and 2.3 kept of an operator: its name, and the operands that are constants by their places."""
    node = layer.config["node_def"]
    operator = (json.loads(node) if isinstance(node, str) else node)["op"]
    calls = []
    for call in layer.calls:
        operands = list(call.positional[0]) if isinstance(call.positional[0], list) else [call.positional[0]]
        for index, value in sorted((int(index), value) for index, value in layer.config.get("constants", {}).items()):
            operands.insert(index, value)
        calls.append(LayerCall(tuple(operands)))
    return replace(layer, class_name="TFOpLambda", config={"function": _FUNCTIONS.get(operator, operator)}, calls=calls)


def _call(node: Any) -> LayerCall:
    """One entry of inbound_nodes: in the third age a dictionary of arguments, before that a list of tensors."""
    if isinstance(node, dict):
        named = {key: _tensors(value) for key, value in node.get("kwargs", {}).items()}
        return LayerCall(tuple(_tensors(value) for value in node["args"]), named)
    if node and isinstance(node[0], str):  # A single tensor, as function calls of the second age have it.
        node = [node]
    references, named = [], {}
    for each in node:
        references.append(Reference(each[0], each[1], each[2]) if each[0] != "_CONSTANT_VALUE" else each[2])
        if len(each) > 3 and isinstance(each[3], dict):
            named.update({key: _second_age_tensors(value) for key, value in each[3].items()})
    return LayerCall((references[0] if len(references) == 1 else references,), named)


def _tensors(value: Any) -> Any:
    """Arguments of the third age with References in the places of tensors."""
    if isinstance(value, dict):
        if value.get("class_name") == "__keras_tensor__":
            return Reference(*value["config"]["keras_history"])
        if value.get("class_name") == "__slice__":
            return slice(*(value["config"][name] for name in ("start", "stop", "step")))
        if value.get("class_name") in ("__tensor__", "__numpy__"):
            return value["config"]["value"]
        if value.get("class_name") == "__ellipsis__":
            return Ellipsis
        if value.get("class_name") == "__tuple__":
            return [_tensors(each) for each in value["items"]]
        return {key: _tensors(each) for key, each in value.items()}
    return [_tensors(each) for each in value] if isinstance(value, list) else value


def _second_age_tensors(value: Any) -> Any:
    """A keyword argument of the second age: a tensor is spelled as the layer that made it and two numbers."""
    if isinstance(value, list):
        if len(value) == 3 and isinstance(value[0], str) and all(isinstance(n, int) for n in value[1:]):
            return value[2] if value[0] == "_CONSTANT_VALUE" else Reference(*value)
        if len(value) == 3 and value[0] == "_CONSTANT_VALUE":
            return value[2]
        return [_second_age_tensors(each) for each in value]
    return value


def _references(indices: Any) -> Iterator[Reference]:
    """References in lists or dictionaries of any depth."""
    if isinstance(indices, dict):
        indices = list(indices.values())
    if len(indices) == 3 and isinstance(indices[0], str) and not isinstance(indices[1], (str, list)):
        yield Reference(indices[0], indices[1], indices[2])
        return
    for each in indices:
        yield from _references(each)


def _named_outputs(indices: Any) -> dict[str, Reference]:
    """By the keys of a dictionary, else by the layers that make them."""
    if isinstance(indices, dict):
        return {key: next(_references(index)) for key, index in indices.items()}
    outputs: dict[str, Reference] = {}
    for reference in _references(indices):
        name = reference.layer
        while name in outputs:
            name += "'"
        outputs[name] = reference
    if not outputs:
        raise ValueError("the model has no outputs")
    return outputs
