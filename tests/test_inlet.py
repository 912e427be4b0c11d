"""The inlet, judged by Pillow and NumPy called directly, and by the demo's training code."""

import importlib.util
import zlib
from dataclasses import replace

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image, ImageOps

from zygal.errors import ImageError, InletError
from zygal.inlet import (
    Crop,
    Decode,
    Inlet,
    Pad,
    Resize,
    Tensor,
    Values,
    apply_inlet,
    apply_to_all,
    format_inlet,
    parse_inlet,
    read_inlet,
)
from zygal.inlet import specification as spec
from zygal.inlet.sizes import tensor_shape
from zygal.machine.pool import ThreadPool

PILLOWS = ("nearest", "box", "bilinear", "hamming", "bicubic", "lanczos")
sides = st.integers(1, 90)
colours = st.sampled_from(spec.COLOURS)


@st.composite
def frames(draw):
    """A resize and perhaps a crop that fits behind it."""
    if draw(st.booleans()):
        short = draw(st.integers(4, 60))
        resize = Resize(short, None, draw(st.sampled_from(PILLOWS)), draw(st.sampled_from(["down", "nearest"])))
        room = (short, short)
    else:
        room = (draw(st.integers(4, 60)), draw(st.integers(4, 60)))
        resize = Resize(None, room, draw(st.sampled_from(PILLOWS)))
    size = tuple(draw(st.integers(1, side)) for side in room)
    crop = Crop(size, draw(st.sampled_from(["down", "nearest"])))
    return (resize, crop) if draw(st.booleans()) else (resize,)


@st.composite
def inlets(draw):
    decode = Decode(draw(colours), draw(st.sampled_from(spec.EXIF)), draw(st.sampled_from(["drop", "#20ff80"])))
    channels = 1 if decode.colour == "grey" else 3
    numbers = st.lists(st.floats(0.125, 2.0, width=32), min_size=channels, max_size=channels).map(tuple)
    ranges = st.sampled_from([(0.0, 1.0), (-1.0, 1.0), (1.0, 0.0), (0.0, 50.0)])
    values = Values(draw(ranges), draw(st.none() | numbers), draw(st.none() | numbers))
    return Inlet(decode, draw(frames()), values, Tensor(draw(st.sampled_from(spec.LAYOUTS))))


@st.composite
def pictures(draw):
    mode = draw(st.sampled_from(["RGB", "L", "RGBA", "LA", "P", "1", "CMYK"]))
    pixels = np.random.default_rng(draw(st.integers(0, 99))).integers(0, 256, (draw(sides), draw(sides), 4), np.uint8)
    return Image.fromarray(pixels, "RGBA").convert(mode), draw(st.sampled_from([None, 1, 3, 5, 6, 8]))


