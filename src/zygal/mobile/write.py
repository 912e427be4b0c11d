"""A mobile classifier to its file: the tables first, the weights behind them one after the other, associated files as a
zip at the end."""

from __future__ import annotations

import io
import struct
import zipfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np

from zygal.errors import ArtifactError
from zygal.files.writing import whole_file
from zygal.mobile.encoding import Encoder, Outside
from zygal.mobile.model import MobileModel, Operator, Quantization, Tensor
from zygal.mobile.schema import CODES, DTYPE_NUMBERS, IDENTIFIER, LARGEST_BYTES, OPERATORS, OPTION_NUMBERS, VERSION

ALIGNMENT = 16
"""Runtimes map weights from the file, and the schema promises them this."""
HIGHEST_OLD_CODE = 127
"""Operators with higher numbers carry this one in the field that older runtimes read."""
_CLOCK = (1980, 1, 1, 0, 0, 0)


def write_model(model: MobileModel, path: str | Path, check: Callable[[Path], None] | None = None) -> None:
    """Writes the file whole or not at all; the same model gives the same bytes.

    Raises ArtifactError if it would be larger than the format allows, OutputError if it cannot be written.
    """
    size = sum(tensor.data.nbytes for tensor in model.tensors if tensor.data is not None)
    if size > LARGEST_BYTES - (16 << 20):
        raise ArtifactError(
            f"{path} would be {size / 1e9:.1f} GB, but a mobile flatbuffer is at most 2 GB; write it with "
            f"--half, or as ONNX (a name that ends in .onnx)."
        )
    head, outside = _tables(model)
    with whole_file(path, check) as file:
        positions, place = {}, len(head)
        for field, payload in outside:
            place += -(place + 4) % ALIGNMENT
            positions[field] = place
            place += 4 + payload.size
        for field, place in positions.items():
            struct.pack_into("<I", head, field, place - field)
        file.write(head)
        for field, payload in outside:
            file.write(b"\0" * (positions[field] - file.tell()))
            file.write(struct.pack("<I", payload.size))
            for piece in payload.pieces():
                file.write(piece)
        if model.files:
            file.write(_zipped(model.files, file.tell()))


class _Array:
    """The bytes of an array, row-major and little-endian, a part at a time."""

    def __init__(self, array: np.ndarray):
        self._array, self.size = array, array.nbytes

    def pieces(self, most: int = 1 << 20) -> Iterator[memoryview]:
        ordered = np.ascontiguousarray(self._array).astype(self._array.dtype.newbyteorder("<"), copy=False).reshape(-1)
        for start in range(0, ordered.size, most):
            yield memoryview(ordered[start : start + most]).cast("B")


def _tables(model: MobileModel) -> tuple[bytearray, list[tuple[int, Any]]]:
    """The tables, and where in them the offset of each payload must be put."""
    buffers: list[dict[str, Any]] = [{}]
    numbers: dict[int, int] = {}

    def buffer_of(payload: Any) -> int:
        buffers.append({"data": Outside(payload)} if payload.size else {})
        return len(buffers) - 1

    tensors = []
    for tensor in model.tensors:
        if tensor.data is None:
            number = 0
        else:
            number = numbers.get(id(tensor.data)) or buffer_of(_Array(tensor.data))
            numbers[id(tensor.data)] = number
        tensors.append(_tensor(tensor, number))
    metadata = [
        {"name": name, "buffer": buffer_of(_Array(np.frombuffer(content, np.uint8)))}
        for name, content in model.metadata.items()
    ]
    codes = list(dict.fromkeys((each.name, each.version) for each in model.operators))
    graph = {
        "tensors": tensors,
        "inputs": model.inputs,
        "outputs": model.outputs,
        "name": "main",
        "operators": [_operator(each, codes.index((each.name, each.version))) for each in model.operators],
    }
    fields = {
        "version": VERSION,
        "operator_codes": [_code(name, version) for name, version in codes],
        "subgraphs": [graph],
        "description": model.description,
        "buffers": buffers,
        "metadata": metadata,
        "signatures": [
            {"key": each.key, "inputs": _map(each.inputs), "outputs": _map(each.outputs), "subgraph": 0}
            for each in model.signatures
        ],
    }
    encoder = Encoder()
    head = bytearray(encoder.finished(fields, "Model", IDENTIFIER))
    return head, encoder.outside(len(head))


def _tensor(tensor: Tensor, buffer: int) -> dict[str, Any]:
    fields = {
        "shape": tensor.shape,
        "type": DTYPE_NUMBERS[tensor.dtype],
        "buffer": buffer,
        "name": tensor.name,
        "has_rank": True,
        "is_variable": tensor.is_variable,
    }
    if tensor.open_axes:
        fields["shape_signature"] = [-1 if size is None else size for size in tensor.sizes]
    if tensor.quantization is not None:
        fields["quantization"] = _quantization(tensor.quantization)
    return fields


def _quantization(given: Quantization) -> dict[str, Any]:
    return {"scale": given.scales, "zero_point": given.zero_points, "quantized_dimension": given.axis}


def _operator(operator: Operator, code: int) -> dict[str, Any]:
    fields: dict[str, Any] = {"opcode_index": code, "inputs": operator.inputs, "outputs": operator.outputs}
    settings = OPERATORS[CODES[operator.name]][1]
    if settings is not None:
        fields.update(options_type=OPTION_NUMBERS[settings], options=operator.options)
    return fields


def _code(name: str, version: int) -> dict[str, Any]:
    code = CODES[name]
    return {"deprecated_code": min(code, HIGHEST_OLD_CODE), "code": code, "version": version}


def _map(names: Any) -> list[dict[str, Any]]:
    return [{"name": name, "tensor": number} for name, number in names.items()]


def _zipped(files: dict[str, bytes], offset: int) -> bytes:
    """A zip archive whose places count from the beginning of the file that it is appended to; without a clock."""
    content = io.BytesIO()
    with zipfile.ZipFile(_Behind(content, offset), "w", zipfile.ZIP_STORED) as archive:
        for name, data in files.items():
            archive.writestr(zipfile.ZipInfo(name, _CLOCK), data)
    return content.getvalue()


class _Behind:
    """A file that begins where another ends."""

    def __init__(self, content: io.BytesIO, offset: int):
        self._content, self._offset = content, offset
        self.write: Callable[[bytes], int] = content.write
        self.flush = content.flush

    def tell(self) -> int:
        return self._content.tell() + self._offset

    def seek(self, place: int, whence: int = 0) -> int:
        return self._content.seek(place - self._offset if whence == 0 else place, whence) + self._offset
