"""Files that are not trusted: none runs code, reads or writes another file, or takes memory on its own word."""

import errno
import io
import json
import os
import resource
import stat
import subprocess
import sys
import time
import zipfile
from pathlib import Path

import h5py
import numpy as np
import onnx
import pytest
from conftest import called, program, refused
from PIL import Image

from zygal.errors import FileError, ImageError, OutputError, SourceError, UnknownOperators, ZygalError, one_line
from zygal.files.opening import existing_file, open_file, read_text, sha256_of
from zygal.files.writing import check_writable, scratch_folder, whole_file
from zygal.inlet.decode import FORMATS, MOST_PIXELS, decode_image, open_image
from zygal.inlet.specification import Decode
from zygal.sources.pytorch import open_program
from zygal.sources.pytorch.harmless import write_harmless_copy

PYTHON = sys.executable


def rewritten(source, target, changes=None, packing=zipfile.ZIP_STORED):
    """A copy of an archive with some members changed by functions of their bytes, by the ends of their names."""
    with zipfile.ZipFile(source) as archive:
        members = {name: archive.read(name) for name in archive.namelist()}
    with zipfile.ZipFile(target, "w", packing) as archive:
        for name, content in members.items():
            for ending, change in (changes or {}).items():
                if name.endswith(ending):
                    content = change(content)
            if content is not None:
                archive.writestr(name, content)
    return target


def with_document(change):
    """A change of a JSON document, given as a function that changes it in place."""

    def changed(content):
        document = json.loads(content)
        change(document)
        return json.dumps(document).encode()

    return changed


# Captured programs


def program_with_target(shipped, path, target):
    """The demo's program with another operator in the place of one of its activations."""

    def change(document):
        nodes = document["graph_module"]["graph"]["nodes"]
        node = next(node for node in nodes if "relu" in node["target"] or "hardswish" in node["target"])
        node["target"] = target

    return rewritten(shipped / "channel_marks.pt2", path, {"models/model.json": with_document(change)})


def operators_that_touch_more_than_numbers():
    """Every operator of the framework's library that may open files, keep memory, start processes or draw numbers."""
    import torch

    words = (
        "file",
        "storage",
        "set_",
        "resize",
        "record_stream",
        "rand",
        "bernoulli_",
        "normal",
        "multinomial",
        "poisson",
        "seed",
        "generator",
        "share",
        "pin_memory",
        "data_ptr",
        "cuda",
        "mkldnn",
        "quantized",
        "open",
        "load",
        "save",
        "exponential",
        "cauchy",
        "geometric",
        "log_normal",
        "uniform",
        "_unsafe_masked",
        "empty_strided",
        "fork",
        "wait",
        "print",
        "process",
        "tensorpipe",
        "rpc",
        "c10d",
        "profiler",
        "warn",
        "sym_storage",
        "vulkan",
        "metal",
    )
    found = []
    for name in torch._C._dispatch_get_all_op_names():
        space, _, rest = name.partition("::")
        operator, _, overload = rest.partition(".")
        if space == "aten" and any(word in operator for word in words):
            found.append(f"torch.ops.aten.{operator}.{overload or 'default'}")
        elif space in ("profiler", "rngprims", "inductor", "_c10d_functional", "c10d", "mkldnn", "prims"):
            found.append(f"torch.ops.{space}.{operator}.{overload or 'default'}")
    return found


def test_no_operator_that_touches_more_than_numbers_reaches_the_framework(shipped, tmp_path):
    from zygal.sources.pytorch.translate import known_operator

    pytest.importorskip("torch")
    operators = operators_that_touch_more_than_numbers()
    assert len(operators) > 200 and "torch.ops.aten.from_file.default" in operators
    known = {target.split(".")[-2] for target in operators if known_operator(target)}
    # A grid is no generator, set_ without a source lets go of memory, and what draws is refused by what it is given.
    assert known <= {"affine_grid_generator", "set_", "bernoulli", "bernoulli_"}
    for target in (
        "torch.ops.aten.from_file.default",
        "torch.ops.aten.set_.source_Tensor",
        "os.system",
        "builtins.eval",
        "torch.ops.aten.relu",
        "torch.ops.prims.relu.default",
        "aten.relu.default",
        "_operator.attrgetter",
        "torch.ops.aten.rand.default",
        "torch.load",
        "torch.ops.higher_order.cond",
    ):
        path = program_with_target(shipped, tmp_path / "evil.pt2", target)
        with open_program(path) as archive, pytest.raises(UnknownOperators, match="not started"):
            write_harmless_copy(archive, io.BytesIO())


