"""Attention and recurrent layers."""

from __future__ import annotations

from math import prod, sqrt

import numpy as np

from zygal.graph import Batch
from zygal.sources.keras.handlers import layer
from zygal.sources.keras.site import LayerSite
from zygal.sources.layouts import View
from zygal.sources.recipes import attention as attending
from zygal.sources.recipes.arranging import reversed_along
from zygal.sources.recipes.recurrent import INPUT_FORGET_CELL_OUTPUT, sorted_gates


@layer("MultiHeadAttention", "GroupQueryAttention", "GroupedQueryAttention")
def heads(call: LayerSite) -> View | list[View]:
    """Vaswani et al., 2017; several axes between the batch and the features are taken as one."""
    query, value, key = _inputs(call)
    shape = call.shape(query)
    _check_axes(call, shape)
    many, size = (
        call.config.get("num_heads", call.config.get("num_query_heads")),
        int(call.config.get("key_dim", call.config.get("head_dim"))),
    )
    few = call.config.get("num_key_value_heads", many)
    rows = [_rows(call, each) for each in (query, key, value)]
    projected = [
        _projected(call, x, f"{part}_dense", int(n))
        for x, part, n in zip(rows, ("query", "key", "value"), (many, few, few))
    ]
    projected[1:] = [attending.shared_heads(call, each, many) for each in projected[1:]]
    q, k, v = projected  # [N, heads, rows, size]
    weights = attending.scores(call, q, k, 1 / sqrt(size), scale_first=True)
    weights = call.step("Softmax", _without_future(call, weights), axis=-1)
    mixed = call.step("Transpose", call.step("MatMul", weights, v), perm=[0, 2, 1, 3])
    count, length = call.type_of(mixed).shape[1:2][0], prod(call.type_of(mixed).shape[2:])
    flat = call.reshaped(mixed, [Batch(), count, length])
    kernel = call.needed("kernel", "output_dense")
    out = kernel.shape[2:] if kernel.ndim > 2 else kernel.shape[1:]
    made = call.step("MatMul", flat, call.constant(kernel.reshape(length, -1), "output_kernel"))
    bias = call.weight("bias", "output_dense")
    if bias is not None:
        made = call.step("Add", made, call.constant(bias.reshape(-1), "output_bias"))
    made = call.named_view(call.reshaped(made, [*shape[:-1], *out]))
    if call.named.get("return_attention_scores"):
        return [made, call.named_view(weights)]
    return made


def _inputs(call: LayerSite) -> tuple[View, View, View]:
    """Query, value and key; masks are refused."""
    given = [*call.positional, *(None,) * 3]
    query = call.named.get("query", given[0])
    value = call.named.get("value", given[1])
    key = call.named.get("key", given[2])
    key = value if key is None else key
    if not all(isinstance(each, View) for each in (query, key, value)):
        call.refuse("is called on something other than a tensor")
    for name in ("attention_mask", "query_mask", "key_mask", "value_mask", "mask"):
        if isinstance(call.named.get(name), View):
            call.refuse("uses a mask tensor, which is not supported")
    return query, value, key


def _check_axes(call: LayerSite, shape) -> None:
    inner = list(range(1, len(shape) - 1))
    axes = call.config.get("attention_axes")
    if axes is not None and sorted(axis % len(shape) for axis in ([axes] if isinstance(axes, int) else axes)) != inner:
        call.refuse(f"attends along some of its axes only ({axes}), which is not supported")
    if call.config.get("use_gate"):
        call.refuse("has a gate, which is not supported")


def _rows(call: LayerSite, view: View) -> str:
    """[N, rows, features]"""
    shape = call.shape(view)
    name = call.plain(view)
    return name if len(shape) == 3 else call.reshaped(name, [shape[0], prod(shape[1:-1]), shape[-1]])


def _projected(call: LayerSite, x: str, part: str, many: int) -> str:
    """[N, heads, rows, size] from [N, rows, features]."""
    count, features = call.type_of(x).shape[1:]
    kernel = call.needed("kernel", part, (features, many, None))
    made = call.step("MatMul", x, call.constant(kernel.reshape(features, -1), f"{part}_kernel"))
    bias = call.weight("bias", part)
    if bias is not None:
        made = call.step("Add", made, call.constant(bias.reshape(-1), f"{part}_bias"))
    split = call.reshaped(made, [Batch(), count, many, kernel.shape[2]])
    return call.step("Transpose", split, perm=[0, 2, 1, 3])


@layer("Attention")
def attention(call: LayerSite) -> View:
    """softmax(query key') value; Luong et al., 2015."""
    views = call.views()
    query, value = (call.plain(view) for view in views[:2])
    key = call.plain(views[2]) if len(views) > 2 else value
    for name in ("mask", "attention_mask", "query_mask"):
        if call.named.get(name) is not None:
            call.refuse("uses a mask, which is not supported")
    if call.config.get("score_mode", "dot") != "dot" or call.config.get("causal"):
        call.refuse(f"scores by {call.config.get('score_mode')}, which is not supported")
    weights = attending.scores(call, query, key, None)
    scale = call.weight("scale")
    if scale is not None:
        weights = call.step("Mul", weights, call.constant(scale, "scale"))
    weights = _without_future(call, weights)
    return call.named_view(attending.attended(call, weights, value))


