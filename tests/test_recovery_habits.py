"""Recovery of what people write: calls of several libraries on real photographs, judged on photographs that the search
has not seen."""

import base64
import hashlib
import json
from pathlib import Path

import cv2
import numpy as np
import pytest
import sklearn.datasets
import torch
from PIL import Image, ImageOps

from zygal import Witness
from zygal.evidence.causes import find_cause
from zygal.inlet import Decode, Inlet, Resize, apply_inlet, decode_image, format_inlet, parse_inlet
from zygal.inlet.recovery import recover_inlet

SOURCES = Path(sklearn.datasets.__file__).parent / "images"
BILINEAR = Image.Resampling.BILINEAR

pytestmark = pytest.mark.slow


def photographs(folder, seed, count):
    """Parts of two photographs, in the file forms that people have."""
    folder.mkdir(exist_ok=True)
    random = np.random.default_rng(seed)
    sources = [Image.open(SOURCES / name).convert("RGB") for name in ("china.jpg", "flower.jpg")]
    paths = []
    for number in range(count):
        width, height = random.integers(150, 300, 2)
        left, top = random.integers(0, 640 - width), random.integers(0, 427 - height)
        image = sources[number % 2].crop((left, top, left + width, top + height))
        kind = ("jpg", "jpg", "png", "png", "jpg", "palette", "alpha", "grey")[number % 8]
        paths.append(folder / f"{number}.{'jpg' if kind in ('jpg', 'grey') else 'png'}")
        if kind == "alpha":
            image.putalpha(image.convert("L").point(lambda level: 255 if level > 90 else 2 * level))
        image = image.quantize(64) if kind == "palette" else image.convert("L") if kind == "grey" else image
        image.save(paths[-1], **({"quality": 92, "subsampling": number % 3} if paths[-1].suffix == ".jpg" else {}))
    return paths


@pytest.fixture(scope="module")
def seen(tmp_path_factory):
    return photographs(tmp_path_factory.mktemp("seen"), 1, 10)


@pytest.fixture(scope="module")
def unseen(tmp_path_factory):
    return photographs(tmp_path_factory.mktemp("unseen"), 2, 6)


def rgb(path):
    return Image.open(path).convert("RGB")


def opencv(path):
    return cv2.cvtColor(cv2.imread(str(path)), cv2.COLOR_BGR2RGB)


def part(pixels):
    return np.asarray(pixels, np.float32) / 255


def tensor(path):
    return torch.from_numpy(np.array(rgb(path))).permute(2, 0, 1)[None].float() / 255