@pytest.mark.parametrize("make", ["noise", "bernoulli"])
def test_a_program_that_draws_numbers_is_not_recorded(make, tmp_path):
    torch = pytest.importorskip("torch")
    steps = {
        "noise": lambda x: x + torch.randn_like(x),
        "bernoulli": lambda x: x * torch.bernoulli(torch.full_like(x, 0.5)),
    }

    class Drawing(torch.nn.Module):
        def forward(self, x):
            return torch.flatten(steps[make](x), 1)[:, :4]

    torch.export.save(torch.export.export(Drawing(), (torch.ones(2, 3, 4, 4),)), tmp_path / "m.pt2")
    with (
        open_program(tmp_path / "m.pt2") as archive,
        pytest.raises(SourceError, match="random numbers|unknown operator"),
    ):
        write_harmless_copy(archive, io.BytesIO())


def test_a_program_cannot_write_over_a_file(shipped, tmp_path):
    victim = tmp_path / "victim"
    victim.write_bytes(bytes(16))

    def change(document):
        node = document["graph_module"]["graph"]["nodes"][-1]
        node["target"] = "torch.ops.aten.from_file.default"
        node["inputs"] = [
            {"name": "filename", "arg": {"as_string": str(victim)}, "kind": 1},
            {"name": "shared", "arg": {"as_bool": True}, "kind": 1},
            {"name": "size", "arg": {"as_int": 4}, "kind": 1},
        ]

    path = rewritten(shipped / "channel_marks.pt2", tmp_path / "evil.pt2", {"models/model.json": with_document(change)})
    refused(
        called(
            "witness",
            path,
            "--images",
            shipped / "reference",
            "--inlet",
            shipped / "channel_marks.inlet.toml",
            "-o",
            tmp_path / "w.witness",
            cwd=tmp_path,
        ),
        "from_file",
    )
    assert victim.read_bytes() == bytes(16)


def test_memory_that_nobody_wrote_comes_as_zeros(tmp_path):
    torch = pytest.importorskip("torch")
    from zygal.engines.pytorch import PyTorchEngine

    class Uninitialised(torch.nn.Module):
        def forward(self, x):
            return torch.flatten(x, 1)[:, :4] + torch.empty(4) + torch.empty_like(x)[0, 0, 0, :4] + x.new_empty(4)

    torch.export.save(torch.export.export(Uninitialised(), (torch.ones(2, 3, 4, 4),)), tmp_path / "m.pt2")
    engine = PyTorchEngine(tmp_path / "m.pt2")
    assert np.array_equal(engine.run(np.full((2, 3, 4, 4), 7, np.float32)), np.full((2, 4), 7))


BROKEN_TENSORS = {
    "strides of zero": ({"strides": [{"as_int": 0}] * 4, "sizes": [{"as_int": 5000}] * 4}, "repeats its elements"),
    "more than there is": ({"sizes": [{"as_int": 160}, {"as_int": 3}, {"as_int": 3}, {"as_int": 3}]}, "are stored"),
    "a negative stride": ({"strides": [{"as_int": -27}, {"as_int": 9}, {"as_int": 3}, {"as_int": 1}]}, "do not fit"),
    "an offset behind the end": ({"storage_offset": {"as_int": 10**9}}, "are stored"),
    "sizes without strides": ({"strides": []}, "do not fit"),
    "a dtype that is not read": ({"dtype": 10}, "dtype number 10"),
    "a size that is no number": ({"sizes": [{"as_expr": {"expr_str": "s0"}}] * 4}, "no number"),
    "a layout of another kind": ({"layout": 2}, "sparse"),
    "a size in words": ({"sizes": [{"as_int": "16"}] * 4}, "does not follow its schema"),
    "a field of no schema": ({"loader": "os.system"}, "does not know this field"),
}


@pytest.mark.parametrize("name", BROKEN_TENSORS)
def test_tensors_are_only_what_is_stored(name, shipped, tmp_path):
    change, words = BROKEN_TENSORS[name]

    def changed(document):
        document["config"]["stem.0.weight"]["tensor_meta"].update(change)

    path = rewritten(shipped / "channel_marks.pt2", tmp_path / "m.pt2", {"weights_config.json": with_document(changed)})
    refused(called("survey", path, cwd=tmp_path), words)


@pytest.mark.parametrize("value", ["../../weight_0", "/etc/passwd", "", ".", "a/b"])
def test_tensors_lie_in_their_own_folder(value, shipped, tmp_path):
    def changed(document):
        document["config"]["stem.0.weight"]["path_name"] = value

    path = rewritten(shipped / "channel_marks.pt2", tmp_path / "m.pt2", {"weights_config.json": with_document(changed)})
    refused(called("survey", path, cwd=tmp_path), "name of a file")


