"""Every convention of resampling, judged by the library whose convention it is; and the same inside a graph."""

import cv2
import jax.image
import jax.numpy as jnp
import numpy as np
import onnx
import onnxruntime
import pytest
import torch
from conftest import needs_jax
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st
from PIL import Image

from zygal.artifact.formats import write_artifact
from zygal.artifact.onnx.write import build_model
from zygal.classifier.metadata import Metadata
from zygal.errors import InletError
from zygal.evidence.match import raw_level_limit
from zygal.graph.reference import run_graph
from zygal.graph.shapes import at_batch
from zygal.inlet import Blur, Crop, Decode, Inlet, Pad, Resize, Tensor, Values
from zygal.inlet.apply import apply_to_opened
from zygal.inlet.edits import step_edits
from zygal.inlet.front import front_of
from zygal.inlet.resampling import windows
from zygal.inlet.rounding import resize_array
from zygal.inlet.sizes import Axis


def by_torch(mode, eight_bit=False, **more):
    def resize(pixels, size):
        tensor = torch.from_numpy(pixels.transpose(2, 0, 1)[None].copy())
        tensor = tensor.contiguous(memory_format=torch.channels_last) if eight_bit else tensor.float()
        return torch.nn.functional.interpolate(tensor, size=size, mode=mode, **more)[0].numpy().transpose(1, 2, 0)

    return resize


def by_opencv(way, eight_bit=False):
    def resize(pixels, size):
        pixels = pixels if eight_bit else pixels.astype(np.float32)
        return cv2.resize(pixels, size[::-1], interpolation=way).reshape(*size, 3)

    return resize


def by_jax(method, antialias):
    def resize(pixels, size):
        return np.asarray(jax.image.resize(jnp.asarray(pixels, jnp.float32), (*size, 3), method, antialias=antialias))

    return resize


def by_keras(interpolation, antialias):
    def resize(pixels, size):
        import keras

        # The layer is compiled anew for each size; what it calls is not.
        ways = {"interpolation": interpolation, "antialias": antialias}
        return np.asarray(keras.ops.image.resize(pixels.astype(np.float32), size, data_format="channels_last", **ways))

    return resize


def by_pillow(way):
    return lambda pixels, size: np.asarray(Image.fromarray(pixels).resize(size[::-1], way))


