"""The families of sources: for each how its files are recognised, read, described and run live, and which options it
honours.

Everything that must know what a source is asks this table. Nothing here imports a framework, or more than one reader at
a time.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from importlib import import_module
from pathlib import Path
from typing import Any

from zygal.errors import SourceError
from zygal.files import kinds
from zygal.files.kinds import Peek


@dataclass(frozen=True)
class Reading:
    """What can be asked of a reader.

    output: one of the model's outputs by name; the one that looks like class scores unless given. classes: how many
    classes there are, if it is known. widen: what is stored in few bits is computed in float32. image_shape: the shape
    of one image's tensor, for models that leave it open. signature: of a folder with several. input: where the images
    come in, for graphs with several places. weights: their file, for sources that are a graph alone.
    """

    output: str | None = None
    classes: int | None = None
    image_shape: tuple[int, ...] | None = None
    signature: str | None = None
    input: str | None = None
    widen: bool = False
    weights: Path | None = None


@dataclass(frozen=True)
class Family:
    """One kind of source.

    name: the framework's. kinds: of `zygal.files.kinds`, what it reads. recognise: which of them a file is, or None.
    reader: the module whose `read(path, reading)` gives a Source and whose `facts(path, reading)` says what is in a
    file. engine: the class that runs a file live, made with (path, reading, model). refused: the options that it does
    not honour, each with the reason. files: what a source consists of. model_class: of the objects that a live function
    may return, and builder: the module that loads their weights and saves them; None if no function builds such
    sources. parts: what `survey` counts. states_shape: whether a file says of which shape its images are.
    takes_weights: whether the weights are in a file of their own, which can be named.
    """

    name: str
    kinds: tuple[str, ...]
    recognise: Callable[[Peek], str | None]
    reader: str
    engine: str
    extra: str
    refused: Mapping[str, str] = field(default_factory=dict)
    files: Callable[[Path], tuple[str, ...]] = lambda path: (str(path),)
    model_class: str | None = None
    builder: str | None = None
    parts: str = "operator"
    states_shape: bool = True
    takes_weights: bool = False

    @contextmanager
    def read(self, path: str | Path, reading: Reading) -> Iterator[Any]:
        """A `sources.Source`, open as long as the block lasts. Raises FileError or SourceError."""
        with import_module(self.reader).read(path, reading) as source:
            yield source

    def facts(self, path: str | Path, reading: Reading) -> Any:
        """`sources.SourceFacts`: what a file says of itself. Raises FileError or SourceError."""
        return import_module(self.reader).facts(path, reading)

    def live_engine(self, path: str | Path, reading: Reading, model: Any = None) -> Any:
        """An `engines.engine.LiveEngine`. model: the framework's own object, where a function built it. Raises
        EngineError or SourceError."""
        module, _, name = self.engine.partition(":")
        return getattr(import_module(module), name)(path, reading, model)

    def refuse_options(self, where: str, given: Mapping[str, Any]) -> None:
        """Raises SourceError naming the first option that is given and not honoured. given: options with their
        values."""
        for option, value in given.items():
            if value and option in self.refused:
                raise SourceError(f"{option} does not apply to {where}: {self.refused[option]}; leave it out.")


def _is_program(peek: Peek) -> str | None:
    if peek.members is None:
        return None
    tails = {name.partition("/")[2] for name in peek.members}
    flat = "serialized_exported_program.json" in peek.members
    if flat or "archive_format" in tails or any(tail.startswith("models/") for tail in tails):
        return kinds.PROGRAM
    # Cut off or damaged: the reader gives the sentence.
    first = peek.members[0] if peek.damaged else ""
    return kinds.PROGRAM if "/data/" in first or "/models/" in first else None


def _is_scripted(peek: Peek) -> str | None:
    tails = {name.partition("/")[2] for name in peek.members or ()}
    scripted = "data.pkl" in tails and any(tail.startswith("code/") for tail in tails)
    return kinds.TORCH_SCRIPT if scripted else None


def _is_keras(peek: Peek) -> str | None:
    if peek.head.startswith(b"\x89HDF\r\n\x1a\n"):
        return kinds.HDF5
    if peek.members is not None:
        whole = "config.json" in peek.members and "model.weights.h5" in peek.members
        begins = peek.damaged and peek.members[0].startswith(("metadata.json", "config.json", "model.weights.h5"))
        return kinds.KERAS_ARCHIVE if whole or begins else None
    return kinds.WEB_LAYERS if _is_web_model(peek) and b'"model_config"' in peek.text else None


def _is_tensorflow(peek: Peek) -> str | None:
    if any(name in peek.folder for name in ("saved_model.pb", "saved_model.pbtxt")):
        return kinds.SAVED_MODEL
    # A saved model is a message whose first field is its version, 1, and the second a list of graphs.
    if peek.head.startswith(b"\x08\x01\x12"):
        return kinds.SAVED_MODEL
    # A graph is a message of nodes, each with its name and then its operator.
    if peek.head[:1] == b"\x0a" and any(
        each in peek.head for each in (b"\x12\x0bPlaceholder", b"\x12\x05Const", b"\x12\x04NoOp")
    ):
        return kinds.FROZEN_GRAPH
    if _is_web_model(peek):
        return kinds.WEB_GRAPH if b'"node"' in peek.text else None
    text = peek.head.lstrip()
    if text.startswith((b"node {", b"node{", b"saved_model_schema_version:")):
        return kinds.FROZEN_GRAPH if text.startswith(b"node") else kinds.SAVED_MODEL
    return None


def _is_mobile(peek: Peek) -> str | None:
    return kinds.MOBILE if peek.head[4:8] == b"TFL3" else None


def _is_onnx(peek: Peek) -> str | None:
    """An ONNX file is a protobuf message that begins with the field ir_version (number 1, a varint)."""
    head = peek.head
    if len(head) < 3 or head[0] != 0x08 or not 0 < head[1] < 0x20:
        return None
    # What follows is one of the model's fields of text, messages or its version.
    return kinds.ARTIFACT if head[2] in (0x12, 0x1A, 0x22, 0x28, 0x32, 0x3A, 0x42, 0x72) else None


def _is_symbol(peek: Peek) -> str | None:
    begins = peek.head.lstrip()[:1] == b"{" and b'"nodes"' in peek.head[:200]
    return kinds.SYMBOL if begins and b'"op"' in peek.head else None


def _is_web_model(peek: Peek) -> bool:
    return peek.head.lstrip()[:1] == b"{" and b'"modelTopology"' in peek.text


def _saved_model_files(path: Path) -> tuple[str, ...]:
    """A folder's own files in a fixed order; of one file that file."""
    if not path.is_dir():
        return _with_shards(path)
    names = [path / name for name in ("saved_model.pb", "saved_model.pbtxt") if (path / name).is_file()]
    variables = path / "variables"
    names += (
        sorted(each for each in variables.iterdir() if each.name.startswith("variables.")) if variables.is_dir() else []
    )
    return tuple(map(str, names))