@pytest.mark.parametrize(
    "text",
    [
        "__import__('os').system('x')",
        "Pow(Integer(9), Integer(999999999))",
        "Symbol('a b')",
        "x.y",
        "Mul(Integer(99999999999999999999), Symbol('s0'))",
        "lambda: 1",
    ],
)
def test_sizes_are_plain_arithmetic(text, shipped, tmp_path):
    def changed(document):
        document["graph_module"]["graph"]["tensor_values"]["linear"]["sizes"][0] = {"as_expr": {"expr_str": text}}

    path = rewritten(shipped / "channel_marks.pt2", tmp_path / "m.pt2", {"models/model.json": with_document(changed)})
    with open_program(path) as archive, pytest.raises(SourceError, match="not plain arithmetic"):
        write_harmless_copy(archive, io.BytesIO())


@pytest.mark.parametrize(
    "member, error", [("weight_0", "more bytes than it can hold"), ("models/model.json", "claims")]
)
def test_what_unpacks_to_much_is_not_believed(member, error, shipped, tmp_path):
    size = 60_000_000
    path = rewritten(
        shipped / "channel_marks.pt2", tmp_path / "m.pt2", {member: lambda _: bytes(size)}, zipfile.ZIP_DEFLATED
    )
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    done = called("convert", path, "-o", tmp_path / "a.onnx", cwd=tmp_path)
    assert done.returncode == 2 and error in done.stderr, done.stderr
    assert (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) * 1024 < 400_000_000


def test_what_a_program_makes_of_nothing_is_bounded(tmp_path):
    torch = pytest.importorskip("torch")

    class Large(torch.nn.Module):
        def forward(self, x):
            return torch.flatten(x, 1)[:, :4] + torch.zeros(4)

    torch.export.save(torch.export.export(Large(), (torch.ones(2, 3, 4, 4),)), tmp_path / "m.pt2")

    def changed(document):
        for node in document["graph_module"]["graph"]["nodes"]:
            for given in node["inputs"]:
                if given["name"] == "size":
                    given["arg"] = {"as_ints": [10**6, 10**6]}

    path = rewritten(
        tmp_path / "m.pt2",
        tmp_path / "large.pt2",
        {".json": with_document(lambda d: "graph_module" in d and changed(d))},
    )
    refused(called("convert", path, "-o", tmp_path / "a.onnx", cwd=tmp_path), "no image classifier needs")


# Keras files


def evil_module(tmp_path):
    """A module that leaves a trace if it is imported."""
    (tmp_path / "evil_module.py").write_text(
        f"from pathlib import Path\nPath({str(tmp_path / 'trace')!r}).touch()\nclass Dense:\n    pass\ndef "
        f"relu(x):\n    return x\n"
    )
    return tmp_path / "trace"


def first_dense(document):
    return next(each for each in document["config"]["layers"] if each["class_name"] == "Dense")


def first_of(document, name):
    return next(each for each in document["config"]["layers"] if each["class_name"] == name)


NAMED_CODE = {
    "a plain layer": lambda d: first_dense(d).update(module="evil_module"),
    "an initialiser": lambda d: first_dense(d)["config"].update(
        kernel_initializer={"module": "evil_module", "class_name": "Dense", "config": {}, "registered_name": None}
    ),
    "a regulariser": lambda d: first_dense(d)["config"].update(
        kernel_regularizer={"module": "evil_module", "class_name": "Dense", "config": {}, "registered_name": "x"}
    ),
    "a constraint": lambda d: first_dense(d)["config"].update(
        bias_constraint={"module": "keras", "class_name": "Evil", "config": {}, "registered_name": None}
    ),
    "an activation": lambda d: first_dense(d)["config"].update(
        activation={"module": "evil_module", "class_name": "function", "config": "relu", "registered_name": "relu"}
    ),
    "a function of the system": lambda d: first_dense(d)["config"].update(
        activation={"module": "builtins", "class_name": "function", "config": "exec", "registered_name": "exec"}
    ),
    "a policy": lambda d: first_dense(d)["config"].update(
        dtype={
            "module": "evil_module",
            "class_name": "DTypePolicy",
            "config": {"name": "float32"},
            "registered_name": None,
        }
    ),
    "a policy of no name": lambda d: first_dense(d)["config"].update(
        dtype={"module": "keras", "class_name": "DTypePolicy", "config": {"name": "evil"}, "registered_name": None}
    ),
    "a wrapped layer": lambda d: first_dense(d).update(
        class_name="TimeDistributed",
        config={
            "name": "w",
            "layer": {"module": "evil_module", "class_name": "Dense", "config": {"units": 2}, "registered_name": None},
        },
    ),
    "a lambda": lambda d: first_dense(d)["config"].update(
        activation={"class_name": "__lambda__", "config": {"value": "4wEAAA=="}}
    ),
    "a module without a class": lambda d: first_dense(d)["config"].update(bias_initializer={"module": "evil_module"}),
    "the model itself": lambda d: d.update(module="evil_module"),
    "deep inside": lambda d: first_dense(d)["config"].update(
        kernel_initializer={
            "module": "keras.initializers",
            "class_name": "Constant",
            "registered_name": None,
            "config": {"value": {"module": "evil_module", "class_name": "Dense", "config": {}}},
        }
    ),
}


