"""Structured mutations of every kind of file that Zygal reads: each must end in a result or in one sentence.

Types, sizes, cycles, names, strides, offsets and headers inside archives are changed, one to three places at a time, in
the demo's own files. Every mutation is read in a process that is watched: more than 2 s of processor time, more than 1
GB of memory above its own, an exit code that is not documented, or a message that is not one line of at most 400
characters is a failure.

    python benchmarks/mutations.py DEMO_FOLDER [KIND,...] [COUNT] [FIRST_SEED]

DEMO_FOLDER is one that zygal demo wrote. The kinds are onnx, witness, inlet, pt2, keras, h5, image, tflite; of what
Zygal wrote itself plan, kept, against, bundle; and, where TensorFlow is installed, which saves what is changed: folder,
graph, web.
"""

import contextlib
import io
import json
import multiprocessing
import random
import resource
import shutil
import signal
import subprocess
import sys
import tarfile
import time
import zipfile
import zlib
from collections import Counter
from pathlib import Path

import mutated_graphs
import mutated_results

MOST_SECONDS, MOST_BYTES, LONGEST = 2.0, 1_000_000_000, 400
ODD_VALUES = (
    None,
    True,
    False,
    0,
    -1,
    1,
    2,
    7,
    99,
    2**31,
    2**63 - 1,
    -(2**63),
    2**70,
    0.5,
    -0.0,
    1e308,
    float("nan"),
    float("inf"),
    "",
    "x",
    "\0",
    "\x1b[31m",
    "../../etc/passwd",
    "/dev/zero",
    "x" * 5000,
    "é\ud800".encode("utf-8", "ignore").decode(),
    [],
    {},
    [[]],
    [0],
    {"": None},
    [None] * 300,
    "1" * 4400,
    -5,
    3,
    13,
    1000,
    "float32",
    "N",
)


def nested(depth):
    value = []
    for _ in range(depth):
        value = [value]
    return value


def places(document, way=()):
    """All ways into a document of dictionaries and lists."""
    yield way
    if isinstance(document, dict):
        for key, value in document.items():
            yield from places(value, (*way, key))
    elif isinstance(document, list):
        for at, value in enumerate(document[:200]):
            yield from places(value, (*way, at))


def holder(document, way):
    for step in way[:-1]:
        document = document[step]
    return document


def change_document(document, chance):
    """One change of a document of dictionaries and lists: another value, another type, gone, twice, renamed,
    exchanged."""
    ways = [way for way in places(document) if way]
    if not ways:
        return document
    way = chance.choice(ways)
    parent, key = holder(document, way), way[-1]
    kind = chance.randrange(7)
    if kind <= 2:
        parent[key] = chance.choice(ODD_VALUES)
    elif kind == 3:
        del parent[key]
    elif kind == 4 and isinstance(parent, list):
        parent.insert(chance.randrange(len(parent) + 1), json.loads(json.dumps(parent[key])))
    elif kind == 4:
        parent[chance.choice(("extra", "", key.upper(), "x" * 3000))] = parent.pop(key)
    elif kind == 5:
        parent[key] = nested(chance.choice((30, 900, 3000)))
    else:
        other = chance.choice(ways)
        if other != way and other[: len(way)] != way and way[: len(other)] != other:
            theirs = holder(document, other)
            parent[key], theirs[other[-1]] = theirs[other[-1]], parent[key]
    return document


def dumped(document):
    """JSON of a document, however deep."""
    before = sys.getrecursionlimit()
    sys.setrecursionlimit(20_000)
    try:
        return json.dumps(document).encode()
    finally:
        sys.setrecursionlimit(before)


def change_bytes(data, chance, near=None):
    data = bytearray(data)
    if not data:
        return bytes(data)
    for _ in range(chance.randrange(1, 4)):
        at = chance.randrange(min(near or len(data), len(data)))
        kind = chance.randrange(5)
        if kind == 0:
            data[at] = chance.choice((0, 1, 127, 128, 255, chance.randrange(256)))
        elif kind == 1:
            data[at : at + 4] = chance.choice((b"\xff\xff\xff\xff", b"\0\0\0\0", b"\xff\xff\xff\x7f", b"\0\0\0\x80"))
        elif kind == 2:
            del data[at : at + chance.choice((1, 4, 100))]
        elif kind == 3:
            data[at:at] = bytes(chance.randrange(256) for _ in range(chance.choice((1, 8, 64))))
        else:
            del data[at:]
        if not data:
            break
    return bytes(data)