def _without_future(call: LayerSite, weights: str) -> str:
    """The weights [..., rows, columns], each row's later columns put out where the call asks for it."""
    if not call.named.get("use_causal_mask"):
        return weights
    call.check_size(call.type_of(weights).shape[-2:])
    return attending.masked(call, weights, attending.without_future(call, weights), -1e9)


@layer("AdditiveAttention")
def additive_attention(call: LayerSite) -> View:
    """softmax(scale sum tanh(query + key)) value; Bahdanau et al., 2015."""
    views = call.views()
    for name in ("mask", "attention_mask", "query_mask"):
        if call.named.get(name) is not None:
            call.refuse("uses a mask, which is not supported")
    if any(call.rank(view) != 3 for view in views):
        call.refuse("attends to tensors of more than three axes, which is not supported")
    query, value = (call.plain(view) for view in views[:2])
    key = call.plain(views[2]) if len(views) > 2 else value
    wide = call.step("Unsqueeze", query, axes=[2]), call.step("Unsqueeze", key, axes=[1])
    bent = call.step("Tanh", call.step("Add", *wide))
    scale = call.weight("scale")
    if scale is not None:
        bent = call.step("Mul", bent, call.constant(scale, "scale"))
    weights = _without_future(call, call.step("ReduceSum", bent, axes=[-1], keepdims=0))
    return call.named_view(attending.attended(call, weights, value))


_OPERATOR = {"LSTM": "LSTM", "GRU": "GRU", "SimpleRNN": "RNN"}
_GATES = {"LSTM": INPUT_FORGET_CELL_OUTPUT, "GRU": (0, 1, 2), "SimpleRNN": (0,)}


@layer("LSTM", "GRU", "SimpleRNN")
def recurrent(call: LayerSite) -> View | list[View]:
    if len(call.views()) > 1 or call.named.get("initial_state") is not None:
        call.refuse("has an initial state, which is not supported")
    made, last = _run(call, call.x, call.shown.class_name, call.config, "cell")
    if call.config.get("return_sequences"):
        made = View(made, (1, 0, 2))
    else:
        made = call.named_view(last[0])
    return [made, *(call.named_view(each) for each in last)] if call.config.get("return_state") else made


@layer("Bidirectional")
def both_ways(call: LayerSite) -> View:
    inner = call.config["layer"]
    backward = call.config.get("backward_layer") or {
        **inner,
        "config": {**inner["config"], "go_backwards": not inner["config"].get("go_backwards")},
    }
    parts = []
    if len(call.views()) > 1 or call.named.get("initial_state") is not None:
        call.refuse("has initial states, which is not supported")
    for entry, part in ((inner, "forward_layer/cell"), (backward, "backward_layer/cell")):
        config = call.reading(entry["class_name"], entry["config"])
        made, last = _run(call, call.x, entry["class_name"], config, part)
        if config.get("return_sequences"):
            # What went backwards is turned round again, so that steps lie beside steps.
            parts.append(
                call.plain(View(reversed_along(call, made, [0]) if config.get("go_backwards") else made, (1, 0, 2)))
            )
        else:
            parts.append(last[0])
    mode = call.config.get("merge_mode", "concat")
    if mode == "concat":
        return call.named_view(call.step("Concat", *parts, axis=-1))
    if mode not in ("sum", "mul", "ave"):
        call.refuse(f"merges its directions by {mode}, which is not supported")
    made = call.step("Mul" if mode == "mul" else "Add", *parts)
    return call.named_view(call.step("Mul", made, call.number(0.5, made)) if mode == "ave" else made)


def _run(call: LayerSite, view: View, class_name: str, config: dict, part: str) -> tuple[str, list[str]]:
    """All outputs [steps, N, units], and the last states."""
    if class_name not in _OPERATOR:
        call.refuse(f"repeats a layer {class_name}, which is not supported")
    inner = {"SimpleRNN": ("tanh", None)}.get(class_name, ("tanh", "sigmoid"))
    if config.get("activation", "tanh") != inner[0] or (
        inner[1] and config.get("recurrent_activation", "sigmoid") != inner[1]
    ):
        call.refuse("has other activations than tanh and sigmoid inside, which is not supported")
    x = call.in_order(view, (1, 0, 2))
    if config.get("go_backwards"):
        x = reversed_along(call, x, [0])
    units = int(config["units"])
    order = _GATES[class_name]
    width = call.type_of(x).shape[2]
    kernel = call.needed("kernel", part, (width, len(order) * units))
    repeated = call.needed("recurrent_kernel", part, (units, len(order) * units))

    bias = call.weight("bias", part)
    attributes = {"hidden_size": units}
    if class_name == "GRU":
        attributes["linear_before_reset"] = int(config.get("reset_after", bias is not None and bias.ndim == 2))
    inputs = [
        x,
        *(
            call.constant(sorted_gates(array, order, -1).T[None], f"{part}{hint}")
            for array, hint in ((kernel, "input"), (repeated, "recurrent"))
        ),
    ]
    if bias is not None:
        both = bias if bias.ndim == 2 else np.stack([bias, np.zeros_like(bias)])
        inputs.append(call.constant(sorted_gates(both, order, -1).reshape(1, -1), f"{part}bias"))
    made, *states = call.several(_OPERATOR[class_name], *inputs, count=3 if class_name == "LSTM" else 2, **attributes)
    return call.step("Squeeze", made, axes=[1]), [call.step("Squeeze", state, axes=[0]) for state in states]
