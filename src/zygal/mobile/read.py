"""A mobile flatbuffer as plain records, everything checked that a reader relies on. Weights stay views of the mapped
file."""

from __future__ import annotations

import mmap
import zipfile
from math import prod
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np

from zygal.errors import FileError, SourceError, some_of
from zygal.files.opening import open_file
from zygal.mobile.model import MobileModel, Operator, Quantization, Signature, Tensor
from zygal.mobile.schema import DTYPES, IDENTIFIER, OPERATORS, OPTION_NUMBERS, OTHER_OPERATORS, TABLES, VERSION
from zygal.mobile.sparse import densified
from zygal.mobile.tables import Decoder

MOST_AXES = 16
STORED = ("int4", "int8", "uint8", "int16")
"""Dtypes in which whole numbers stand for real ones."""
LARGEST_MEMBER = 1 << 24
_WIDTHS = {
    "float32": 4,
    "float16": 2,
    "int32": 4,
    "uint8": 1,
    "int64": 8,
    "bool": 1,
    "int16": 2,
    "int8": 1,
    "float64": 8,
    "uint64": 8,
    "uint32": 4,
    "uint16": 2,
}


def read_model(path: str | Path) -> MobileModel:
    """The model in a file. Raises FileError if it is damaged, SourceError if it is of a form that is not supported."""
    data = _mapped(path)
    if len(data) < 8 or bytes(data[4:8]) != IDENTIFIER:
        raise FileError(
            f"{path} is not a mobile flatbuffer (its bytes 4 to 7 are not {IDENTIFIER.decode()}); check the path."
        )
    decoder = Decoder(data, str(path))
    root = decoder.root("Model")
    return _Reader(path, data, decoder, root).model()


def _mapped(path: str | Path) -> memoryview:
    with open_file(path) as file:
        try:
            return memoryview(mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ))
        except ValueError as fault:
            raise FileError(f"{path} is an empty file; copy it again from its source.") from fault
        except OSError:  # A pipe, for instance.
            return memoryview(file.read())