def by_hand(picture, orientation, inlet):
    """What a careful person writes with Pillow and NumPy for this inlet, in float64 at the end."""
    turns = {
        3: Image.Transpose.ROTATE_180,
        5: Image.Transpose.TRANSPOSE,
        6: Image.Transpose.ROTATE_270,
        8: Image.Transpose.ROTATE_90,
    }
    if inlet.decode.exif == "apply" and orientation in turns:
        picture = picture.transpose(turns[orientation])
    if inlet.decode.transparency != "drop" and (picture.mode in ("RGBA", "LA") or "transparency" in picture.info):
        ground = Image.new("RGBA", picture.size, (0x20, 0xFF, 0x80, 255))
        ground.alpha_composite(picture.convert("RGBA"))
        picture = ground.convert("RGB")
    picture = picture.convert("L" if inlet.decode.colour == "grey" else "RGB")
    for step in inlet.frame:
        width, height = picture.size
        if isinstance(step, Crop):
            halve = (lambda n: n // 2) if step.centring == "down" else (lambda n: int(round(n / 2)))
            top, left = halve(height - step.size[0]), halve(width - step.size[1])
            picture = picture.crop((left, top, left + step.size[1], top + step.size[0]))
            continue
        if step.size:
            size = step.size[::-1]
        else:
            scale = max(width, height) * step.short_side / min(width, height)
            long = int(scale) if step.long_side == "down" else round(scale)
            size = (step.short_side, long) if width <= height else (long, step.short_side)
        picture = picture.resize(size, getattr(Image.Resampling, step.filter.upper()))
    pixels = np.atleast_3d(np.asarray(picture))
    pixels = pixels[..., ::-1] if inlet.decode.colour == "bgr" else pixels
    low, high = inlet.values.range
    numbers = pixels.astype(np.float64) / 255 * (high - low) + low
    numbers = (numbers - np.array(inlet.values.mean or [0.0])) / np.array(inlet.values.std or [1.0])
    return pixels, numbers.transpose(2, 0, 1) if inlet.tensor.layout == "NCHW" else numbers


@settings(max_examples=150, deadline=None)
@given(pictures(), inlets())
def test_pixels_are_pillows_to_the_bit(tmp_path_factory, drawn, inlet):
    picture, orientation = drawn
    path = tmp_path_factory.getbasetemp() / ("picture.jpg" if picture.mode == "CMYK" else "picture.png")
    exif = Image.Exif()
    if orientation:
        exif[0x0112] = orientation
    picture.save(path, exif=exif)
    found = apply_inlet(path, inlet)
    pixels, numbers = by_hand(Image.open(path), orientation, inlet)
    assert np.array_equal(found.pixels, pixels)
    assert found.tensor.dtype == np.float32 and found.tensor.flags.c_contiguous
    np.testing.assert_allclose(found.tensor, numbers, rtol=1e-5, atol=2e-5 * max(map(abs, inlet.values.range)))
    assert tensor_shape(inlet) in (None, found.tensor.shape)


def test_every_reference_image_is_the_training_sides_to_the_bit(shipped):
    spec_ = importlib.util.spec_from_file_location("training_code", shipped / "training_code.py")
    training_code = importlib.util.module_from_spec(spec_)
    spec_.loader.exec_module(training_code)
    inlet = read_inlet(shipped / "channel_marks.inlet.toml")
    images = sorted((shipped / "reference").iterdir())
    modes = {Image.open(path).mode for path in images}
    turned = [path for path in images if Image.open(path).getexif().get(0x0112, 1) != 1]
    assert len(images) == 40 and modes >= {"RGB", "L", "RGBA", "P"} and len(turned) == 8
    for path in images:
        assert np.array_equal(apply_inlet(path, inlet).tensor, training_code.load_image(path)), path
    assert len({Image.open(path).size for path in images}) >= 8


@settings(max_examples=80, deadline=None)
@given(inlets())
def test_an_inlet_survives_being_written(inlet):
    assert parse_inlet(format_inlet(inlet), "text") == inlet


@pytest.mark.parametrize(
    "was, becomes, words",
    [
        ('colour = "rgb"', 'color = "rgb"', "unknown key color; known are colour, exif, transparency"),
        ('colour = "rgb"', 'colour = "RGBA"', "one of rgb, bgr, grey, not 'RGBA'"),
        ('colour = "rgb"', 'colour = "grey"', "mean has 3 numbers, but the image has 1 channel"),
        ("[decode]", "[decoder]", "unknown key decoder"),
        ("short_side = 72", "short_side = 72\nsize = [72, 72]", "one of short_side = PIXELS, size"),
        ("short_side = 72", "size = [72, 72]\nlong_side = 'down'", "long_side has no effect beside size"),
        ("short_side = 72", "", "one of short_side = PIXELS, size"),
        ("short_side = 72", "short_side = 7.5", "number of pixels from 1 to 16384, not 7.5"),
        ('filter = "bilinear"', "", "needs its filter"),
        ("size = [64, 64]", "size = [64, 80]", "crop to 64 x 80 is larger than"),
        ("size = [64, 64]", "size = 64", "height, width"),
        ('step = "crop"', 'step = "cut"', "one of resize, crop, pad"),
        ("[[frame]]", "[frame]", "not valid TOML|two brackets"),
        ("range = [0, 1]", "range = [1, 1]", "same value"),
        ("std = [0.24, 0.23, 0.25]", "std = [0.24, 0, 0.25]", "std contains 0"),
        ("std = [0.24, 0.23, 0.25]", "std = [0.24, nan, 0.25]", "list of one number per channel"),
        ('dtype = "float32"', 'dtype = "uint8"', "uint8 contradicts .values."),
        ('transparency = "#ffffff"', 'transparency = "white"', '"drop" or a colour'),
        ("range = [0, 1]", "range = [0, 255]", "mean = .* is in units of 0 to 1.*write range = .0, 1."),
        ("mean = [0.46, 0.48, 0.50]", "mean = [117, 122, 127]", "is in grey levels, but range = .0.0, 1.0."),
        ("range = [0, 1]", 'per_image = "standardise"', "drop mean and std"),
        (
            'colour = "rgb"',
            'colour = "rgb"\ngrey_rounding = "none"',
            "describes the conversion to grey, but colour is rgb",
        ),
        (
            'filter = "bilinear"',
            'filter = "nearest"\nrounding = "end"',
            "rounding has no effect with the filter nearest",
        ),
        ('filter = "bilinear"', 'filter = "bilinear"\nrounding = "fixed"', "without antialias"),
        ('step = "crop"', 'step = "pad"', "pads to 64 x 64, which is smaller than"),
        ("size = [64, 64]", "fraction = 1.5", "a share above 0 and at most 1"),
        ("size = [64, 64]", "size = [64, 64]\naspect = [1, 1]", "a crop needs one of"),
        ("zygal_inlet = 1", "zygal_inlet = 2", "reads version 1"),
        ("zygal_inlet = 1", "", "not an inlet"),
        ("[values]", "[values", "not valid TOML"),
    ],
)
def test_what_is_unknown_or_contradictory_is_refused_by_name(was, becomes, words, shipped):
    text = (shipped / "channel_marks.inlet.toml").read_text()
    assert was in text
    with pytest.raises(InletError, match=words):
        parse_inlet(text.replace(was, becomes, 1), "mine.toml")


def test_images_that_cannot_pass(tmp_path, shipped):
    inlet = read_inlet(shipped / "channel_marks.inlet.toml")
    Image.new("I;16", (90, 90)).save(tmp_path / "deep.png")
    whole = (shipped / "reference" / "mark-05.jpg").read_bytes()
    (tmp_path / "cut.jpg").write_bytes(whole[:2500])
    (tmp_path / "text.jpg").write_text("not an image")
    Image.new("L", (1, 1)).save(tmp_path / "bomb.png")
    huge = bytearray((tmp_path / "bomb.png").read_bytes())
    huge[16:24] = (60000).to_bytes(4, "big") * 2
    huge[29:33] = zlib.crc32(huge[12:29]).to_bytes(4, "big")
    (tmp_path / "bomb.png").write_bytes(huge)
    Image.new("RGB", (20, 20)).save(tmp_path / "small.png")
    cases = {
        "deep.png": "16-bit pixels",
        "cut.jpg": "truncated",
        "text.jpg": "not an image",
        "bomb.png": "too many pixels",
    }
    for name, words in cases.items():
        with pytest.raises(ImageError, match=words):
            apply_inlet(tmp_path / name, inlet)
    with pytest.raises(ImageError, match="before the crop"):
        apply_inlet(tmp_path / "small.png", Inlet(frame=(Crop((21, 10)),)))


def test_exif_that_is_upright_changes_nothing(tmp_path):
    picture = Image.effect_noise((40, 30), 60)
    picture.save(tmp_path / "plain.png")
    applied, ignored = (apply_inlet(tmp_path / "plain.png", Inlet(Decode(exif=exif))).pixels for exif in spec.EXIF)
    assert np.array_equal(applied, ignored)
    assert np.array_equal(applied[..., 0], np.asarray(ImageOps.exif_transpose(picture)))


def pixels_of(tmp_path, array, inlet, name="drawn.png"):
    Image.fromarray(array).save(tmp_path / name)
    return apply_inlet(tmp_path / name, inlet).pixels


def test_grey_is_the_librarys_for_every_kind_of_colour(tmp_path):
    colours = np.random.default_rng(0).integers(0, 256, (400, 500, 3), np.uint8)
    fifteen = pixels_of(tmp_path, colours, Inlet(Decode("grey", grey_rounding="nearest-15bit")))
    assert np.array_equal(fifteen[..., 0], cv2.cvtColor(colours, cv2.COLOR_RGB2GRAY))
    nearest = pixels_of(tmp_path, colours, Inlet(Decode("grey", grey_channels=3)))
    assert np.array_equal(nearest[..., 2], np.asarray(Image.fromarray(colours).convert("L")))
    exact = colours.astype(np.float64) @ (0.299, 0.587, 0.114)
    unrounded = pixels_of(tmp_path, colours, Inlet(Decode("grey", grey_rounding="none")))
    assert unrounded.dtype == np.float32 and np.abs(unrounded[..., 0] - exact).max() < 1e-4
    mean = pixels_of(tmp_path, colours, Inlet(Decode("grey", grey_weights=(1 / 3, 1 / 3, 1 / 3), grey_rounding="down")))
    assert np.array_equal(mean[..., 0], colours.astype(int).sum(axis=2) // 3)


def test_sixteen_bits_become_eight_as_the_inlet_says(tmp_path):
    levels = np.random.default_rng(1).integers(0, 65536, (30, 40), np.uint16)
    ways = {
        "high-byte": levels >> 8,
        "clip": np.minimum(levels, 255),
        "scale": np.rint(levels.astype(np.float64) * 255 / 65535),
    }
    for way, wanted in ways.items():
        found = pixels_of(tmp_path, levels, Inlet(Decode("grey", sixteen_bit=way)))
        assert np.array_equal(found[..., 0], wanted), way
    opencv = cv2.imread(str(tmp_path / "drawn.png"), cv2.IMREAD_COLOR)
    assert np.array_equal(pixels_of(tmp_path, levels, Inlet(Decode("bgr", sixteen_bit="high-byte"))), opencv)


@pytest.mark.parametrize("mirror, ways", [("horizontal", (1, -1)), ("vertical", (-1, 1)), ("both", (-1, -1))])
def test_polarity_and_mirror_come_before_the_frame(mirror, ways, tmp_path):
    array = np.random.default_rng(2).integers(0, 256, (31, 44, 3), np.uint8)
    inlet = Inlet(Decode("rgb", polarity="inverted", mirror=mirror), (Crop((20, 21), "start"),))
    wanted = 255 - array[:: ways[0], :: ways[1]][:20, :21]
    assert np.array_equal(pixels_of(tmp_path, array, inlet), wanted)
    floating = replace(inlet, decode=Decode("grey", grey_rounding="none", polarity="inverted", mirror=mirror))
    grey = (255 - array.astype(np.float64) @ (0.299, 0.587, 0.114))[:: ways[0], :: ways[1]][:20, :21]
    assert np.abs(pixels_of(tmp_path, array, floating)[..., 0] - grey).max() < 1e-3


@settings(max_examples=60, deadline=None)
@given(sides, sides, st.sampled_from(spec.CENTRINGS[:5]), st.sampled_from([0.5, 0.8, 0.875, 0.95]))
def test_crops_and_pads_are_where_arithmetic_puts_them(tmp_path_factory, height, width, centring, fraction):
    array = np.random.default_rng(3).integers(1, 256, (height, width, 3), np.uint8)
    folder = tmp_path_factory.getbasetemp()
    halves = {
        "down": lambda n: n // 2,
        "up": lambda n: (n + 1) // 2,
        "nearest": lambda n: int(round(n / 2)),
        "start": lambda n: 0,
        "end": lambda n: n,
    }
    padded = pixels_of(folder, array, Inlet(frame=(Pad((90, 91), colour="#102030", centring=centring),)))
    top, left = halves[centring](90 - height), halves[centring](91 - width)
    assert np.array_equal(padded[top : top + height, left : left + width], array)
    outside = np.ones((90, 91), bool)
    outside[top : top + height, left : left + width] = False
    assert (padded[outside] == (0x10, 0x20, 0x30)).all()
    sizes = [max(1, int(side * fraction)) for side in (height, width)]
    part = pixels_of(folder, array, Inlet(frame=(Crop(fraction=fraction, centring=centring),)))
    top, left = (halves[centring](side - size) for side, size in zip((height, width), sizes))
    assert np.array_equal(part, array[top : top + sizes[0], left : left + sizes[1]])
    cut = [int((side - side * fraction) / 2) for side in (height, width)]
    evenly = pixels_of(folder, array, Inlet(frame=(Crop(fraction=fraction, fraction_rounding="margin"),)))
    assert np.array_equal(evenly, array[cut[0] : height - cut[0], cut[1] : width - cut[1]])
    square = pixels_of(folder, array, Inlet(frame=(Crop(aspect=(2, 3)),)))
    assert square.shape[:2] == (max(1, min(height, width * 2 // 3)), max(1, min(width, height * 3 // 2)))


@pytest.mark.parametrize("range_", [(0.0, 1.0), (-1.0, 1.0), (0.0, 255.0)])
def test_values_taken_from_each_image(range_, tmp_path):
    array = np.random.default_rng(4).integers(0, 200, (12, 14, 3), np.uint8)
    Image.fromarray(array).save(tmp_path / "drawn.png")
    numbers = array.astype(np.float64) / 255 * (range_[1] - range_[0]) + range_[0]
    deviation, by_channel = numbers.std(), numbers.std((0, 1))
    wanted = {
        "standardise": ((numbers - numbers.mean()) / max(deviation, numbers.size**-0.5), deviation),
        "standardise-channels": ((numbers - numbers.mean((0, 1))) / np.maximum(by_channel, 168**-0.5), by_channel),
        "stretch": ((numbers - numbers.min()) / np.ptp(numbers), np.ptp(numbers)),
    }
    for way, (each, divisor) in wanted.items():
        found = apply_inlet(tmp_path / "drawn.png", Inlet(values=Values(range_, per_image=way)))
        assert np.abs(found.tensor - each.transpose(2, 0, 1)).max() < 1e-5 * max(1, np.abs(each).max()), way
        assert found.grey_level == pytest.approx(np.ones(3) * (range_[1] - range_[0]) / 255 / divisor, rel=1e-5)
    flat = np.full((5, 5, 3), 9, np.uint8)
    Image.fromarray(flat).save(tmp_path / "flat.png")
    for way in wanted:
        assert (apply_inlet(tmp_path / "flat.png", Inlet(values=Values(range_, per_image=way))).tensor == 0).all()


def test_many_files_come_in_their_order_and_faults_in_their_place(shipped, tmp_path):
    inlet = read_inlet(shipped / "channel_marks.inlet.toml")
    paths = sorted((shipped / "reference").iterdir())
    (tmp_path / "broken.jpg").write_bytes(paths[0].read_bytes()[:900])
    mixed = [*paths[:7], tmp_path / "broken.jpg", *paths[7:]]
    for threads in (1, 3):
        made = list(apply_to_all(mixed, inlet, ThreadPool(threads)))
        assert isinstance(made[7], ImageError) and "broken.jpg" in str(made[7])
        for path, each in zip(paths, made[:7] + made[8:]):
            assert np.array_equal(each.tensor, apply_inlet(path, inlet).tensor)
