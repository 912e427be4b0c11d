"""Requests and answers of the open inference protocol, version 2 (REST), with its binary tensor extension."""

from __future__ import annotations

import json
import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from zygal.errors import EndpointError, shown
from zygal.files.documents import LONGEST_TEXT, Misfit, listed, maybe, parse_json, rebuilt, text, whole

HEADER_LENGTH = "Inference-Header-Content-Length"
BINARY_EXTENSION = "binary_tensor_data"
DTYPES = {
    "FP32": "float32",
    "FP16": "float16",
    "FP64": "float64",
    "UINT8": "uint8",
    "INT8": "int8",
    "INT16": "int16",
    "INT32": "int32",
    "INT64": "int64",
    "UINT16": "uint16",
    "UINT32": "uint32",
    "UINT64": "uint64",
    "BOOL": "bool",
}
NAMES = {dtype: name for name, dtype in DTYPES.items()}
MOST_NUMBERS = 50_000_000


@dataclass(frozen=True)
class Tensor:
    """An input or output as a service describes it. shape: -1 for an open size."""

    name: str
    datatype: str
    shape: tuple[int, ...]


@dataclass(frozen=True)
class Described:
    """What a service says of a model. versions: in its words; empty where it does not say."""

    name: str
    versions: tuple[str, ...]
    platform: str
    inputs: tuple[Tensor, ...]
    outputs: tuple[Tensor, ...]


@dataclass(frozen=True)
class Answer:
    """scores: what the output holds. version: of the model that answered, if the service says it."""

    scores: np.ndarray
    version: str | None


def described(content: bytes, where: str) -> Described:
    """The model that a metadata answer describes. Raises EndpointError."""
    document = parse_json(content, where, EndpointError)
    found = {
        name: rebuilt(document.get(name), rule, f"{where}: {name}", EndpointError) for name, rule in _DESCRIBED.items()
    }
    if not found["inputs"] or not found["outputs"]:
        raise EndpointError(f"{where} names no inputs or no outputs; it is not a model's description.")
    return Described(
        found["name"] or "",
        tuple(found["versions"] or ()),
        found["platform"] or "",
        tuple(found["inputs"]),
        tuple(found["outputs"]),
    )


def _tensor(value: Any) -> Tensor:
    if type(value) is not dict:
        raise Misfit("an object", value)
    shape = listed(whole(-1, 1 << 40), 16)(value.get("shape"))
    return Tensor(text(value.get("name"), 1000), text(value.get("datatype"), 20), tuple(shape))


_DESCRIBED = {
    "name": maybe(text),
    "versions": maybe(listed(text, 1000)),
    "platform": maybe(text),
    "inputs": listed(_tensor, 100),
    "outputs": listed(_tensor, 1000),
}


def request_of(input_name: str, output_name: str, array: np.ndarray, binary: bool) -> tuple[bytes, dict[str, str]]:
    """The body of a request for the scores of a batch, and its headers."""
    tensor: dict[str, Any] = {"name": input_name, "shape": list(array.shape), "datatype": NAMES[str(array.dtype)]}
    output: dict[str, Any] = {"name": output_name}
    if not binary:
        tensor["data"] = array.ravel().tolist()
        return json.dumps({"inputs": [tensor], "outputs": [output]}).encode(), {"Content-Type": "application/json"}
    data = np.ascontiguousarray(array).astype(array.dtype.newbyteorder("<"), copy=False).tobytes()
    tensor["parameters"], output["parameters"] = {"binary_data_size": len(data)}, {"binary_data": True}
    header = json.dumps({"inputs": [tensor], "outputs": [output]}).encode()
    return header + data, {"Content-Type": "application/octet-stream", HEADER_LENGTH: str(len(header))}


def answer_of(content: bytes, headers: Mapping[str, str], output_name: str, where: str) -> Answer:
    """What an answer says of one output. Raises EndpointError where it is not one, or its sizes do not fit."""
    length = headers.get(HEADER_LENGTH)
    if length is not None and (
        not (length.isascii() and length.isdigit() and len(length) < 16) or int(length) > len(content)
    ):
        raise EndpointError(f"{where}: {HEADER_LENGTH} is {shown(length)}, but the answer has {len(content)} bytes.")
    end = len(content) if length is None else int(length)
    if content.lstrip()[:1] == b"<":
        raise EndpointError(
            f"{where} is a web page, not an answer of the open inference protocol, version 2; check the address."
        )
    document = parse_json(content[:end], where, EndpointError)
    outputs = document.get("outputs")
    if type(outputs) is not list or not all(type(each) is dict for each in outputs):
        raise EndpointError(f"{where} has no list of outputs; is it the open inference protocol, version 2?")
    found, rest = None, content[end:]
    for each in outputs:
        size = (
            (each.get("parameters") or {}).get("binary_data_size")
            if type(each.get("parameters") or {}) is dict
            else None
        )
        data = None
        if size is not None:
            if type(size) is not int or not 0 <= size <= len(rest):
                raise EndpointError(
                    f"{where}: the output {shown(each.get('name'))} is said to have {shown(size)} bytes, but "
                    f"{len(rest)} are left."
                )
            data, rest = rest[:size], rest[size:]
        if each.get("name") == output_name:
            found = _array(each, data, f"{where}: output {output_name}")
    if found is None:
        raise EndpointError(
            f"{where} has no output {output_name}; it has "
            f"{', '.join(shown(each.get('name')) for each in outputs[:5]) or 'none'}."
        )
    version = document.get("model_version")
    return Answer(found, version if type(version) is str else None)


def _array(output: Mapping[str, Any], data: bytes | None, where: str) -> np.ndarray:
    dtype = DTYPES.get(output.get("datatype")) if type(output.get("datatype")) is str else None
    if dtype is None:
        raise EndpointError(
            f"{where} has the datatype {shown(output.get('datatype'))}, which is not one of {', '.join(DTYPES)}."
        )
    shape = rebuilt(output.get("shape"), listed(whole(0, 1 << 40), 16), f"{where}: shape", EndpointError)
    count = math.prod(shape)
    if count > MOST_NUMBERS:
        raise EndpointError(f"{where} has {count} numbers, more than {MOST_NUMBERS}.")
    if data is not None:
        if len(data) != count * np.dtype(dtype).itemsize:
            raise EndpointError(f"{where} has the shape {shape} of {output['datatype']}, but {len(data)} bytes.")
        return np.frombuffer(data, np.dtype(dtype).newbyteorder("<")).astype(dtype).reshape(shape)
    try:
        numbers = np.array(output.get("data"), dtype=dtype)
    except (TypeError, ValueError, OverflowError) as fault:
        raise EndpointError(f"{where} has data that are no list of numbers.") from fault
    if numbers.size != count:
        raise EndpointError(f"{where} has the shape {shape}, but {numbers.size} numbers.")
    return numbers.reshape(shape)


def fault_of(content: bytes) -> str:
    """What a service says is wrong, shortened; empty if it says nothing."""
    try:
        said = json.loads(content[:LONGEST_TEXT])
    except (ValueError, RecursionError):
        return ""
    said = said.get("error") if type(said) is dict else None
    return shown(said, 120) if said else ""