@pytest.mark.parametrize("name", NAMED_CODE)
def test_no_module_of_a_keras_files_choice_is_imported(name, shipped, tmp_path, monkeypatch):
    from zygal.sources.keras import open_keras
    from zygal.sources.keras.plain import write_plain_copy

    trace = evil_module(tmp_path)
    monkeypatch.syspath_prepend(str(tmp_path))
    source = shipped / "keras" / "channel_marks.keras"
    path = rewritten(source, tmp_path / "evil.keras", {"config.json": with_document(NAMED_CODE[name])})
    with (
        pytest.raises(SourceError, match="not a known part of the framework|nested too deep"),
        open_keras(path) as file,
    ):
        write_plain_copy(file, tmp_path)
    done = called(
        "witness",
        path,
        "--images",
        shipped / "reference",
        "--inlet",
        shipped / "keras/channel_marks.inlet.toml",
        "-o",
        tmp_path / "w.witness",
        cwd=tmp_path,
    )
    assert done.returncode == 2 and "Traceback" not in done.stderr, done.stderr
    assert not trace.exists() and "evil_module" not in sys.modules


def test_what_keras_gets_is_rebuilt(shipped, tmp_path):
    from zygal.sources.keras import open_keras
    from zygal.sources.keras.plain import write_plain_copy

    def changed(document):
        document["compile_config"] = {"loss": {"module": "evil_module", "class_name": "Loss"}}

    path = rewritten(
        shipped / "keras" / "channel_marks.keras", tmp_path / "m.keras", {"config.json": with_document(changed)}
    )
    with open_keras(path) as file:
        copy = write_plain_copy(file, tmp_path)
    with zipfile.ZipFile(copy) as archive:
        assert archive.namelist() == ["metadata.json", "config.json", "model.weights.h5"]
        assert b"evil_module" not in archive.read("config.json")
        with h5py.File(io.BytesIO(archive.read("model.weights.h5"))) as weights:
            assert "optimizer" not in weights and "layers" in weights


def hdf5_model(path, change):
    with h5py.File(path, "w") as file:
        file.attrs["model_config"] = json.dumps(
            {
                "class_name": "Sequential",
                "config": {
                    "name": "m",
                    "layers": [
                        {"class_name": "Dense", "config": {"name": "d", "units": 2, "batch_input_shape": [None, 3]}}
                    ],
                },
            }
        )
        file.attrs["keras_version"] = "2.13.1"
        change(file)
    return path


def test_weights_do_not_lie_behind_links(tmp_path):
    os.mkfifo(tmp_path / "pipe.h5")
    with h5py.File(tmp_path / "other.h5", "w") as other:
        other.create_group("w")
    for target in (h5py.ExternalLink("other.h5", "/w"), h5py.ExternalLink("pipe.h5", "/"), h5py.SoftLink("/nothing")):
        path = hdf5_model(tmp_path / "m.h5", lambda file, target=target: file.__setitem__("model_weights", target))
        refused(called("survey", path, cwd=tmp_path), "link")
    path = hdf5_model(tmp_path / "m.h5", lambda file: file.create_dataset("model_weights", data=np.zeros(3)))
    refused(called("survey", path, cwd=tmp_path), "no group model_weights")