PLAIN, FLOAT = {"antialias": False}, {"rounding": "none"}
# The library's call, our statement of it, and how far they may be apart in grey levels: what float32 places cost.
CONVENTIONS = {
    "Pillow bilinear": (by_pillow(Image.BILINEAR), {"filter": "bilinear"}, 0),
    "Pillow bicubic": (by_pillow(Image.BICUBIC), {"filter": "bicubic"}, 0),
    "Pillow Lanczos": (by_pillow(Image.LANCZOS), {"filter": "lanczos"}, 0),
    "Pillow Hamming": (by_pillow(Image.HAMMING), {"filter": "hamming"}, 0),
    "Pillow box": (by_pillow(Image.BOX), {"filter": "box"}, 0),
    "torch bilinear": (by_torch("bilinear"), {"filter": "bilinear"} | PLAIN | FLOAT, 0.02),
    "torch bilinear, corners": (
        by_torch("bilinear", align_corners=True),
        {"filter": "bilinear", "grid": "corners"} | PLAIN | FLOAT,
        0.02,
    ),
    "torch bilinear, antialias": (by_torch("bilinear", antialias=True), {"filter": "bilinear"} | FLOAT, 0.02),
    "torch bicubic": (
        by_torch("bicubic"),
        {"filter": "bicubic", "cubic": -0.75, "edges": "repeat"} | PLAIN | FLOAT,
        0.03,
    ),
    "torch bicubic, antialias": (by_torch("bicubic", antialias=True), {"filter": "bicubic"} | FLOAT, 0.03),
    "torch nearest": (by_torch("nearest"), {"filter": "nearest", "grid": "asymmetric", "scale": "float32"}, 0),
    "torch nearest-exact": (by_torch("nearest-exact"), {"filter": "nearest", "scale": "float32"}, 0),
    "torch area": (by_torch("area"), {"filter": "adaptive"} | FLOAT, 0.001),
    "torch 8-bit bilinear": (by_torch("bilinear", True), {"filter": "bilinear", "rounding": "passes-16bit"} | PLAIN, 0),
    "torch 8-bit bilinear, antialias": (
        by_torch("bilinear", True, antialias=True),
        {"filter": "bilinear", "rounding": "passes-16bit"},
        0,
    ),
    "torch 8-bit bicubic, antialias": (
        by_torch("bicubic", True, antialias=True),
        {"filter": "bicubic", "rounding": "passes-16bit"},
        0,
    ),
    "jax bilinear": (by_jax("bilinear", False), {"filter": "bilinear"} | PLAIN | FLOAT, 0.02),
    "jax bicubic, antialias": (by_jax("bicubic", True), {"filter": "bicubic"} | FLOAT, 0.03),
    "jax bicubic": (by_jax("bicubic", False), {"filter": "bicubic"} | PLAIN | FLOAT, 0.03),
    "jax Lanczos 5": (by_jax("lanczos5", True), {"filter": "lanczos5"} | FLOAT, 0.03),
    "Keras bilinear": (by_keras("bilinear", False), {"filter": "bilinear"} | PLAIN | FLOAT, 0.02),
    "Keras Lanczos 3, antialias": (by_keras("lanczos3", True), {"filter": "lanczos"} | FLOAT, 0.03),
    "OpenCV linear": (by_opencv(cv2.INTER_LINEAR), {"filter": "bilinear"} | PLAIN | FLOAT, 0.001),
    "OpenCV cubic": (
        by_opencv(cv2.INTER_CUBIC),
        {"filter": "bicubic", "cubic": -0.75, "edges": "repeat"} | PLAIN | FLOAT,
        0.001,
    ),
    "OpenCV Lanczos 4": (
        by_opencv(cv2.INTER_LANCZOS4),
        {"filter": "lanczos4", "edges": "repeat"} | PLAIN | FLOAT,
        0.03,
    ),
    "OpenCV nearest": (
        by_opencv(cv2.INTER_NEAREST, True),
        {"filter": "nearest", "grid": "asymmetric", "scale": "float64"},
        0,
    ),
    "OpenCV 8-bit linear": (by_opencv(cv2.INTER_LINEAR, True), {"filter": "bilinear", "rounding": "fixed"} | PLAIN, 0),
}
sides = st.integers(1, 80)


COMPILED = [name for name in CONVENTIONS if name.startswith(("jax", "Keras"))]
"""Each size is compiled anew."""


@pytest.mark.parametrize(
    "name",
    [pytest.param(name, marks=[pytest.mark.slow, pytest.mark.jax] if name in COMPILED else []) for name in CONVENTIONS],
)
@settings(max_examples=12, deadline=None)
@example((36, 74), (7, 55), 1)  # Pillow's Hamming window has its terms in float32.
@given(st.tuples(sides, sides), st.tuples(sides, sides), st.integers(0, 9))
def test_resizing_is_the_librarys(name, before, after, seed):
    if name.startswith("Keras Lanczos"):
        needs_jax()
    library, stated, allowed = CONVENTIONS[name]
    # PyTorch's antialiased resize repeats the first pixel where the image is or becomes one pixel wide.
    assume(name not in ("torch bilinear, antialias", "torch bicubic, antialias") or min(*before, *after) > 1)
    pixels = np.random.default_rng(seed).integers(0, 256, (*before, 3), np.uint8)
    found = resize_array(pixels, after, Resize(size=after, **stated))
    left = np.abs(found.astype(np.float64) - library(pixels, after))
    assert left.max() <= allowed, (left.max(), before, after)


@settings(max_examples=25, deadline=None)
@given(
    st.tuples(st.integers(1, 20), st.integers(1, 20)),
    st.tuples(st.integers(1, 4), st.integers(1, 4)),
    st.integers(0, 9),
)
def test_opencvs_area_of_what_shrinks(after, by, seed):
    before = tuple(side * times for side, times in zip(after, by))
    pixels = np.random.default_rng(seed).integers(0, 256, (*before, 3), np.uint8)
    wanted = cv2.resize(pixels, after[::-1], interpolation=cv2.INTER_AREA).reshape(*after, 3)
    assert np.array_equal(resize_array(pixels, after, Resize(size=after, filter="area", rounding="fixed")), wanted)


