"""What the framework pickles, as data: dictionaries of tensors, and the objects of its scripted archives.

A tensor is a call of a rebuilding function with a storage, which the pickle names by a persistent id: here it becomes a
`StoredTensor`, the place of its bytes. Two containers hold such pickles: a zip archive (`NAME/data.pkl` and one member
a storage), and the oldest form, one file of five pickles followed by the storages.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np

from zygal.errors import SourceError, shown
from zygal.files import kinds
from zygal.files.mapped import MappedZip, open_mapped
from zygal.files.opening import open_file
from zygal.files.pickles import LARGEST_PICKLE, Dialect, Misuse, Name, Ordered, Record, read_pickle
from zygal.sources.pytorch.tensors import SCALAR_TYPES, WIDTHS, RepeatedBytes, StoredTensor

LEGACY_MAGIC = 0x1950A86A20F9469CFC6C
"""The first of the pickles of the oldest form."""
_LEGACY_PROTOCOL = 1001
_STORAGES = {
    "Float": 7,
    "Double": 8,
    "Half": 6,
    "BFloat16": 13,
    "Byte": 1,
    "Char": 2,
    "Short": 3,
    "Int": 4,
    "Long": 5,
    "Bool": 12,
}
_BY_NAME = {f"torch.{name}Storage": number for name, number in _STORAGES.items()}
UNTYPED = "torch.storage.UntypedStorage"
_DTYPES = {f"torch.{name}": number for number, name in SCALAR_TYPES.items()}


@dataclass(frozen=True)
class Storage:
    """A run of bytes that tensors lie in. scalar_type: None where the tensor says it. count: of elements."""

    key: str
    scalar_type: int | None
    count: int


def _storage(identity: Any) -> Storage:
    """A storage by its persistent id: ("storage", type, key, device, count), with a part of another one in the oldest
    form."""
    if type(identity) is not tuple or len(identity) not in (5, 6) or identity[0] != "storage":
        raise Misuse(f"names an object outside of it, {shown(identity)}")
    _, kind, key, _, count = identity[:5]
    if not isinstance(kind, Name) or kind.full not in (*_BY_NAME, UNTYPED):
        raise Misuse(f"names a storage of the type {kind.full if isinstance(kind, Name) else shown(kind)}")
    if len(identity) == 6 and identity[5] is not None:
        raise Misuse("names a part of another storage")
    if not isinstance(key, (str, int)) or type(count) is not int or count < 0:
        raise Misuse(f"names a storage {shown(key)} of {shown(count)} elements")
    return Storage(str(key), _BY_NAME.get(kind.full), count)


def _tensor(storage: Any, offset: Any, sizes: Any, strides: Any, *rest: Any) -> StoredTensor:
    if not isinstance(storage, Storage) or storage.scalar_type is None:
        raise Misuse("makes a tensor of something that is no typed storage")
    return _placed(storage, storage.scalar_type, offset, sizes, strides, bool(rest and rest[0] is True))


def _tensor_with_dtype(
    storage: Any, offset: Any, sizes: Any, strides: Any, requires_grad: Any, _hooks: Any, dtype: Any, *_rest: Any
) -> StoredTensor:
    number = _DTYPES.get(dtype.full) if isinstance(dtype, Name) else None
    if number is None or not isinstance(storage, Storage):
        raise Misuse(f"makes a tensor of the dtype {shown(getattr(dtype, 'full', dtype))}")
    return _placed(storage, number, offset, sizes, strides, requires_grad is True)


def _placed(storage: Storage, number: int, offset: Any, sizes: Any, strides: Any, gradient: bool) -> StoredTensor:
    numbers = (offset, *sizes, *strides)
    if not all(type(each) is int and 0 <= each < 1 << 48 for each in numbers) or len(sizes) > 12:
        raise Misuse("makes a tensor of sizes that are no whole numbers")
    return StoredTensor(storage.key, number, tuple(sizes), tuple(strides), offset, requires_grad=gradient)


def _parameter(tensor: Any, requires_grad: Any, _hooks: Any, _attributes: Any = None) -> StoredTensor:
    if not isinstance(tensor, StoredTensor):
        raise Misuse("makes a parameter of something that is no tensor")
    return replace(tensor, trained=True, requires_grad=requires_grad is True)


def _ordered(pairs: Any = ()) -> Ordered:
    if type(pairs) not in (list, tuple) or not all(type(each) in (list, tuple) and len(each) == 2 for each in pairs):
        raise Misuse("makes an ordered dictionary of something that is no list of pairs")
    return Ordered(pairs)


def _list_of(values: Any) -> list:
    if type(values) not in (list, tuple):
        raise Misuse("makes a list of something that is none")
    return list(values)


FUNCTIONS: Mapping[str, Callable[..., Any]] = {
    "collections.OrderedDict": _ordered,
    "torch.Size": lambda sizes: tuple(_list_of(sizes)),
    "torch._utils._rebuild_tensor": _tensor,
    "torch._utils._rebuild_tensor_v2": _tensor,
    "torch._utils._rebuild_tensor_v3": _tensor_with_dtype,
    "torch._utils._rebuild_parameter": _parameter,
    # Attributes that code hung on a parameter: they are no part of its numbers.
    "torch._utils._rebuild_parameter_with_state": _parameter,
    "torch.jit._pickle.build_intlist": _list_of,
    "torch.jit._pickle.build_doublelist": _list_of,
    "torch.jit._pickle.build_boollist": _list_of,
    "torch.jit._pickle.build_tensorlist": _list_of,
    "torch.jit._pickle.restore_type_tag": lambda value, tag: value,
}
"""What the framework's own calls stand for. Each makes plain data of plain data."""
RECORDS = (
    "__torch__.",
    "torch.device",
    "argparse.Namespace",
    "numpy.core.multiarray.scalar",
    "numpy._core.multiarray.scalar",
    "numpy.dtype",
    "_codecs.encode",
)
"""Objects that are kept as records: modules of a scripted archive, and what training scripts put beside weights."""