@pytest.mark.parametrize("change", ["size", "free space", "object"])
def test_a_heap_of_texts_that_leads_nowhere_is_not_walked(change, tmp_path):
    path = hdf5_model(
        tmp_path / "m.h5", lambda file: file.create_group("model_weights").attrs.__setitem__("backend", "tensorflow")
    )
    data = bytearray(path.read_bytes())
    place = data.index(b"GCOL")
    at = {"size": place + 8, "object": place + 24}.get(change)
    if at is None:
        # The last object of the heap has the number 0, and its size is what is left.
        at = next(
            p + 8
            for p in range(place + 16, len(data), 8)
            if data[p : p + 8] == bytes(8) and data[p + 8 : p + 16] != bytes(8)
        )
    data[at : at + 8] = bytes(8) if change != "object" else b"\xf8" * 8
    path.write_bytes(data)
    refused(called("survey", path, cwd=tmp_path), "heaps")


def test_a_configuration_takes_no_memory_on_its_word(shipped, tmp_path):
    for member, size in (("config.json", 30_000_000), ("metadata.json", 3_000_000), ("model.weights.h5", 200_000_000)):
        path = rewritten(
            shipped / "keras" / "channel_marks.keras",
            tmp_path / "m.keras",
            {member: lambda _, size=size: b"[" + b"[]," * (size // 3) + b"0]"},
            zipfile.ZIP_DEFLATED,
        )
        done = called("survey", path, cwd=tmp_path)
        assert done.returncode == 2 and "Traceback" not in done.stderr, done.stderr


@pytest.mark.parametrize("strides", [[0, 0], [-1, 1], ["a", 1], None])
def test_settings_that_no_layer_has_are_a_sentence(strides, shipped, tmp_path):
    def changed(document):
        for layer in document["config"]["layers"]:
            if "kernel_size" in layer["config"]:
                layer["config"].update(strides=strides, padding="same")

    path = rewritten(
        shipped / "keras" / "channel_marks.keras", tmp_path / "m.keras", {"config.json": with_document(changed)}
    )
    refused(called("convert", path, "-o", tmp_path / "m.onnx", cwd=tmp_path), "m.keras")
    assert called("survey", path, cwd=tmp_path).returncode in (0, 2)


# Images


def test_an_image_starts_no_program(tmp_path, monkeypatch):
    bin_ = tmp_path / "bin"
    bin_.mkdir()
    (bin_ / "gs").write_text(f"#!/bin/sh\ntouch {tmp_path / 'trace'}\n")
    (bin_ / "gs").chmod(0o755)
    monkeypatch.setenv("PATH", f"{bin_}:{os.environ['PATH']}")
    (tmp_path / "a.jpg").write_bytes(
        b"%!PS-Adobe-3.0 EPSF-3.0\n%%BoundingBox: 0 0 20 20\n%%EndComments\nshowpage\n%%EOF\n"
    )
    with pytest.raises(ImageError, match="not an image that can be decoded"):
        open_image(tmp_path / "a.jpg")
    assert not (tmp_path / "trace").exists()


def test_only_documented_forms_are_opened(tmp_path):
    picture = Image.new("RGB", (8, 6), (10, 20, 30))
    opened, refused_ = [], []
    for form in ("BMP", "GIF", "JPEG", "PNG", "PPM", "TGA", "TIFF", "WEBP", "PCX", "ICO", "SGI", "IM", "MPO"):
        path = tmp_path / f"a.{form.lower()}"
        picture.save(path, form)
        try:
            open_image(path)
            opened.append(form)
        except ImageError:
            refused_.append(form)
    # A picture of several, as some cameras save it, is a JPEG with more behind it.
    assert opened == [*FORMATS, "MPO"] and refused_ == ["PCX", "ICO", "SGI", "IM"]
    documented = (Path(__file__).parents[1] / "docs" / "formats.md").read_text()
    assert all(form in documented for form in FORMATS)


@pytest.mark.parametrize(
    "fault",
    [
        RuntimeError("odd"),
        NotImplementedError("never"),
        MemoryError(),
        OSError("bad"),
        KeyError(1),
        RecursionError(),
        OverflowError("large"),
        AttributeError("none"),
    ],
)
def test_whatever_a_decoder_raises_is_that_images_fault(fault, tmp_path, monkeypatch):
    Image.new("RGB", (8, 6)).save(tmp_path / "a.png")

    def broken(self):
        raise fault

    monkeypatch.setattr("PIL.ImageFile.ImageFile.load", broken)
    with pytest.raises(ImageError, match="cannot be decoded"):
        decode_image(tmp_path / "a.png", Decode())


def claiming(form, size):
    data = io.BytesIO()
    Image.new("RGB" if form != "PNG16" else "I;16", (4, 4)).save(data, "PNG" if form.startswith("PNG") else form)
    data = bytearray(data.getvalue())
    if form.startswith("PNG"):
        import zlib

        data[16:24] = size[0].to_bytes(4, "big") + size[1].to_bytes(4, "big")
        data[29:33] = zlib.crc32(data[12:29]).to_bytes(4, "big")
    else:
        data[18:26] = size[0].to_bytes(4, "little") + size[1].to_bytes(4, "little")
    return bytes(data)


@pytest.mark.parametrize(
    "form, size",
    [("PNG", (60_000, 60_000)), ("PNG16", (11_000, 11_000)), ("BMP", (12_000, 12_000)), ("PNG", (10_300, 10_300))],
)
def test_the_size_of_an_image_is_checked_before_memory_is_taken(form, size, tmp_path):
    assert size[0] * size[1] > MOST_PIXELS
    (tmp_path / "a").write_bytes(claiming(form, size))
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    with pytest.raises(ImageError, match="pixels"):
        decode_image(tmp_path / "a", Decode(sixteen_bit="clip"))
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 50_000


@pytest.mark.parametrize("way", ["high-byte", "clip", "scale"])
def test_bands_of_a_large_picture_are_the_whole(way, tmp_path):
    numbers = np.random.default_rng(0).integers(0, 65536, (2500, 7)).astype(np.uint16)
    Image.fromarray(numbers).save(tmp_path / "deep.png")
    found = np.asarray(decode_image(tmp_path / "deep.png", Decode(sixteen_bit=way)))[:, :, 0]
    wanted = {"high-byte": numbers >> 8, "clip": np.minimum(numbers, 255), "scale": (numbers.astype(int) + 128) // 257}[
        way
    ]
    assert np.array_equal(found, wanted)
    colours = np.random.default_rng(1).integers(0, 256, (2500, 5, 4)).astype(np.uint8)
    Image.fromarray(colours, "RGBA").save(tmp_path / "clear.png")
    ground = Image.new("RGBA", (5, 2500), "#336699")
    whole = Image.alpha_composite(ground, Image.fromarray(colours, "RGBA")).convert("RGB")
    assert np.array_equal(
        np.asarray(decode_image(tmp_path / "clear.png", Decode(transparency="#336699"))), np.asarray(whole)
    )


def test_a_palette_with_a_transparent_colour_is_laid_over_its_ground(tmp_path):
    picture = Image.new("P", (3, 2), 1)
    picture.putpalette([255, 0, 0, 0, 255, 0])
    picture.putpixel((1, 1), 0)
    picture.save(tmp_path / "p.png", transparency=0)
    found = np.asarray(decode_image(tmp_path / "p.png", Decode(transparency="#0000ff")))
    assert found[1, 1].tolist() == [0, 0, 255] and found[0, 0].tolist() == [0, 255, 0]


# Files that are no files


@pytest.fixture
def odd_nodes(tmp_path):
    os.mkfifo(tmp_path / "pipe")
    (tmp_path / "folder").mkdir()
    (tmp_path / "gone").symlink_to("nowhere")
    (tmp_path / "ring").symlink_to("ring")
    return ["pipe", "folder", "gone", "ring", "/dev/zero", "/dev/null", "n" * 300, "\udcff\udcfe.onnx", "a/../b"]


@pytest.mark.parametrize(
    "arguments",
    [
        ("survey", "{}"),
        ("convert", "{}", "-o", "x.onnx"),
        ("bench", "{}"),
        ("match", "{}", "--witness", "{}"),
        ("classify", "{}", "a.png"),
        ("tally", "a.onnx", "--images", "{}"),
        ("inlet", "draw", "{}", "--inlet", "{}", "-o", "x.png"),
        ("convert", "a.pt2", "--labels", "{}", "-o", "x.onnx"),
        ("witness", "--from-arrays", "{}", "--images", ".", "-o", "w"),
        ("inlet", "recover", "--witness", "{}", "--images", "{}", "-o", "x.toml"),
        ("bench", "a.onnx", "--baseline", "{}"),
    ],
    ids=lambda arguments: " ".join(arguments),
)
def test_what_is_no_file_is_said_at_once(arguments, odd_nodes, tmp_path):
    for node in odd_nodes:
        done = called(*(each.format(node) for each in arguments), cwd=tmp_path)
        assert done.returncode == 2 and done.stderr.count("\n") == 1 and done.stderr.startswith("zygal: "), (
            node,
            done.stderr,
        )
        assert len(done.stderr) < 420


def test_a_pipe_in_a_folder_is_a_row_with_a_reason(workspace):
    os.mkfifo(workspace / "reference" / "pipe.jpg")
    (workspace / "reference" / "link.jpg").symlink_to("nowhere.jpg")
    done = called("classify", "channel_marks.onnx", "reference", "-o", "a.csv", cwd=workspace)
    assert done.returncode == 3 and "2 could not be read" in done.stdout, done
    rows = (workspace / "a.csv").read_text().splitlines()
    assert any("pipe.jpg" in row and "is a pipe" in row for row in rows)


def test_files_are_opened_without_waiting(tmp_path):
    os.mkfifo(tmp_path / "pipe")
    with pytest.raises(FileError, match="is a pipe, not a file"):
        open_file(tmp_path / "pipe")
    with pytest.raises(FileError, match="is a device, not a file"):
        existing_file("/dev/zero")
    with pytest.raises(FileError, match="is not a valid file name"):
        read_text("a\0b", "text")
    with pytest.raises(FileError, match="is a folder"):
        sha256_of(tmp_path)
    with pytest.raises(FileError, match="too long"):
        open_file(tmp_path / ("n" * 300))


# Outputs


def test_an_output_does_not_go_where_a_link_leads(tmp_path):
    (tmp_path / "real").mkdir()
    (tmp_path / "link").symlink_to("real/file")
    with pytest.raises(OutputError, match="nothing is written through links"), whole_file(tmp_path / "link") as file:
        file.write(b"one")
    assert (tmp_path / "link").is_symlink() and not (tmp_path / "real" / "file").exists()
    (tmp_path / "ring").symlink_to("ring")
    for path in (tmp_path / "ring", tmp_path / "real", tmp_path / ("n" * 300), tmp_path / "no" / "folder"):
        with pytest.raises(OutputError):
            check_writable(path)
    long = tmp_path / ("n" * 250)
    with whole_file(long) as file:
        file.write(b"two")
    assert long.read_bytes() == b"two" and not list(tmp_path.glob(".zygal*"))


def test_a_device_stays_a_device(shipped, tmp_path):
    if os.geteuid():
        pytest.skip("devices are made by root alone")
    node = tmp_path / "null"
    os.mknod(node, stat.S_IFCHR | 0o666, os.makedev(1, 3))
    done = called("survey", shipped / "labels.txt", "--json", node, cwd=tmp_path)
    assert done.returncode == 0 and stat.S_ISCHR(os.stat(node).st_mode)


def test_a_pipe_takes_an_output(shipped, tmp_path):
    os.mkfifo(tmp_path / "pipe")
    reader = subprocess.Popen(["cat", str(tmp_path / "pipe")], stdout=subprocess.PIPE)
    done = called("survey", shipped / "labels.txt", "--json", tmp_path / "pipe", cwd=tmp_path)
    out, _ = reader.communicate(timeout=20)
    assert done.returncode == 0 and json.loads(out)["labels"] and stat.S_ISFIFO(os.stat(tmp_path / "pipe").st_mode)


def test_a_full_folder_for_temporary_files_is_not_a_damaged_model(tmp_path, monkeypatch):
    with pytest.raises(OutputError, match="temporary files"), scratch_folder() as folder:
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), str(folder / "x"))
    monkeypatch.setenv("TMPDIR", str(tmp_path / "nowhere"))
    import tempfile

    monkeypatch.setattr(tempfile, "tempdir", str(tmp_path / "nowhere"))
    with pytest.raises((OutputError, FileNotFoundError)), scratch_folder():
        pass