class _Reader:
    def __init__(self, path: str | Path, data: memoryview, decoder: Decoder, root: SimpleNamespace):
        self._path, self._data, self._decoder, self._root = Path(path), data, decoder, root

    def model(self) -> MobileModel:
        root = self._root
        if root.version != VERSION:
            raise SourceError(
                f"{self._path} is of version {root.version} of the mobile format; version {VERSION} is supported: save "
                "the model again with a current release of its framework."
            )
        if root.external_buffers or root.external_groups:
            raise SourceError(
                f"{self._path} keeps weights in other files, which is not supported; save the model as one file."
            )
        if root.subgraphs is None or not root.subgraphs:
            raise self._decoder.damaged("it holds no graph")
        self._check_operators()
        main = self._main()
        graph = root.subgraphs[main]
        tensors = [self._tensor(each, number) for number, each in enumerate(graph.tensors or ())]
        count = len(tensors)
        operators = [self._operator(each, count) for each in graph.operators or ()]
        inputs, outputs = (self._numbers(each, count) for each in (graph.inputs, graph.outputs))
        self._check_flow(tensors, operators, inputs, outputs)
        signatures = [self._signature(each, count) for each in root.signatures or () if each.subgraph == main]
        metadata = {each.name: self._bytes(each.buffer, f"metadata {each.name}") for each in root.metadata or ()}
        return MobileModel(tensors, operators, inputs, outputs, signatures, metadata, root.description, self._files())

    def _check_flow(
        self, tensors: list[Tensor], operators: list[Operator], inputs: list[int], outputs: list[int]
    ) -> None:
        """Raises FileError if an operator reads what nothing before it makes, or makes what is there already: runtimes
        follow such numbers into nowhere."""
        held = {
            number
            for number, each in enumerate(tensors)
            if each.data is not None or each.is_variable or prod(each.shape) == 0
        }
        made = set(inputs)
        for place, operator in enumerate(operators):
            for number in operator.inputs:
                if number >= 0 and number not in held and number not in made:
                    raise self._decoder.damaged(
                        f"operator {place}, {operator.name}, reads {tensors[number].name}, which nothing "
                        f"before it makes"
                    )
            for number in operator.outputs:
                if number in made or tensors[number].data is not None:
                    raise self._decoder.damaged(
                        f"operator {place}, {operator.name}, makes {tensors[number].name}, which is there already"
                    )
            made.update(operator.outputs)
        for number in outputs:
            if number not in held and number not in made:
                raise self._decoder.damaged(f"its output {tensors[number].name} is made by nothing")

    def _main(self) -> int:
        """The graph that is run: the one of the signatures, else the first."""
        called = {each.subgraph for each in self._root.signatures or ()}
        if len(called) > 1:
            raise SourceError(f"{self._path} has signatures of several graphs; save the classifier alone.")
        main = next(iter(called), 0)
        if main >= len(self._root.subgraphs):
            raise self._decoder.damaged(f"a signature names graph {main} of {len(self._root.subgraphs)}")
        return main

    def _check_operators(self) -> None:
        """Raises SourceError naming what is not a plain operator: custom ones, control flow, calls between graphs."""
        names = [self._name_of(code) for code in self._root.operator_codes or ()]
        custom = [name for name, known in names if known is None]
        if custom:
            raise SourceError(
                f"{self._path} uses custom operators ({some_of(custom, 12)}), whose meaning the file does not "
                f"hold; express them by plain ones."
            )
        flow = [name for name, _ in names if name in ("IF", "WHILE", "CALL", "CALL_ONCE")]
        if flow:
            raise SourceError(
                f"{self._path} uses control flow ({some_of(flow)}) between {len(self._root.subgraphs)} graphs, which "
                "an artifact does not have; save the model without it."
            )

    def _name_of(self, code: SimpleNamespace) -> tuple[str, bool | None]:
        """An operator's name, and whether it is known; None for a custom one."""
        number = max(code.code, code.deprecated_code)
        if number == 32 or code.custom_code:
            return code.custom_code or "without a name", None
        if number in OPERATORS:
            return OPERATORS[number][0], True
        return OTHER_OPERATORS.get(number, f"number {number}"), False

    def _numbers(self, listed: Any, count: int, optional: bool = False) -> list[int]:
        numbers = [] if listed is None else listed.tolist()
        for each in numbers:
            if not (-1 if optional else 0) <= each < count:
                raise self._decoder.damaged(f"it names tensor {each} of {count}")
        return numbers

    def _signature(self, given: SimpleNamespace, count: int) -> Signature:
        for each in (*(given.inputs or ()), *(given.outputs or ())):
            if each.tensor >= count:
                raise self._decoder.damaged(f"the signature {given.key} names tensor {each.tensor} of {count}")
        return Signature(
            given.key, *({each.name: each.tensor for each in listed or ()} for listed in (given.inputs, given.outputs))
        )

    def _operator(self, given: SimpleNamespace, count: int) -> Operator:
        codes = self._root.operator_codes or ()
        if given.opcode_index >= len(codes):
            raise self._decoder.damaged(f"it uses operator {given.opcode_index} of {len(codes)}")
        code = codes[given.opcode_index]
        name, known = self._name_of(code)
        settings = OPERATORS[max(code.code, code.deprecated_code)][1] if known else None
        options = given.options
        if known and given.options_type and (settings is None or given.options_type != OPTION_NUMBERS[settings]):
            raise self._decoder.damaged(
                f"the settings of {name} are those of another operator (number {given.options_type})"
            )
        if known and (given.options_2_type or given.large_custom_size or given.custom_options is not None):
            raise SourceError(f"{self._path} gives {name} settings of its own, which are not supported.")
        found = dict(vars(options)) if options is not None else _defaults(settings) if known else {}
        return Operator(
            name, self._numbers(given.inputs, count, True), self._numbers(given.outputs, count), found, code.version
        )

    # Tensors

    def _tensor(self, given: SimpleNamespace, number: int) -> Tensor:
        dtype = DTYPES.get(given.type, f"type {given.type}")
        name = given.name or f"tensor {number}"
        shape = tuple(given.shape.tolist()) if given.shape is not None else ()
        if len(shape) > MOST_AXES or any(size < 0 for size in shape):
            raise self._decoder.damaged(f"{name} has the shape {list(shape[:MOST_AXES])}")
        signature = given.shape_signature
        if signature is not None and signature.size and signature.size != len(shape):
            raise self._decoder.damaged(f"{name} has a shape of {len(shape)} axes and a signature of {signature.size}")
        opened = tuple(axis for axis, size in enumerate([] if signature is None else signature.tolist()) if size < 0)
        if given.external_buffer:
            raise SourceError(f"{self._path} keeps the weights of {name} in another file, which is not supported.")
        tensor = Tensor(
            name,
            shape,
            dtype,
            opened,
            None,
            self._quantization(given.quantization, name, shape, dtype),
            given.is_variable,
        )
        content = self._bytes(given.buffer, name)
        if content is not None and content.size:
            tensor.data = self._numbers_of(tensor, content, given.sparsity)
        return tensor

    def _numbers_of(self, tensor: Tensor, content: np.ndarray, sparsity: SimpleNamespace | None) -> np.ndarray:
        """The numbers of a constant."""
        if tensor.dtype == "int4":
            return self._halves(tensor, content)
        if tensor.dtype not in _WIDTHS:
            # Text and the like: whoever uses it is refused by name.
            return np.zeros(0, np.uint8)
        if sparsity is not None:
            return densified(
                content,
                np.dtype(tensor.dtype),
                tensor.shape,
                sparsity,
                lambda what: self._decoder.damaged(f"{tensor.name} {what}"),
            )
        if content.size != prod(tensor.shape) * _WIDTHS[tensor.dtype]:
            raise self._decoder.damaged(
                f"{tensor.name} holds {content.size} bytes instead of the "
                f"{prod(tensor.shape) * _WIDTHS[tensor.dtype]} of its shape {list(tensor.shape)}"
            )
        return content.view(np.dtype(tensor.dtype).newbyteorder("<")).reshape(tensor.shape)

    def _halves(self, tensor: Tensor, content: np.ndarray) -> np.ndarray:
        """Signed numbers of 4 bits, two to a byte, the lower half first, as int8."""
        count = prod(tensor.shape)
        if content.size != (count + 1) // 2:
            raise self._decoder.damaged(f"{tensor.name} holds {content.size} bytes instead of {(count + 1) // 2}")
        both = np.stack([content << 4, content & 0xF0], -1).reshape(-1)[:count].view(np.int8) >> 4
        tensor.dtype = "int8"
        return both.reshape(tensor.shape)

    def _quantization(
        self, given: SimpleNamespace | None, name: str, shape: tuple[int, ...], dtype: str
    ) -> Quantization | None:
        if given is not None and given.details_type:
            raise SourceError(f"{self._path} quantises {name} in a way of its own, which is not supported.")
        if given is None or given.scale is None or not given.scale.size:
            return None
        scales = np.asarray(given.scale)
        if scales.size == 1 and scales[0] == 0 and dtype not in STORED:
            return None  # Some writers state so that there are no steps.
        zeros = (
            np.zeros(scales.size, np.int64)
            if given.zero_point is None or not given.zero_point.size
            else np.asarray(given.zero_point)
        )
        if zeros.size == 1:
            zeros = np.repeat(zeros, scales.size)
        # A channel whose weights are all zero has the scale 0 in the files of some writers.
        unusable = scales < 0 if scales.size > 1 else scales <= 0
        if zeros.size != scales.size or not np.isfinite(scales).all() or unusable.any():
            raise self._decoder.damaged(
                f"{name} has {scales.size} scales and {zeros.size} zero points, or a scale that is no positive number"
            )
        axis = given.quantized_dimension
        if scales.size > 1 and not (0 <= axis < len(shape) and shape[axis] == scales.size):
            raise self._decoder.damaged(f"{name} has {scales.size} scales along axis {axis} of {list(shape)}")
        return Quantization(scales, zeros, axis)

    def _bytes(self, number: int, what: str) -> np.ndarray | None:
        buffers = self._root.buffers or ()
        if number >= len(buffers):
            raise self._decoder.damaged(f"{what} is in buffer {number} of {len(buffers)}")
        given = buffers[number]
        # Large buffers lie behind the tables; 0 and 1 as a place mean that they do not.
        if given.offset > 1:
            if given.offset + given.size > len(self._data):
                raise self._decoder.damaged(
                    f"{what} lies at byte {given.offset} to {given.offset + given.size} of {len(self._data)}"
                )
            return np.frombuffer(self._data, np.uint8, given.size, given.offset)
        return given.data

    def _files(self) -> dict[str, bytes]:
        """The associated files: members of a zip archive that is appended to the flatbuffer."""
        try:
            with open_file(self._path) as file:
                if not zipfile.is_zipfile(file):
                    return {}
                with zipfile.ZipFile(file) as archive:
                    members = [each for each in archive.infolist() if each.file_size <= LARGEST_MEMBER][:64]
                    return {each.filename: archive.read(each)[:LARGEST_MEMBER] for each in members}
        except FileError:
            raise
        except Exception as fault:  # The library raises whatever comes of the damage.
            raise self._decoder.damaged(f"its associated files cannot be read ({fault})") from fault


def _defaults(settings: str | None) -> dict[str, Any]:
    """The settings of an operator that leaves all of them out."""
    return (
        {
            name: (default[0] if default else None if kind.startswith("[") else 0)
            for name, kind, *default in TABLES[settings]
            if name
        }
        if settings
        else {}
    )