def is_shard(file: str) -> bool:
    """Whether a file holds variables whose checksums stand in the table beside it; each is checked when it is read."""
    return ".data-" in Path(file).name and Path(file).parent.name == "variables"


def _with_shards(path: Path) -> tuple[str, ...]:
    """A file, and the shards of weights that a web model names."""
    if not _is_web_model(Peek.at(path)):
        return (str(path),)
    from zygal.files.web_weights import shard_paths

    return (str(path), *map(str, shard_paths(path)))


def _with_parameters(path: Path) -> tuple[str, ...]:
    """A symbol file, and the parameters beside it of the highest epoch."""
    return (str(path), str(import_module("zygal.sources.mxnet.parameters").parameters_beside(path)))


def _with_weights_beside(path: Path) -> tuple[str, ...]:
    """An ONNX file, and the files that its weights are in."""
    return (str(path), *map(str, import_module("zygal.onnx.read").files_beside(path)))


_NOTHING_STORED = {"--widen": "only mobile flatbuffers store numbers in few bits"}
_CAPTURED = "a captured program has one graph with one input"
FAMILIES: tuple[Family, ...] = (
    Family(
        "PyTorch", (kinds.PROGRAM,), _is_program, "zygal.sources.pytorch.reader",
        "zygal.engines.pytorch:PyTorchEngine", "torch",
        {"--shape": "a captured program states the shape of its images", "--signature": _CAPTURED, "--input": _CAPTURED,
         "--write-inlet": "a captured program holds no steps before its tensor", **_NOTHING_STORED},
        model_class="torch.nn.Module", builder="zygal.sources.pytorch.live",
    ),
    Family(
        "PyTorch", (kinds.TORCH_SCRIPT,), _is_scripted, "zygal.sources.pytorch.scripted.reader",
        "zygal.engines.scripted:ScriptedEngine", "torch",
        {"--signature": "a scripted archive is called in one way", "--input": _CAPTURED,
         "--write-inlet": "a scripted archive holds no steps before its tensor", **_NOTHING_STORED},
        states_shape=False,
    ),
    Family(
        "Keras", (kinds.KERAS_ARCHIVE, kinds.HDF5, kinds.WEB_LAYERS), _is_keras, "zygal.sources.keras.reader",
        "zygal.engines.keras:KerasEngine", "keras",
        {"--keep-batch": "a Keras model takes any number of images, so no batch is fixed",
        "--signature": "a Keras model has no signatures",
         "--input": "a Keras model names its one input",
         "--write-inlet": "its preprocessing layers are converted with it", **_NOTHING_STORED},
        files=_with_shards, model_class="keras.Model", builder="zygal.sources.keras.live", parts="layer",
    ),
    Family(
        "TensorFlow", (kinds.SAVED_MODEL, kinds.FROZEN_GRAPH, kinds.WEB_GRAPH), _is_tensorflow,
        "zygal.sources.tensorflow.reader",
        "zygal.engines.tensorflow:TensorFlowEngine", "tensorflow", _NOTHING_STORED, files=_saved_model_files,
    ),
    Family(
        "LiteRT", (kinds.MOBILE,), _is_mobile, "zygal.sources.mobile.reader", "zygal.engines.mobile:MobileEngine",
        "mobile",
        {"--input": "a mobile flatbuffer names its one input"},
    ),
    Family(
        "ONNX", (kinds.ARTIFACT,), _is_onnx, "zygal.sources.onnx.reader", "zygal.engines.onnx:OnnxEngine", "",
        {"--signature": "an ONNX file is called in one way", "--input": "an ONNX file names its one input",
         **_NOTHING_STORED},
        files=_with_weights_beside, states_shape=False,
    ),
    Family(
        "MXNet", (kinds.SYMBOL,), _is_symbol, "zygal.sources.mxnet.reader", "zygal.engines.mxnet:MXNetEngine", "",
        {"--signature": "a symbol file is called in one way", "--input": "a symbol file names its one input",
         "--keep-batch": "a symbol file fixes no batch",
         "--write-inlet": "a symbol file holds no steps before its tensor",
         **_NOTHING_STORED},
        files=_with_parameters, states_shape=False, takes_weights=True,
    ),
)  # fmt: skip
"""A further family is one row here and one folder with its reader and its table of operators."""


def family_named(name: str) -> Family:
    """The family of a framework's name."""
    return next(family for family in FAMILIES if family.name == name)


def family_of_kind(kind: str) -> Family | None:
    """The family that reads files of a kind; None if they hold no trained model."""
    return next((family for family in FAMILIES if kind in family.kinds), None)