@settings(max_examples=60, deadline=None)
@given(
    st.sampled_from(sorted({step for _, step in step_edits(Resize(size=(9, 9))) if step.edges != "zero"}, key=str)),
    sides,
    sides,
)
def test_a_matrix_is_a_mean_of_what_is_there(step, inputs, outputs):
    by = windows(Axis.between(inputs, outputs), step)
    assert np.allclose(by.weights.sum(axis=1), 1) and by.first.min() >= 0
    assert (by.first + by.weights.shape[1]).max() <= inputs
    flat = resize_array(np.full((inputs, 3, 1), 77, np.uint8), (outputs, 3), step)
    assert np.abs(flat.astype(float) - 77).max() < 1e-3


@pytest.mark.parametrize(
    "name", [name for name, (_, stated, _) in CONVENTIONS.items() if stated["filter"] == "nearest"]
)
@settings(max_examples=12, deadline=None)
@given(st.tuples(sides, sides), st.tuples(sides, sides), st.integers(0, 9))
def test_an_inlet_copies_the_pixels_that_the_library_copies(name, before, after, seed):
    library, stated, _ = CONVENTIONS[name]
    inlet = Inlet(frame=(Resize(size=after, **stated),), values=Values((0.0, 255.0)), tensor=Tensor("NHWC", "uint8"))
    pixels = np.random.default_rng(seed).integers(0, 256, (*before, 3), np.uint8)
    assert np.array_equal(apply_to_opened(Image.fromarray(pixels), inlet, "drawn").tensor, library(pixels, after))


def nearest_inlet(**stated):
    frame = (Resize(size=(23, 61), filter="nearest", **stated),)
    return Inlet(frame=frame, values=Values((0.0, 255.0)), tensor=Tensor("NHWC", "uint8"))


GRAPH_INLETS = (
    nearest_inlet(scale="float32"),
    nearest_inlet(scale="float64"),
    nearest_inlet(grid="asymmetric"),
    nearest_inlet(grid="asymmetric", scale="float32"),
    nearest_inlet(grid="asymmetric", scale="float64"),
    nearest_inlet(grid="corners"),
    Inlet(Decode("rgb"), (Resize(24), Crop((20, 20))), Values(mean=(0.4, 0.5, 0.6), std=(0.2, 0.3, 0.25))),
    Inlet(Decode("bgr", mirror="both"), (Resize(within=(20, 24), filter="bicubic"), Pad((20, 24), colour="#203040")),
    Values((-1.0, 1.0))),
    Inlet(Decode("grey", grey_channels=3), (Crop(fraction=0.875), Resize(size=(16, 20), filter="lanczos",
    rounding="end")),
          Values(per_image="standardise")),
    Inlet(Decode("rgb", polarity="inverted"), (Pad(aspect=(1, 1)), Resize(size=(16, 16), filter="nearest")),
    Values((0.0, 255.0)),
          Tensor("NHWC", "uint8")),
    Inlet(Decode("grey", grey_rounding="none"), (Crop(aspect=(4, 3), centring="nearest"),
          Resize(size=(20, 15), filter="bicubic", cubic=-0.75, antialias=False, edges="repeat", rounding="none")),
          Values(per_image="stretch")),
    Inlet(Decode("rgb"), (Resize(30, filter="area", long_side="up", rounding="down"), Crop((20, 20), "start")),
    Values(), Tensor("NHWC")),
    Inlet(frame=(Resize(size=(20, 16), box="aspect", filter="bicubic"),)),
    Inlet(frame=(Resize(size=(20, 16), box="aspect-pixels", filter="mitchell", rounding="none"),),
    values=Values(per_image="by-maximum")),
    Inlet(frame=(Resize(cover=(20, 16), grid_scale="factor", long_side="nearest", filter="bilinear", antialias=False,
    rounding="none"),
                 Crop((20, 16), "nearest"))),
    Inlet(frame=(Resize(factor=0.43, grid_scale="factor", filter="nearest", grid="asymmetric", scale="float32"),
                 Crop((12, 40), missing="#102030"))),
    Inlet(frame=(Resize(within=(40, 40), enlarge=False, filter="gaussian", rounding="none"), Pad((40, 40),
    border="repeat"))),
    Inlet(frame=(Blur(1.0, 5, rounding="end"), Crop(margins=(1, 2, 3, 0)), Pad(margins=(0, 3, 2, 1), border="reflect"),
                 Resize(size=(16, 16), filter="bilinear", antialias=False, rounding="fixed-8bit"))),
    Inlet(Decode("grey", conversion="grey-after-resize", grey_rounding="stretched"),
          (Pad(aspect=(1, 1), centring="equal"), Resize(size=(16, 16), filter="bilinear", rounding="none"))),
    Inlet(Decode("grey", polarity="dark-ground", grey_rounding="down-15bit"),
          (Crop(aspect=(1, 1), fraction=0.875, centring="up"), Resize(size=(16, 16))),
          Values(per_image="stretch-channels")),
)  # fmt: skip


