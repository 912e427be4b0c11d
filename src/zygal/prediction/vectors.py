"""A model's output as it is, for each image: features for the next classifier, into Parquet or a NumPy array."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zygal.errors import EngineError, ImageError, OutputError, as_text, install_extra, without_secrets
from zygal.files.writing import scratch_folder, whole_file, write_text
from zygal.machine.pool import Pool
from zygal.prediction.blocks import Block, OfBlock, blocks_of, map_blocks
from zygal.prediction.classifier import Classifier

PARQUET, ARRAY = ".parquet", ".npy"


def vector_format(path: str | Path) -> str:
    """The format that a file's ending asks for. Raises OutputError if there is none, or what it takes is not
    installed."""
    ending = Path(path).suffix.lower()
    if ending not in (PARQUET, ARRAY):
        raise OutputError(f"{path} must end in .parquet or .npy: the ending says which format to write the vectors in.")
    if ending == PARQUET:
        try:
            import pyarrow.parquet  # noqa: F401
        except ImportError as error:
            raise OutputError(
                f"{path} needs the package pyarrow, which is not installed; {install_extra('parquet')}, or write .npy."
            ) from error
    return ending


def names_file(path: str | Path) -> str:
    """Beside an array: the file that each row belongs to, one per line."""
    return f"{path}.names.txt"


@dataclass(frozen=True)
class Vectors(OfBlock):
    """One block. vectors: float32 [read, numbers], in the order of the paths without an error. errors: by path."""

    paths: list[str]
    vectors: np.ndarray
    errors: dict[str, str]
    missing: Sequence[str] = ()


@dataclass(frozen=True)
class MakeVectors:
    """Work for a pool: a block of files to their vectors."""

    classifier: Classifier

    def __call__(self, block: Block) -> Vectors:
        """The model's outputs for a block's images."""
        tensors, errors, missing = [], {}, []
        for place, path in enumerate(block.names):
            try:
                tensors.append(block.read(place, self.classifier).tensor)
            except ImageError as fault:
                errors[path] = str(fault)
                missing += [path] if block.state(place).is_missing else []
        made = self.classifier.raw_output(tensors) if tensors else np.zeros((0, 0), np.float32)
        made = made.reshape(len(made), -1).astype(np.float32)
        readable = [path for path in block.names if path not in errors]
        for path, row in zip(readable, made):
            if not np.isfinite(row).all():
                errors[path] = "its vector is NaN or infinite"
        kept = [index for index, path in enumerate(readable) if path not in errors]
        return Vectors(list(block.names), made[kept], errors, missing)


def write_vectors(
    path: str | Path,
    classifier: Classifier,
    names: Iterable[str],
    pool: Pool | None = None,
    advance: Callable[[int], None] = lambda more: None,
) -> tuple[int, int, list[tuple[str, str]]]:
    """Writes the vectors whole or not at all: how many, of how many numbers, and (path, reason) of files that were not
    read.

    Raises EngineError, OutputError, or ImageError if no image could be read.
    """
    rows = numbers = 0
    unreadable: list[tuple[str, str]] = []
    opened = _parquet if vector_format(path) == PARQUET else _array
    with opened(path) as add:
        for block in map_blocks(pool, MakeVectors(classifier), blocks_of(names)):
            if len(block.vectors):
                if numbers not in (0, block.vectors.shape[1]):
                    raise EngineError(
                        f"{classifier.name} returns vectors of {block.vectors.shape[1]} and of {numbers} numbers."
                    )
                numbers = block.vectors.shape[1]
            add(block)
            rows += len(block.vectors)
            unreadable += block.errors.items()
            advance(len(block.paths))
        if not rows:
            first = f" (the first is {unreadable[0][0]}: {unreadable[0][1]})" if unreadable else ""
            raise ImageError(f"none of the {len(unreadable)} files is a readable image{first}; check the paths.")
    return rows, numbers, unreadable


def _named(text: str) -> str:
    """As it stands in a file: what is no text spelt out, without the passwords and signatures of URLs."""
    return without_secrets(as_text(text))


@contextmanager
def _parquet(path: str | Path) -> Iterator[Callable[[Vectors], None]]:
    """Columns path, vector and error; a vector is null where there is an error."""
    import pyarrow
    import pyarrow.parquet

    schema = pyarrow.schema(
        [("path", pyarrow.string()), ("vector", pyarrow.list_(pyarrow.float32())), ("error", pyarrow.string())]
    )
    with whole_file(path) as file, pyarrow.parquet.ParquetWriter(file, schema) as writer:

        def add(block: Vectors) -> None:
            rows = iter(block.vectors)
            vectors = [None if each in block.errors else next(rows) for each in block.paths]
            errors = [block.errors.get(each) and _named(block.errors[each]) for each in block.paths]
            writer.write_table(pyarrow.table([[_named(each) for each in block.paths], vectors, errors], schema=schema))

        yield add


@contextmanager
def _array(path: str | Path) -> Iterator[Callable[[Vectors], None]]:
    """float32 [read images, numbers], and their names in a file beside it."""
    names: list[str] = []
    with scratch_folder() as folder, (folder / "rows").open("w+b") as rows:

        def add(block: Vectors) -> None:
            rows.write(np.ascontiguousarray(block.vectors).tobytes())
            names.extend(_named(each) for each in block.paths if each not in block.errors)

        yield add
        size = rows.tell()
        rows.seek(0)
        with whole_file(path) as file:
            header = {"descr": "<f4", "fortran_order": False, "shape": (len(names), size // 4 // len(names))}
            np.lib.format.write_array_header_1_0(file, header)
            while piece := rows.read(1 << 24):
                file.write(piece)
    write_text(names_file(path), "".join(f"{name}\n" for name in names))