# How the program ends


@pytest.mark.alike
@pytest.mark.parametrize("stream, code", [("1>/dev/full", 2), ("1>&-", 0), ("2>&-", 0), ("0<&- 1>&- 2>&-", 0)])
def test_standard_streams_that_are_closed_or_full(stream, code, shipped):
    zygal = Path(PYTHON).with_name("zygal")
    for arguments in ("survey labels.txt", "--help"):
        done = subprocess.run(f"{zygal} {arguments} {stream}", shell=True, cwd=shipped, capture_output=True, text=True)
        assert done.returncode == code and "Traceback" not in done.stderr, (arguments, done)
        assert done.stderr.count("\n") <= 1


def test_a_reader_that_goes_away_is_no_fault(shipped):
    zygal = Path(PYTHON).with_name("zygal")
    done = subprocess.run(
        f"{zygal} survey channel_marks.pt2 | head -1", shell=True, cwd=shipped, capture_output=True, text=True
    )
    assert done.returncode == 0 and not done.stderr


def test_names_do_not_steer_the_terminal(shipped, tmp_path):
    evil = tmp_path / "a\x1b[2Jb\x07.txt"
    evil.write_text("one\ntwo\x1b[31m\n")
    done = called("survey", evil, cwd=tmp_path)
    assert "\x1b" not in done.stdout + done.stderr and "\x07" not in done.stdout and "\\x1b[2J" in done.stdout, done
    done = called("survey", tmp_path / "no\x1b[2J\u202e", cwd=tmp_path)
    assert "\x1b" not in done.stderr and "\u202e" not in done.stderr