DIALECT = Dialect(
    FUNCTIONS,
    lambda name: name.startswith(RECORDS),
    _storage,
    "save module.state_dict(), or capture the model with torch.export.save",
)


class Saved:
    """What one call of the framework's `save` wrote.

    content: plain data with a StoredTensor for each tensor. tensors: all of them, by the keys that lead to them, each
    checked against its storage. Like a `ProgramArchive` it gives `read_tensor` the bytes of a member, here a storage.
    """

    def __init__(
        self, path: Path, content: Any, size_of: Callable[[str], int | None], bytes_of: Callable[[str], np.ndarray]
    ):
        self.path, self.content, self._bytes_of = path, content, bytes_of
        self.tensors = dict(_tensors_in(content))
        self._read: dict[str, np.ndarray] = {}
        repeated = RepeatedBytes(path)
        for name, stored in self.tensors.items():
            size = size_of(stored.member)
            if size is None:
                raise SourceError(f"{path} is damaged: the tensor {shown(name)} has no storage {shown(stored.member)}.")
            repeated.check(name, stored, size)

    def member_bytes(self, member: str) -> np.ndarray:
        """The bytes of a storage, uint8. Raises SourceError."""
        if member not in self._read:
            self._read[member] = self._bytes_of(member)
        return self._read[member]


def _tensors_in(value: Any, name: str = "") -> Iterator[tuple[str, StoredTensor]]:
    """All tensors in plain data, which `read_pickle` has found to be finite."""
    if isinstance(value, StoredTensor):
        yield name, value
    elif isinstance(value, Record):
        yield from _tensors_in(value.arguments, name)
        yield from _tensors_in(value.state, name)
    elif isinstance(value, (dict, list, tuple)):
        for key, each in value.items() if isinstance(value, dict) else enumerate(value):
            yield from _tensors_in(each, f"{name}.{key}" if name else str(key))


def only_folder(archive: MappedZip) -> str:
    """The folder that all members of an archive of the framework lie in. Raises SourceError."""
    roots = {name.partition("/")[0] for name in archive.names}
    if len(roots) != 1:
        raise SourceError(f"{archive.path} is damaged: it has {len(roots)} folders at its top, where one is expected.")
    (root,) = roots
    order = f"{root}/byteorder"
    if archive.size_of(order) and bytes(archive.member_bytes(order, 100)) != b"little":
        raise SourceError(f"{archive.path} was written on a machine of the other byte order; save it on a usual one.")
    return root


def saved_in(archive: MappedZip, member: str = "data.pkl", storages: str = "data") -> Saved:
    """What a zip archive of the framework holds in its only folder. Raises SourceError."""
    root = only_folder(archive)
    data = bytes(archive.member_bytes(f"{root}/{member}", LARGEST_PICKLE))

    def placed(identity: Any) -> Storage:
        storage = _storage(identity)
        return replace(storage, key=f"{root}/{storages}/{storage.key}")

    content = read_pickle(data, str(archive.path), replace(DIALECT, persistent=placed), SourceError)
    return Saved(Path(archive.path), content, archive.size_of, archive.member_bytes)


def legacy_saved(file: BinaryIO, path: Path) -> Saved:
    """The oldest form: magic number, protocol, system, the object and the storages' keys, each a pickle; then for each
    storage the count of its elements in 8 bytes, and the elements. Raises SourceError."""
    size = os.fstat(file.fileno()).st_size
    where = str(path)
    magic, protocol, system = (read_pickle(file, where, Dialect(), SourceError) for _ in range(3))
    if magic != LEGACY_MAGIC or protocol != _LEGACY_PROTOCOL or not isinstance(system, dict):
        raise SourceError(f"{path} is no file of weights of PyTorch: its beginning is not the one that it writes.")
    if system.get("little_endian") is not True:
        raise SourceError(f"{path} was written on a machine of the other byte order; save it on a usual one.")
    found: dict[str, Storage] = {}

    def remembered(identity: Any) -> Storage:
        storage = _storage(identity)
        found[storage.key] = storage
        return storage

    dialect = replace(DIALECT, persistent=remembered)
    content = read_pickle(file, where, dialect, SourceError)
    keys = read_pickle(file, where, Dialect(), SourceError)
    places: dict[str, tuple[int, int]] = {}
    for key in keys if type(keys) is list else [None]:
        storage = found.get(key) if isinstance(key, str) else None
        if storage is None:
            raise SourceError(f"{path} is damaged: it lists a storage {shown(key)} that no tensor lies in.")
        count = int.from_bytes(file.read(8), "little")
        start, length = file.tell(), count * WIDTHS[storage.scalar_type or 1]
        if count != storage.count or start + length > size:
            raise SourceError(f"{path} is truncated or damaged: a storage of {storage.count} elements is not whole.")
        places[storage.key] = (start, length)
        file.seek(length, os.SEEK_CUR)
    mapped = np.memmap(path, np.uint8, "r")

    return Saved(
        path,
        content,
        lambda key: places[key][1] if key in places else None,
        lambda key: mapped[places[key][0] : sum(places[key])],
    )


@contextmanager
def open_saved(path: str | Path):
    """The content of a file that the framework's `save` wrote, in either form. Raises FileError or SourceError."""
    path = Path(path)
    with open_file(path) as file:
        zipped = file.read(4) == b"PK\x03\x04"
        file.seek(0)
        if not zipped:
            yield legacy_saved(file, path)
            return
    with open_mapped(path, kinds.TORCH_PICKLE) as archive:
        yield saved_in(archive)