def change_flatbuffer(data, chance):
    """Offsets, lists of fields, sizes and numbers of the tables, which lie in front of the weights; cycles among
    them."""
    if chance.random() < 0.1:
        return change_bytes(data, chance)
    data = bytearray(data)
    front = min(len(data), int.from_bytes(data[:4], "little") + 40_000)
    for _ in range(chance.randrange(1, 4)):
        at = chance.randrange(0, max(front - 4, 1)) & ~1
        kind = chance.randrange(7)
        if kind < 3:
            at &= ~3
            here = int.from_bytes(data[at : at + 4], "little")
            other = chance.randrange(0, front - 4) & ~3
            value = chance.choice(
                (
                    0,
                    1,
                    2,
                    3,
                    0xFFFFFFFF,
                    0x7FFFFFFF,
                    0x80000000,
                    here + 4,
                    here - 4,
                    here + 1,
                    2 * here,
                    other - at,
                    at - other,
                    len(data) - at,
                    int.from_bytes(data[other : other + 4], "little"),
                    chance.randrange(1 << 16),
                )
            )
            data[at : at + 4] = (value % (1 << 32)).to_bytes(4, "little")
        elif kind < 5:
            data[at : at + 2] = chance.choice((0, 1, 2, 4, 6, 8, 65535, 32767, chance.randrange(64))).to_bytes(
                2, "little"
            )
        elif kind == 5:
            data[at] = chance.choice((0, 1, 3, 9, 17, 127, 128, 255, chance.randrange(256)))
        else:
            other = chance.randrange(0, front - 4) & ~3
            data[at : at + 4], data[other : other + 4] = data[other : other + 4], data[at : at + 4]
    return bytes(data)