def test_an_internal_error_is_a_sentence_with_its_own_code(shipped, monkeypatch):
    def broken(*arguments):
        raise ZeroDivisionError("x" * 900)

    monkeypatch.setattr("zygal.commands.survey.execute.survey", broken)
    done = called("survey", "labels.txt", cwd=shipped)
    assert done.returncode == 70 and done.stderr.count("\n") == 1 and len(done.stderr) < 420
    assert "internal error: ZeroDivisionError" in done.stderr and "--traceback shows where" in done.stderr
    monkeypatch.setenv("ZYGAL_TRACEBACK", "1")
    assert "Traceback" in called("survey", "labels.txt", cwd=shipped).stderr


def test_an_interrupt_in_the_first_moments_is_one_sentence(shipped):
    for wait in (0.03, 0.06, 0.1, 0.15):
        process = subprocess.Popen(
            [Path(PYTHON).with_name("zygal"), "survey", "channel_marks.pt2"],
            cwd=shipped,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        time.sleep(wait)
        process.send_signal(2)
        _, errors = process.communicate(timeout=20)
        # Before the first line of ours is read the interpreter itself answers; after it no page of it is seen.
        assert "/zygal/cli" not in errors, errors
        if "zygal: " in errors:
            assert process.returncode == 130 and errors.count("\n") == 1 and "interrupted" in errors, errors


def test_sentences_are_short_and_one_line():
    fault = ZygalError("a\nb\x1b[0m " + "x" * 5000 + " the end")
    assert (
        len(str(fault)) <= 400
        and "\n" not in str(fault)
        and "\x1b" not in str(fault)
        and str(fault).endswith("the end")
    )
    assert one_line("short") == "short"


# ONNX files that look elsewhere


def with_external_weight(shipped, folder, **entries):
    model = onnx.load(shipped / "channel_marks.onnx")
    tensor = model.graph.initializer[0]
    size = len(tensor.raw_data)
    tensor.ClearField("raw_data")
    tensor.data_location = onnx.TensorProto.EXTERNAL
    for key, value in {"location": "w.bin", "offset": "0", "length": str(size), **entries}.items():
        if value is not None:
            tensor.external_data.add(key=key, value=value)
    (folder / "m.onnx").write_bytes(model.SerializeToString())
    return size


@pytest.mark.parametrize(
    "entries, words",
    [
        ({"location": "../secret"}, "not in its folder"),
        ({"location": "/etc/passwd"}, "not in its folder"),
        ({"location": "gone.bin"}, "does not exist; copy both"),
        ({"location": "pipe"}, "does not exist; copy both"),
        ({"location": "link"}, "not in its folder"),
        ({"length": "3"}, "does not fit"),
        ({"offset": "-1"}, "does not name the file"),
        ({"offset": "9" * 30}, "does not name the file"),
        ({"location": None}, "does not name the file"),
        ({"extra": "1"}, "does not name the file"),
    ],
)
@pytest.mark.parametrize("command", ["survey", "bench", "classify"])
def test_weights_beside_an_artifact_lie_in_its_folder(command, entries, words, shipped, tmp_path):
    home = tmp_path / "home"
    home.mkdir()
    (tmp_path / "secret").write_bytes(bytes(10_000))
    (home / "w.bin").write_bytes(bytes(10_000))
    (home / "link").symlink_to("../secret")
    os.mkfifo(home / "pipe")
    with_external_weight(shipped, home, **entries)
    more = {"bench": ("--seconds", "0.1"), "classify": (shipped / "reference",)}.get(command, ())
    refused(called(command, home / "m.onnx", *more, cwd=tmp_path), words)


def test_weights_beside_an_artifact_are_read(shipped, tmp_path):
    size = with_external_weight(shipped, tmp_path)
    model = onnx.load(shipped / "channel_marks.onnx")
    (tmp_path / "w.bin").write_bytes(model.graph.initializer[0].raw_data)
    assert size == (tmp_path / "w.bin").stat().st_size
    done = program("match", "m.onnx", "--witness", shipped / "channel_marks.witness", cwd=tmp_path)
    assert done.returncode == 0, done.stdout + done.stderr