def middle(pixels, side):
    top, left = ((each - side) // 2 for each in pixels.shape[:2])
    return pixels[top : top + side, left : left + side]


def by_factor(path):
    image = opencv(path)
    factor = 72 / min(image.shape[:2])
    return part(middle(cv2.resize(image, None, fx=factor, fy=factor), 64))


def tall(path):
    image = rgb(path)
    width, height = min(image.width, image.height * 48 // 64), min(image.height, image.width * 64 // 48)
    left, top = (image.width - width) // 2, (image.height - height) // 2
    return part(image.crop((left, top, left + width, top + height)).resize((48, 64), Image.Resampling.BICUBIC))


def small(path):
    image = Image.open(path)
    image.thumbnail((64, 64))
    ground = Image.new("RGB", (64, 64))
    ground.paste(image.convert("RGB"), ((64 - image.width) // 2, (64 - image.height) // 2))
    return part(ground)


def padded_before_rounding(path):
    image = tensor(path)
    ratio = max(image.shape[2:]) / 64
    height, width = (side / ratio for side in image.shape[2:])
    made = (
        torch.nn.functional.interpolate(image, size=(int(height), int(width)), mode="bilinear")[0]
        .permute(1, 2, 0)
        .numpy()
    )
    ground = np.zeros((64, 64, 3), np.float32)
    top, left = int((64 - height) / 2), int((64 - width) / 2)
    ground[top : top + made.shape[0], left : left + made.shape[1]] = made
    return ground


def crop_or_pad(path):
    image = np.asarray(rgb(path))
    ground = np.zeros((220, 220, 3), np.uint8)
    spare = [220 - side for side in image.shape[:2]]
    to = [max(0, each // 2) for each in spare]
    since = [max(0, -each // 2) for each in spare]
    taken = image[since[0] : since[0] + 220, since[1] : since[1] + 220]
    ground[to[0] : to[0] + taken.shape[0], to[1] : to[1] + taken.shape[1]] = taken
    return part(Image.fromarray(ground).resize((64, 64), BILINEAR))


def equal_pads(path):
    image = rgb(path)
    side = max(image.size)
    return part(
        ImageOps.expand(image, ((side - image.width) // 2, (side - image.height) // 2)).resize((64, 64), BILINEAR)
    )


def dark_ground(path):
    grey = np.asarray(Image.open(path).convert("L"))
    bright = np.concatenate([grey[0], grey[-1], grey[:, 0], grey[:, -1]]).mean() > 127.5
    return part(Image.fromarray(255 - grey if bright else grey).resize((48, 48), BILINEAR))[None]


def by_maximum(path):
    made = torch.nn.functional.interpolate(tensor(path), size=(64, 64), mode="bilinear")[0]
    return (made / made.max()).numpy()


def fast_decoded(path):
    """Where chroma is not subsampled Pillow's own draft decoder has the fast transform."""
    file = Image.open(path)
    if file.format == "JPEG":
        file.decoderconfig = (1, 1)
    return part(file.convert("RGB").resize((64, 64), BILINEAR))


HABITS = {
    "box in the resampling": (lambda path: part(ImageOps.fit(rgb(path), (64, 64))), 'box = "aspect"'),
    "proportions of a tall tensor": (tall, "aspect = [ 4, 3"),
    "given factor": (by_factor, 'grid_scale = "factor"'),
    "factor of tensors": (
        lambda path: middle(
            torch.nn.functional.interpolate(tensor(path), scale_factor=0.43, mode="bilinear")[0]
            .permute(1, 2, 0)
            .numpy(),
            64,
        ),
        "factor = 0.43",
    ),
    "grey as OpenCV reads it": (
        lambda path: part(cv2.resize(cv2.imread(str(path), 0), (48, 48)))[None],
        'jpeg_grey = "luma"',
    ),
    "grey after the resize": (
        lambda path: part(cv2.cvtColor(cv2.resize(cv2.imread(str(path)), (48, 48)), cv2.COLOR_BGR2GRAY))[None],
        'conversion = "grey-after-resize"',
    ),
    "thumbnail": (small, 'conversion = "after-resize"'),
    "margins before rounding": (padded_before_rounding, 'centring = "unrounded"'),
    "crop one axis, pad the other": (crop_or_pad, "missing ="),
    "equal pads": (equal_pads, 'centring = "equal"'),
    "fixed margins": (lambda path: part(ImageOps.crop(rgb(path), 9).resize((64, 64), BILINEAR)), "margins = [ 9"),
    "blur before": (
        lambda path: part(cv2.resize(cv2.GaussianBlur(opencv(path), (5, 5), 0), (64, 64))),
        'kind = "binomial"',
    ),
    "two resizes": (
        lambda path: part(rgb(path).resize((128, 128), BILINEAR).resize((64, 64), Image.Resampling.BICUBIC)),
        "128",
    ),
    "OpenCV's Lanczos": (
        lambda path: part(cv2.resize(opencv(path), (64, 64), interpolation=cv2.INTER_LANCZOS4)),
        "lanczos4",
    ),
    "area that grows": (
        lambda path: part(cv2.resize(middle(opencv(path), 50), (64, 64), interpolation=cv2.INTER_AREA)),
        "area-linear",
    ),
    "each by its maximum": (by_maximum, "by-maximum"),
    "dark ground": (dark_ground, 'polarity = "dark-ground"'),
}


@pytest.mark.parametrize("name", HABITS)
def test_a_habit_is_recovered_and_holds_on_unseen_photographs(name, seen, unseen):
    pipeline, words = HABITS[name]
    found = recover_inlet(seen, np.stack([pipeline(path) for path in seen]).astype(np.float32))
    text = format_inlet(found.inlet)
    assert found.explains, (found.residual, found.nearly_all, text)
    assert words in " ".join(text.split()), text
    assert parse_inlet(text, "recovered") == found.inlet
    for path in unseen:
        made = apply_inlet(path, found.inlet)
        level = np.abs(made.grey_level.max())
        assert np.quantile(np.abs(made.tensor - pipeline(path)) / level, 0.999) <= 0.5, path


def test_the_fast_transform_of_a_decoder_is_told_from_the_accurate_one(seen):
    paths = [path for path in seen if path.suffix == ".png" or Image.open(path).layer[0][1:3] == (1, 1)]
    assert len({path.suffix for path in paths}) == 2
    found = recover_inlet(paths, np.stack([fast_decoded(path) for path in paths]))
    assert found.inlet.decode.jpeg == "fast" and found.residual < 0.02


@pytest.mark.parametrize(
    "case", json.loads((Path(__file__).parent / "fast_jpeg.json").read_text()), ids=lambda case: case["sampling"]
)
def test_the_fast_transform_is_that_of_tensorflow(case, tmp_path):
    """sha256: of the RGB pixels that TensorFlow 2.21 decodes the file to, with its usual settings."""
    path = tmp_path / "a.jpg"
    path.write_bytes(base64.b64decode(case["file"]))
    pixels = np.asarray(decode_image(path, Decode(jpeg="fast")))
    assert hashlib.sha256(pixels.tobytes()).hexdigest() == case["sha256"]
    assert not np.array_equal(pixels, decode_image(path, Decode()))


def test_a_decoder_that_no_inlet_states_is_named_by_its_files(seen):
    random = np.random.default_rng(0)
    tensors = np.stack([part(rgb(path).resize((64, 64), BILINEAR)) for path in seen])
    for number, path in enumerate(seen):
        if path.suffix == ".jpg":
            tensors[number] += random.normal(0, 2 / 255, tensors[number].shape)
    found = recover_inlet(seen, tensors)
    assert not found.explains and found.inlet.frame == (Resize(size=(64, 64)),)
    assert [group.separated_by for group in found.groups] == ["is a PNG file", "is a JPEG file"]
    assert found.groups[0].inlet == found.inlet and found.groups[1].inlet is None
    # The others do not bend the values of those that are explained.
    assert found.inlet.values.range == (0.0, 1.0) and not found.inlet.values.mean


def test_one_image_that_departs_is_named_and_spoils_nothing(seen):
    tensors = np.stack([part(rgb(path).resize((64, 64), BILINEAR)) for path in seen])
    image = rgb(seen[2])
    tensors[2] = part(image.crop((1, 0, image.width, image.height)).resize((64, 64), BILINEAR))
    found = recover_inlet(seen, tensors)
    assert not found.explains and [each.image for each in found.per_image if not each.explained] == [seen[2].name]
    assert found.inlet == Inlet(frame=(Resize(size=(64, 64)),), tensor=found.inlet.tensor)


def test_images_that_one_rule_inverts_are_told_from_the_others(seen):
    means = [np.asarray(rgb(path)).mean() for path in seen]
    bright = [mean > np.median(means) for mean in means]
    assert 2 < sum(bright) < len(seen) - 2
    tensors = np.stack([part(rgb(path).resize((64, 64), BILINEAR)) for path in seen])
    tensors[bright] = 1 - tensors[bright]
    found = recover_inlet(seen, tensors)
    assert len(found.groups) == 2 and {len(group.images) for group in found.groups} == {
        sum(bright),
        len(seen) - sum(bright),
    }
    assert all("mean" in group.separated_by for group in found.groups)


def test_noise_is_refused_without_taking_long(seen):
    found = recover_inlet(seen, np.random.default_rng(0).random((len(seen), 64, 64, 3), np.float32))
    assert not found.explains and not any(each.explained for each in found.per_image) and not found.groups


def test_another_library_is_one_edit_and_the_corrected_inlet_is_one_that_can_be_read(seen):
    paths = [path for path in seen if Image.open(path).mode == "RGB"]
    tensors = np.stack([part(cv2.resize(opencv(path), (64, 64))).transpose(2, 0, 1) for path in paths])
    witness = Witness.from_arrays(np.eye(len(paths)), [path.name for path in paths], paths[0].parent, tensors)
    given = Inlet(Decode("rgb"), (Resize(size=(64, 64)),))
    cause = find_cause(witness, given, paths[0].parent, dict.fromkeys(range(len(paths))), 0.5)
    assert parse_inlet(format_inlet(cause.inlet), "corrected") == cause.inlet and cause.residual_after < 0.02
    assert (
        len(cause.findings) == 1
        and "convention of OpenCV" in cause.findings[0]
        and "convention of Pillow" in cause.findings[0]
    )