def change_archive(data, chance, document_names):
    """A zip archive with changed documents, members, headers or packing."""
    kind = chance.randrange(10)
    if kind == 0:
        return change_bytes(data, chance)
    if kind == 1:  # The directory at the end, which says where everything lies.
        return data[: -(tail := min(len(data) // 2, 4000))] + change_bytes(data[-tail:], chance)
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        members = [(info.filename, archive.read(info), info.compress_type) for info in archive.infolist()]
    documents = [name for name, _, _ in members if name.endswith(document_names)]
    target = chance.choice(documents) if kind < 7 and documents else chance.choice(members)[0]
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w") as archive:
        for name, content, packing in members:
            if name == target:
                if kind < 7 and name.endswith(".py"):
                    content = change_text(content.decode(), chance)
                elif kind < 7 and name in documents:
                    try:
                        document = json.loads(content)
                        for _ in range(chance.randrange(1, 3)):
                            document = change_document(document, chance)
                        content = dumped(document)
                    except (ValueError, RecursionError):
                        content = change_bytes(content, chance, 200)
                elif kind == 7:
                    if chance.random() < 0.3:
                        continue
                    name = chance.choice((name + "x", "../" + name, "/" + name, name * 40, name.upper()))
                elif kind == 8:
                    packing = chance.choice((zipfile.ZIP_DEFLATED, zipfile.ZIP_BZIP2, zipfile.ZIP_LZMA))
                    content = content if chance.random() < 0.5 else bytes(chance.choice((10**6, 3 * 10**7)))
                else:
                    content = (
                        change_bytes(content, chance, 200) if chance.random() < 0.7 else content[: len(content) // 2]
                    )
            archive.writestr(zipfile.ZipInfo(name), content, packing)
            if name == target and kind == 7 and chance.random() < 0.3:
                archive.writestr(zipfile.ZipInfo(name), content, packing)
    return made.getvalue()


def messages(message, found):
    found.append(message)
    for field, value in message.ListFields():
        if field.message_type is not None:
            if field.message_type.GetOptions().map_entry:
                value = [each for each in value.values() if hasattr(each, "ListFields")]
            for each in value if _repeated(field) else [value]:
                messages(each, found)
    return found


def change_map(values, chance):
    """One change of a map: an entry gone, exchanged with another, or under another key."""
    keys = sorted(values)
    if not keys:
        return
    key, other = chance.choice(keys), chance.choice(keys)
    kind = chance.randrange(3)
    if kind == 0:
        del values[key]
    elif isinstance(values[key], str):
        values[key] = values[other] if kind == 1 else chance.choice(("", "x", "^x", "x:output:9", f"{values[key]}:7"))
    elif kind == 1:
        values[key].CopyFrom(values[other])
    else:
        values[chance.choice(("", "T", "dtype", "value", "x" * 3000))].CopyFrom(values[key])


def _repeated(field):
    return field.is_repeated if hasattr(field, "is_repeated") else field.label == field.LABEL_REPEATED


def change_message(message, chance):
    """One change of a protobuf message: a number, a name, a type, an entry gone, twice or elsewhere, a cycle."""
    every = messages(message, [])
    each = chance.choice(every)
    fields = list(each.DESCRIPTOR.fields)
    present = [field for field, _ in each.ListFields()]
    field = chance.choice(present or fields) if chance.random() < 0.7 else chance.choice(fields)
    with contextlib.suppress(ValueError, TypeError, IndexError):
        if field.message_type is not None and field.message_type.GetOptions().map_entry:
            change_map(getattr(each, field.name), chance)
        elif _repeated(field):
            values = getattr(each, field.name)
            kind = chance.randrange(4)
            if kind == 0 and len(values):
                del values[chance.randrange(len(values))]
            elif kind == 1 and len(values):
                values.append(values[chance.randrange(len(values))])
            elif kind == 2 and len(values) > 1 and field.message_type is not None:
                order = list(values)
                copies = [type(v)() for v in order]
                for copy, value in zip(copies, order):
                    copy.CopyFrom(value)
                chance.shuffle(copies)
                del values[:]
                values.extend(copies)
            elif field.message_type is None:
                value = odd_scalar(field, chance, message)
                if len(values) and chance.random() < 0.7:
                    values[chance.randrange(len(values))] = value
                else:
                    values.append(value)
            else:
                values.add()
        elif field.message_type is not None:
            each.ClearField(field.name) if chance.random() < 0.5 else getattr(each, field.name).SetInParent()
        elif chance.random() < 0.2:
            each.ClearField(field.name)
        else:
            setattr(each, field.name, odd_scalar(field, chance, message))
    return message


def odd_scalar(field, chance, message):
    if field.cpp_type == field.CPPTYPE_STRING:
        if field.type == field.TYPE_BYTES:
            return chance.choice((b"", b"\0", b"\xff" * 7, b"x" * 5000, b"NOTSET"))
        names = names_in(message)
        return chance.choice(
            (chance.choice(names or [""]), chance.choice(names or [""]), "", "x" * 5000, "../x", "\x1b[0m", "Identity")
        )
    if field.cpp_type in (field.CPPTYPE_FLOAT, field.CPPTYPE_DOUBLE):
        return chance.choice((0.0, -1.0, 1e38, float("nan")))
    return chance.choice((0, 1, -1, 2, 3, 6, 7, 9, 11, 16, 23, 99, 1000, 2**31 - 1, -(2**31), 2**40, 2**62))


def names_in(message):
    """The names that the nodes of a message read and make."""
    if hasattr(message, "graph"):
        return [name for node in message.graph.node for name in (*node.output, *node.input)]
    graphs = [each.graph_def for each in message.meta_graphs] if hasattr(message, "meta_graphs") else [message]
    listed = [
        node
        for graph in graphs
        for nodes in (graph.node, *(each.node_def for each in graph.library.function))
        for node in nodes
    ]
    return [name for node in listed for name in (node.name, node.op, *node.input)]


SAVE = """
import os, sys
os.environ['TF_CPP_MIN_LOG_LEVEL'] = '3'
import numpy as np, tensorflow as tf
rng = np.random.default_rng(0)
class Marks(tf.Module):
    def __init__(self):
        super().__init__()
        self.kernel = tf.Variable(rng.standard_normal((3, 3, 3, 4)).astype(np.float32))
        self.scale = tf.Variable(np.ones(4, np.float32))
        self.dense = tf.Variable(rng.standard_normal((64, 5)).astype(np.float32))
    @tf.function(input_signature=[tf.TensorSpec([None, 8, 8, 3], tf.float32)])
    def scores(self, x):
        y = tf.nn.relu(tf.nn.conv2d(x, self.kernel, 2, 'SAME') * self.scale)
        return {'scores': tf.nn.softmax(tf.matmul(tf.reshape(y, [tf.shape(x)[0], 64]), self.dense))}
    @tf.function(input_signature=[tf.TensorSpec([None], tf.string)])
    def files(self, x):
        one = lambda each: tf.image.resize(tf.io.decode_jpeg(each, channels=3), (8, 8))
        return self.scores(tf.map_fn(one, x, fn_output_signature=tf.float32) / 255.0)
marks = Marks()
tf.saved_model.save(marks, sys.argv[1], {'serving_default': marks.scores, 'files': marks.files})
from tensorflow.python.framework.convert_to_constants import convert_variables_to_constants_v2
graph = convert_variables_to_constants_v2(marks.scores.get_concrete_function()).graph.as_graph_def()
open(sys.argv[1] + '/frozen.pb', 'wb').write(graph.SerializeToString())
"""


def saved_by_framework(folder):
    """A small saved model and its frozen graph, made by the framework in a process of its own; once for a folder."""
    base = folder / "base"
    if not (base / "frozen.pb").is_file():
        subprocess.run([sys.executable, "-c", SAVE, str(base)], check=True, capture_output=True)
    return base


def change_table(content, chance):
    """A table of variables whose entries are changed and whose checksums fit again."""
    from zygal.sources.tensorflow.checksum import crc32c, masked
    from zygal.sources.tensorflow.messages import message
    from zygal.sources.tensorflow.table import MAGIC, _entries

    blocks = content[:-48]
    # A small table has one block, and it ends where its checksum fits.
    cut = next(
        at
        for at in range(8, len(blocks))
        if int.from_bytes(blocks[at + 1 : at + 5], "little") == masked(crc32c(blocks[: at + 1]))
    )
    entries = list(_entries(blocks[:cut]))
    for _ in range(chance.randrange(1, 3)):
        at = chance.randrange(len(entries))
        key, value = entries[at]
        kind = chance.randrange(5)
        if kind == 0:
            del entries[at]
        elif kind == 1:
            entries[at] = (key + chance.choice((b"x", b"\xff", b"\0\1")), value)
        else:
            made = message("BundleEntryProto" if key else "BundleHeaderProto")()
            made.ParseFromString(value)
            change_entry(made, chance)
            entries[at] = (key, made.SerializeToString())
        if not entries:
            return content
    number = lambda n: bytes([n & 0x7F | 0x80]) + number(n >> 7) if n > 0x7F else bytes([n])  # noqa: E731
    block = b"".join(b"\0" + number(len(k)) + number(len(v)) + k + v for k, v in entries) + b"\0\0\0\0\1\0\0\0"
    sealed = lambda b: b + b"\0" + masked(crc32c(b + b"\0")).to_bytes(4, "little")  # noqa: E731
    data = sealed(block)
    index = (
        b"\0"
        + number(1)
        + number(len(number(0) + number(len(block))))
        + b"z"
        + number(0)
        + number(len(block))
        + b"\0\0\0\0\1\0\0\0"
    )
    empty = b"\0\0\0\0\1\0\0\0"
    places = number(len(data)) + number(len(empty)) + number(len(data) + len(empty) + 5) + number(len(index))
    return data + sealed(empty) + sealed(index) + places.ljust(40, b"\0") + MAGIC.to_bytes(8, "little")


def change_entry(made, chance):
    field = chance.choice(list(made.DESCRIPTOR.fields))
    with contextlib.suppress(ValueError, TypeError, AttributeError):
        if field.name == "shape":
            made.shape.dim.add(size=chance.choice((-1, 0, 1, 7, 2**40, 2**62)))
        elif field.name == "slices":
            made.slices.add().extent.add(start=chance.choice((0, -1, 2**40)), length=chance.choice((0, 1, -1, 2**40)))
        else:
            setattr(made, field.name, chance.choice((0, 1, -1, 3, 7, 9, 14, 19, 23, 99, 2**31 - 1, 2**40, 2**62)))


def change_hdf5(data, chance, folder):
    import h5py
    import numpy as np

    if chance.random() < 0.25:
        return change_bytes(data, chance)
    path = folder / "mutating.h5"
    path.write_bytes(data)
    with h5py.File(path, "r+") as file, contextlib.suppress(Exception):
        found = []
        file.visititems(lambda name, item: found.append(name))
        for _ in range(chance.randrange(1, 3)):
            name = chance.choice(found)
            item = file[name]
            kind = chance.randrange(8)
            if kind == 0:
                del file[name]
            elif kind == 1:
                del file[name]
                file[name] = chance.choice(
                    (h5py.SoftLink("/"), h5py.ExternalLink("other.h5", "/"), h5py.SoftLink("/nothing"))
                )
            elif kind == 2 and isinstance(item, h5py.Dataset):
                del file[name]
                file.create_dataset(
                    name,
                    data=chance.choice(
                        (
                            np.zeros((0, 3), np.float32),
                            np.zeros(3),
                            np.array(b"text"),
                            np.zeros((2, 2), np.complex64),
                            np.float32(1),
                            np.zeros((3, 3), np.float16),
                        )
                    ),
                )
            elif kind == 3 and isinstance(item, h5py.Dataset):
                del file[name]
                file.create_dataset(name, shape=(10**5, 10**5), dtype="f4", chunks=(100, 100))
            elif kind == 4 and isinstance(item, h5py.Group):
                file[f"{name}/itself"] = item
            elif kind in (5, 6):
                holder_ = chance.choice((file, item))
                key = chance.choice(list(holder_.attrs) or ["model_config"])
                holder_.attrs[key] = chance.choice(
                    (b"x", 5, np.zeros(3), b"{}", b"[]", b"", "x" * 5000, np.array([b"a", b"b"]))
                )
            elif "model_config" in file.attrs:
                document = json.loads(file.attrs["model_config"])
                file.attrs["model_config"] = dumped(change_document(document, chance))
    return path.read_bytes()


def change_text(text, chance):
    if chance.random() < 0.5:
        lines = text.splitlines()
        at = chance.randrange(len(lines))
        key, sign, value = lines[at].partition("=")
        odd = (
            "1" * 5000,
            '"' + "x" * 5000 + '"',
            "-1",
            "0",
            "nan",
            "inf",
            "1e400",
            "true",
            "[]",
            "{}",
            "[[1]]",
            '""',
            "2026-01-01",
            "[" * 900 + "]" * 900,
            str(2**63),
            "[1, 2, 3]",
            '"\\u0000"',
            "0.5",
            "99999999",
        )
        kind = chance.randrange(5)
        if kind <= 1 and sign:
            lines[at] = f"{key}= {chance.choice(odd)}"
        elif kind == 2:
            lines.insert(at, lines[at])
        elif kind == 3:
            lines[at] = chance.choice(("k" * 5000 + " = 1", "[x]", "[[frame]]", "=", "\x1b[31m", "zygal_inlet = 1"))
        else:
            del lines[at]
        return "\n".join(lines).encode()
    return change_bytes(text.encode(), chance)


RELEASED = {"scripted": (".scripted.pt", ".traced.pt"), "older": (".dynamic.pt2", ".fixed.pt2"), "weights": (".pth",)}
"""By kind: how the files end that releases of PyTorch wrote."""
SHAPE_OF_RELEASED = (3, 32, 32)


class Mutator:
    """Mutations of one kind of file, each known by its seed."""

    def __init__(self, kind: str, demo: Path, folder: Path):
        self.kind, self.folder = kind, folder
        self.images, self.results = [], None
        if kind in mutated_results.KINDS:
            self.results = mutated_results.Results(kind, demo, folder, sys.modules[__name__])
            return
        names = {
            "onnx": "channel_marks.onnx",
            "witness": "channel_marks.witness",
            "inlet": "channel_marks.inlet.toml",
            "pt2": "channel_marks.pt2",
            "keras": "keras/channel_marks.keras",
        }
        if kind == "image":
            self.images = self._images(demo)
        elif kind == "onnx":
            self.images = [(demo / names[kind]).read_bytes(), *mutated_graphs.foreign()]
        elif kind == "symbols":
            self.files = {}
        elif kind == "tflite":
            self.images = self._flatbuffers(demo)
        elif kind == "witness":
            self.data = self._short_witness(demo / names[kind])
        elif kind in ("folder", "graph", "web"):
            self.base = saved_by_framework(folder)
            self.files = {
                "saved_model.pb": (self.base / "saved_model.pb").read_bytes(),
                **{f"variables/{each.name}": each.read_bytes() for each in sorted((self.base / "variables").iterdir())},
            }
            self.data = (self.base / "frozen.pb").read_bytes()
            if kind == "web":
                self.files = self._as_web(self.data)
        elif kind in RELEASED:
            self.images = self._released(RELEASED[kind])
        elif kind == "h5":
            self.data = self._as_hdf5(demo / "keras" / "channel_marks.keras")
        else:
            self.data = (demo / names[kind]).read_bytes()

    def _of_release(self, chance) -> bytes:
        data = chance.choice(self.images)
        return (
            change_archive(data, chance, (".json", ".py", ".pkl")) if data[:2] == b"PK" else change_bytes(data, chance)
        )

    def _released(self, endings):
        """What releases of PyTorch wrote, small models of two kinds."""
        found = []
        for path in sorted((Path(__file__).parents[1] / "tests/data/releases").glob("*.tar.xz")):
            with tarfile.open(path) as archive:
                found += [archive.extractfile(each).read() for each in archive if each.name.endswith(endings)]
        return found

    def _images(self, demo):
        from PIL import Image

        picture = Image.open(next((demo / "reference").glob("*.png"))).convert("RGB").resize((40, 30))
        made = []
        for form, mode, more in (
            ("JPEG", "RGB", {}),
            ("JPEG", "CMYK", {}),
            ("PNG", "RGBA", {}),
            ("PNG", "P", {}),
            ("GIF", "P", {}),
            ("BMP", "RGB", {}),
            ("TIFF", "RGB", {}),
            ("TIFF", "L", {"compression": "tiff_lzw"}),
            ("PPM", "RGB", {}),
            ("TGA", "RGB", {"rle": True}),
            ("WEBP", "RGB", {}),
            ("PNG", "I;16", {}),
        ):
            data = io.BytesIO()
            picture.convert("L" if mode == "I;16" else mode).convert(mode).save(data, form, **more)
            made.append(data.getvalue())
        return made

    def _flatbuffers(self, demo):
        """The demo's model in float32 and float16, and a small one in 8 bits."""
        import numpy as np

        from zygal.classifier.labels import read_labels
        from zygal.conversion.convert import Choices, convert
        from zygal.mobile.model import MobileModel, Operator, Quantization, Signature, Tensor
        from zygal.mobile.write import write_model

        path, made = self.folder / "base.tflite", []
        for half in (False, True):
            convert(
                demo / "channel_marks.pt2", path, labels=read_labels(demo / "labels.txt"), choices=Choices(half=half)
            )
            made.append(path.read_bytes())
        steps = [
            Quantization(np.float32([scale]), np.array([zero])) for scale, zero in ((0.02, 3), (0.01, -5), (0.05, 0))
        ]
        each = Quantization(np.float32([0.01, 0.02, 0.03]), np.zeros(3, np.int64))
        arrays = (
            np.ones((3, 3, 3, 2), np.int8),
            np.ones(3, np.int32),
            np.array([-1, 48], np.int32),
            np.ones((4, 48), np.int8),
        )
        constants = [Tensor(f"c{at}", array.shape, array.dtype.name, data=array) for at, array in enumerate(arrays)]
        for tensor, quantization in zip(constants, (each, each, None, steps[2])):
            tensor.quantization = quantization
        tensors = [
            Tensor("image", (1, 4, 4, 2), "int8", (0,), quantization=steps[0]),
            *constants,
            *(
                Tensor(f"t{at}", shape, "int8", (0,), quantization=steps[1])
                for at, shape in enumerate(((1, 4, 4, 3), (1, 48), (1, 4)))
            ),
        ]
        operators = [
            Operator("CONV_2D", [0, 1, 2], [5], {"stride_h": 1, "stride_w": 1, "activation": 1}, 3),
            Operator("RESHAPE", [5, 3], [6]),
            Operator("FULLY_CONNECTED", [6, 4, -1], [7], {}, 4),
        ]
        write_model(
            MobileModel(tensors, operators, [0], [7], [Signature("serving_default", {"image": 0}, {"scores": 7})]), path
        )
        return [*made, path.read_bytes(), path.read_bytes()]

    def _short_witness(self, path):
        """The demo's recording of its first images, so that ten thousand of them are soon read."""
        import dataclasses

        from zygal.evidence.witness import read_witness, write_witness

        whole = read_witness(path)
        short = dataclasses.replace(
            whole, images=whole.images[:5], tensors=whole.tensors[:5, :, :8], scores=whole.scores[:5]
        )
        write_witness(short, self.folder / "short.witness")
        return (self.folder / "short.witness").read_bytes()

    def _as_hdf5(self, path):
        """The demo's Keras model in the older container, made with h5py alone."""
        import h5py

        from zygal.sources.keras import open_keras, read_structure
        from zygal.sources.keras.variables import VARIABLES
        from zygal.sources.keras.weights import Weights

        target = self.folder / "model.h5"
        with open_keras(path) as file, h5py.File(target, "w") as copy:
            model = read_structure(file.configuration, file.path, file.version)
            weights = Weights(file, model)
            copy.attrs["model_config"], copy.attrs["keras_version"], copy.attrs["backend"] = (
                json.dumps(file.configuration).encode(),
                file.version.encode(),
                b"jax",
            )
            group = copy.create_group("model_weights")
            for layer in model.layers.values():
                arrays = weights.of((layer.name,), layer) if layer.class_name in VARIABLES else {}
                held = group.create_group(layer.name)
                held.attrs["weight_names"] = [f"{layer.name}/{name}".encode() for _, name in arrays]
                for (_, name), array in arrays.items():
                    held.create_dataset(f"{layer.name}/{name}", data=array)
            group.attrs["layer_names"] = [name.encode() for name in model.layers]
        return target.read_bytes()

    def _as_web(self, data):
        """The frozen graph as JSON, its weights in two shards."""
        import numpy as np
        from google.protobuf import json_format

        from zygal.sources.tensorflow.messages import message
        from zygal.sources.tensorflow.tensors import array_of

        graph, entries, content = message("GraphDef").FromString(data), [], b""
        for node in graph.node:
            if node.op == "Const":
                array = np.asarray(array_of(node.attr["value"].tensor, "")[0])
                entries.append({"name": node.name, "shape": list(array.shape), "dtype": str(array.dtype)})
                content += array.tobytes()
                del node.attr["value"]
        half = len(content) // 2
        document = {
            "modelTopology": json_format.MessageToDict(graph),
            "weightsManifest": [{"paths": ["one.bin", "two.bin"], "weights": entries}],
        }
        return {"model.json": json.dumps(document).encode(), "one.bin": content[:half], "two.bin": content[half:]}

    def files_of(self, seed: int) -> dict[str, bytes]:
        """The files of a mutated folder by their names."""
        chance = random.Random(f"{self.kind} {seed}")
        files = mutated_graphs.symbols(chance) if self.kind == "symbols" else dict(self.files)
        kind = chance.random()
        main_file = next(iter(files))
        if kind < (0.5 if self.kind == "symbols" else 0.15):
            name = chance.choice(list(files))
            files[name] = change_bytes(files[name], chance)
        elif kind < 0.2 or self.kind == "symbols" and kind < 0.52:
            del files[chance.choice(list(files))]
        elif self.kind in ("web", "symbols"):
            document = json.loads(files[main_file])
            with contextlib.suppress(RecursionError):  # A change made it too deep for the next one.
                for _ in range(chance.randrange(1, 4)):
                    document = change_document(document, chance)
            files[main_file] = dumped(document)
        elif kind < 0.4:
            index = next(name for name in files if name.endswith(".index"))
            files[index] = change_table(files[index], chance)
        else:
            from zygal.sources.tensorflow.messages import message

            saved = message("SavedModel").FromString(files[main_file])
            for _ in range(chance.randrange(1, 4)):
                change_message(saved, chance)
            files[main_file] = saved.SerializeToString(deterministic=True)
        return files

    def write(self, seed: int, path: Path) -> Path:
        """A mutation on the disk; what to read: a path, or a whole command line."""
        if self.results:
            return self.results.write(seed, path)
        if self.kind not in ("folder", "web", "symbols"):
            path.write_bytes(self.data_of(seed))
            return path
        shutil.rmtree(path, ignore_errors=True)
        for name, content in self.files_of(seed).items():
            (path / name).parent.mkdir(parents=True, exist_ok=True)
            (path / name).write_bytes(content)
        path.mkdir(exist_ok=True)
        return path if self.kind == "folder" else path / ("model.json" if self.kind == "web" else "net-symbol.json")

    def data_of(self, seed: int) -> bytes:
        if self.results:
            return self.results.data_of(seed)
        if self.kind in ("folder", "web", "symbols"):
            return b"".join(self.files_of(seed).values())
        chance = random.Random(f"{self.kind} {seed}")
        if self.kind == "graph":
            from zygal.sources.tensorflow.messages import message

            if chance.random() < 0.15:
                return change_bytes(self.data, chance)
            graph = message("GraphDef").FromString(self.data)
            for _ in range(chance.randrange(1, 4)):
                change_message(graph, chance)
            return graph.SerializeToString(deterministic=True)
        if self.kind == "onnx":
            import onnx

            data = chance.choice(self.images)
            if chance.random() < 0.15:
                return change_bytes(data, chance)
            model = onnx.ModelProto.FromString(data)
            for _ in range(chance.randrange(1, 4)):
                change_message(model, chance)
            return model.SerializeToString()
        changed = {
            "tflite": lambda: change_flatbuffer(chance.choice(self.images), chance),
            "inlet": lambda: change_text(self.data.decode(), chance),
            "h5": lambda: change_hdf5(self.data, chance, self.folder),
            "image": lambda: change_bytes(chance.choice(self.images), chance, chance.choice((64, 400, None))),
            **dict.fromkeys(RELEASED, lambda: self._of_release(chance)),
        }.get(self.kind)
        return changed() if changed else change_archive(self.data, chance, (".json",))


def read(kind: str, path) -> str | None:
    """Reads a file as the program does. What is wrong about how that ended, or None."""
    from zygal.cli.main import main
    from zygal.conversion.convert import Choices, convert
    from zygal.errors import ZygalError
    from zygal.inlet.apply import raw_pixels
    from zygal.inlet.specification import Decode
    from zygal.sources.onnx.translate import artifact_graph

    # Any error but one of Zygal's own is a failure here; the program itself would make a sentence of it.
    if kind in mutated_results.KINDS:
        calls = [lambda: called(main, *path, codes=(0, 1, 2, 3, 4))]
    elif kind == "image":
        calls = [lambda: raw_pixels(path, Decode(sixteen_bit="high-byte"))]
    else:
        shape = ("--shape", ",".join(map(str, SHAPE_OF_RELEASED))) if kind == "scripted" else ()
        shape = ("--shape", mutated_graphs.SHAPE_OF_SYMBOLS) if kind == "symbols" else shape
        calls = [lambda: called(main, "survey", path), lambda: called(main, "survey", path, *shape, "--json", "-")]
        if kind == "onnx":
            calls.append(lambda: artifact_graph(path))
            calls.append(lambda: convert(path, path.with_suffix(".out"), choices=Choices(any_shape=True)))
            calls.append(
                lambda: called(main, "convert", path, "-o", path.with_suffix(".out2"), "--as-it-is", "--overwrite")
            )
        elif kind == "symbols":
            chosen = Choices(any_shape=True, image_shape=tuple(map(int, mutated_graphs.SHAPE_OF_SYMBOLS.split(","))))
            calls.append(lambda: convert(path, path.parent.with_suffix(".out"), choices=chosen))
        elif kind == "scripted":
            chosen = Choices(any_shape=True, image_shape=SHAPE_OF_RELEASED)
            calls.append(lambda: convert(path, path.with_suffix(".out"), choices=chosen))
        elif kind in ("pt2", "older", "keras", "h5", "folder", "graph", "web", "tflite"):
            calls.append(lambda: convert(path, path.with_suffix(".out"), choices=Choices(any_shape=True)))
        if kind == "folder":
            calls.append(
                lambda: convert(path, path.with_suffix(".out"), choices=Choices(any_shape=True, signature="files"))
            )
    for call in calls:
        try:
            fault = call()
        except ZygalError as error:
            fault = (
                None
                if len(str(error)) <= LONGEST and "\n" not in str(error)
                else f"a long sentence: {str(error)[:200]}"
            )
        except BaseException as error:
            return f"{type(error).__name__}: {str(error)[:200]}"
        if isinstance(fault, str):
            return fault
    return None


def called(main, *arguments, codes=(0, 2)) -> str | None:
    out, complaint = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(complaint):
        code = main(list(map(str, arguments)))
    said = complaint.getvalue()
    if code not in codes:
        return f"exit code {code}: {said[:200]}"
    lines = [line for line in said.splitlines() if not line.startswith(("zygal: note: ", "zygal: not readable: "))]
    if code == 2 and (
        len(lines) != 1 or len(lines[0]) > LONGEST + len("zygal: ") or not lines[0].startswith("zygal: ")
    ):
        return f"not one sentence: {said[:300]!r}"
    if "--json" in arguments:
        document = json.loads(out.getvalue())
        if (
            document["exit_code"] != code
            or document["passed"] != (document["verdict"] == "passed")
            or document["passed"] != (code in (0, 3))
        ):
            return (
                f"exit code {code}, but the document says {document['verdict']}, {document['exit_code']}, passed: "
                f"{document['passed']}"
            )
    return None


class TooSlow(BaseException):
    pass


def _too_slow(number, frame):
    raise TooSlow


def work(kind: str, demo: Path, folder: Path, seeds: list[int], most_seconds: float, answers) -> None:
    """Reads some mutations and tells of each how it ended."""
    import onnx  # noqa: F401

    import zygal.artifact  # noqa: F401
    import zygal.commands.survey.execute  # noqa: F401

    mutator = Mutator(kind, demo, folder)
    signal.signal(signal.SIGVTALRM, _too_slow)
    endings = {"inlet": ".toml", "image": ".jpg", "h5": ".h5"}
    target = folder / f"{kind}{endings.get(kind, '.bin')}"  # A folder here may be a file there.
    for seed in seeds:
        path = mutator.write(seed, target)
        answers.put((seed, "begun"))
        before, began = peak(), time.process_time()
        signal.setitimer(signal.ITIMER_VIRTUAL, 2 * most_seconds)
        try:
            fault = read(kind, path)
        finally:
            signal.setitimer(signal.ITIMER_VIRTUAL, 0)
        took = time.process_time() - began
        if fault is None and took > most_seconds:
            fault = f"took {took:.1f} s"
        if fault is None and peak() - before > MOST_BYTES:
            fault = f"took {(peak() - before) / 1e6:.0f} MB"
        answers.put((seed, fault))
        for left in folder.glob("*.out*"):
            left.unlink()


def peak() -> int:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024


def run(
    kind: str, demo: Path, folder: Path, seeds: range, at_once: int = 250, most_seconds: float = MOST_SECONDS
) -> dict[int, str]:
    """The seeds that failed, with how. `most_seconds` is the processor time that one may take."""
    context = multiprocessing.get_context("spawn")
    failed, left = {}, list(seeds)
    while left:
        answers = context.Queue()
        part, left = left[:at_once], left[at_once:]
        process = context.Process(target=work, args=(kind, demo, folder, part, most_seconds, answers), daemon=True)
        process.start()
        done, current = set(), None
        while len(done) < len(part):
            try:
                seed, fault = answers.get(timeout=90)
            except Exception:
                if current is None:
                    raise RuntimeError(f"the process that reads {kind} files does not start") from None
                failed[current] = "hangs, or its process died"
                process.kill()
                left = [seed for seed in part if seed not in done and seed != current] + left
                break
            current = seed
            if fault != "begun":
                done.add(seed)
                if fault:
                    failed[seed] = fault
        process.join(10)
        process.kill()
    return failed


def main(
    demo: str,
    kinds: str = "onnx,witness,inlet,pt2,keras,h5,image,tflite,plan,kept,against,bundle,folder,graph,web,"
    "scripted,older,weights,symbols",
    count: str = "10000",
    first: str = "0",
) -> int:
    import tempfile

    total = Counter()
    for kind in kinds.split(","):
        with tempfile.TemporaryDirectory() as folder:
            failed = run(kind, Path(demo).resolve(), Path(folder), range(int(first), int(first) + int(count)))
        total[kind] = len(failed)
        for seed, fault in list(failed.items())[:40]:
            print(f"{kind} {seed}: {fault}")
        print(f"{kind}: {count} mutations, {len(failed)} failed", flush=True)
    return 1 if sum(total.values()) else 0


if __name__ == "__main__":
    zlib.crc32(b"")
    sys.exit(main(*sys.argv[1:]))