@pytest.mark.parametrize(
    "key, inlet",
    [
        ("jpeg_grey", Inlet(Decode("grey", jpeg_grey="luma"), (Resize(size=(8, 8)),))),
        ("conversion", Inlet(Decode(conversion="after-resize"), (Resize(size=(8, 8)),))),
        ("filter", Inlet(frame=(Resize(size=(8, 8), filter="spline", rounding="none"),))),
        ("edges", Inlet(frame=(Resize(size=(8, 8), antialias=False, edges="zero", rounding="none"),))),
        ("prefilter", Inlet(frame=(Resize(size=(8, 8), antialias=False, prefilter="gaussian", rounding="none"),))),
        ("reduce_above", Inlet(frame=(Resize(size=(8, 8), reduce_above=2.0),))),
        ("kind", Inlet(frame=(Blur(1.0, kind="three-boxes"), Resize(size=(8, 8))))),
    ],
)
def test_what_operators_are_not_written_for_is_refused_by_name(key, inlet):
    with pytest.raises(InletError, match=f"{key} = .*--raw-pixels"):
        front_of(inlet, "image", "tensor")


@pytest.mark.alike
@pytest.mark.parametrize("number", range(len(GRAPH_INLETS)))
@settings(max_examples=6, deadline=None)
@given(st.tuples(st.integers(24, 90), st.integers(24, 90)), st.integers(0, 9))
def test_the_inlet_inside_a_graph_is_the_inlet_to_one_grey_level_per_rounding(number, size, seed):
    inlet = GRAPH_INLETS[number]
    front = front_of(inlet, "image", "tensor")
    model, constants = build_model(front, Metadata(), 13)
    model.graph.initializer.extend(
        onnx.numpy_helper.from_array(np.array(array, order="C"), name) for name, array in constants.items()
    )
    onnx.checker.check_model(model, full_check=True)
    pixels = np.random.default_rng(seed).integers(0, 256, (2, *size, 3), np.uint8)
    found = onnxruntime.InferenceSession(model.SerializeToString()).run(None, {"image": pixels})[0]
    meant = run_graph(front, {"image": pixels})["tensor"]
    type = front.types["tensor"]
    assert (meant.dtype, meant.shape, found.shape) == (type.dtype, at_batch(type.shape, 2), meant.shape)
    found = np.concatenate([found, meant])
    pixels = np.concatenate([pixels, pixels])
    for image, tensor in zip(pixels, found):
        wanted = apply_to_opened(Image.fromarray(image), inlet, "drawn")
        level = wanted.grey_level[:, None, None] if inlet.tensor.layout == "NCHW" else wanted.grey_level
        assert (np.abs(tensor.astype(np.float64) - wanted.tensor) / np.abs(level)).max() <= raw_level_limit(
            inlet
        ) + 0.01


@pytest.mark.parametrize("batch", [1, 3, 8])
def test_pictures_that_are_smaller_than_the_crop_are_refused_whatever_their_number(batch, tmp_path):
    inlet = Inlet(frame=(Resize(short_side=40), Crop(size=(64, 64))))
    write_artifact(front_of(inlet, "image", "tensor"), tmp_path / "front.onnx", Metadata())
    session = onnxruntime.InferenceSession(tmp_path / "front.onnx")
    # Eight pictures of 40 x 64 have as many pixels as five of 64 x 64.
    with pytest.raises(Exception, match=rf"\{{{batch},3,40,64\}}"):
        session.run(None, {"image": np.zeros((batch, 80, 320, 3), np.uint8)})


def test_a_resize_makes_only_what_the_crop_behind_it_keeps(tmp_path):
    inlet = Inlet(frame=(Resize(short_side=64), Crop(size=(32, 32))))
    pixels = np.random.default_rng(1).integers(0, 256, (1, 96, 160, 3), np.uint8)
    front = front_of(inlet, "image", "tensor")
    found = run_graph(front, {"image": pixels})["tensor"][0]
    wanted = apply_to_opened(Image.fromarray(pixels[0]), inlet, "drawn")
    assert (np.abs(found - wanted.tensor) / wanted.grey_level[:, None, None]).max() <= 1.01
