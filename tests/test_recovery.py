"""Recovery: pipelines built from other libraries' own calls, with no hint but the images and what came out."""

import dataclasses
import json

import cv2
import numpy as np
import pytest
import torch
from conftest import called
from PIL import Image, ImageOps

from zygal import Witness
from zygal.engines import run_in_batches
from zygal.errors import InletError
from zygal.evidence.causes import find_cause
from zygal.evidence.score_causes import explain_scores
from zygal.evidence.witness import read_witness
from zygal.inlet import Crop, Decode, Inlet, Pad, Resize, Values, apply_inlet, format_inlet, parse_inlet, read_inlet
from zygal.inlet.recovery import recover_by_scores, recover_inlet
from zygal.inlet.recovery.material import gather, held_back


def by_pillow(path):
    picture = ImageOps.pad(
        ImageOps.exif_transpose(Image.open(path)).convert("RGB"), (64, 64), Image.BICUBIC, color=(114, 114, 114)
    )
    return (np.asarray(picture, np.float32) / 127.5 - 1).transpose(2, 0, 1)


def by_opencv(path):
    """OpenCV's order of channels, its 8-bit resize of the short side, and means in grey levels."""
    picture = cv2.imread(str(path), cv2.IMREAD_COLOR | cv2.IMREAD_IGNORE_ORIENTATION)
    height, width = picture.shape[:2]
    scale = 72 / min(height, width)
    picture = cv2.resize(picture, (int(width * scale), int(height * scale)), interpolation=cv2.INTER_LINEAR)
    top, left = (picture.shape[0] - 64) // 2, (picture.shape[1] - 64) // 2
    return picture[top : top + 64, left : left + 64].astype(np.float32) - np.float32([103.94, 116.78, 123.68])


def by_torch(path):
    """Squashed, mirrored, standardised image by image."""
    pixels = torch.from_numpy(np.array(Image.open(path).convert("RGB"))).permute(2, 0, 1)[None].float().flip(3)
    pixels = torch.nn.functional.interpolate(pixels, size=(48, 56), mode="bicubic")[0]
    return ((pixels - pixels.mean()) / pixels.std(correction=0)).numpy()


def grey_dark_on_light(path):
    picture = ImageOps.invert(Image.open(path).convert("L")).crop((20, 20, 84, 84))
    return np.asarray(picture, np.float32)[None] / 255


@pytest.fixture(scope="module")
def images(shipped):
    paths = sorted((shipped / "reference").iterdir())
    return [path for path in paths if Image.open(path).mode in ("RGB", "L")][::3]


@pytest.mark.alike
@pytest.mark.parametrize(
    "pipeline, words",
    [
        (by_pillow, ['exif = "apply"', "within", 'colour = "#727272"', 'filter = "bicubic"']),
        (by_opencv, ['colour = "bgr"', "short_side = 72", 'rounding = "fixed"', "103.94", 'layout = "NHWC"']),
        (by_torch, ['mirror = "horizontal"', "cubic = -0.75", 'per_image = "standardise"']),
    ],
    ids=lambda case: getattr(case, "__name__", ""),
)
def test_a_pipeline_is_recovered_to_the_grey_level(pipeline, words, images):
    tensors = np.stack([pipeline(path) for path in images])
    found = recover_inlet(images, tensors)
    text = format_inlet(found.inlet)
    assert found.explains and found.residual < 0.05, (found.residual, text)
    assert all(word in " ".join(text.split()) for word in words), text
    assert parse_inlet(text, "recovered") == found.inlet
    assert found.runner_up[2] > found.residual
    for path, tensor in zip(images, tensors):
        made = apply_inlet(path, found.inlet)
        assert np.abs(made.tensor - tensor).max() < 0.05 * made.grey_level.max()


@pytest.mark.slow
def test_what_images_cannot_tell_is_said(images):
    upright = [path for path in images if Image.open(path).getexif().get(0x0112, 1) == 1]
    inlet = Inlet(Decode("rgb", "apply", "#ffffff"), (Resize(size=(64, 64)),), Values())
    found = recover_inlet(upright, np.stack([apply_inlet(path, inlet).tensor for path in upright]))
    assert found.residual == 0 and found.inlet.frame == inlet.frame and found.inlet.values == inlet.values
    told = {each.field: each for each in found.undecided}
    assert {"decode.exif", "decode.transparency"} <= set(told) and "decode.colour" not in told
    # No image of these kinds can be concerned by them.
    assert not {"decode.sixteen_bit", "frame step 1.edges", "values.per_image"} & set(told)
    assert told["decode.exif"].others == ("apply",) and "rotation" in told["decode.exif"].decided_by


def test_tensors_of_another_number_of_channels_are_refused(images):
    with pytest.raises(InletError, match="1 or 3 channels"):
        recover_inlet(images[:5], np.zeros((5, 2, 16, 16), np.float32))


@pytest.mark.slow
def test_scores_alone_are_enough_where_the_model_is_at_hand(shipped, engine_of_demo):
    paths = sorted((shipped / "reference").iterdir())[:14]
    right = read_inlet(shipped / "channel_marks.inlet.toml")

    def scores(tensors):
        return np.concatenate(list(run_in_batches(engine_of_demo, tensors)))

    recorded = scores(np.stack([apply_inlet(path, right).tensor for path in paths]))
    found = recover_by_scores(paths, recorded, scores, (3, 64, 64))
    assert found.largest < 1e-4 and found.changed_top_1 == 0, found
    assert found.inlet.frame == right.frame and found.inlet.values == right.values


def test_a_model_that_overflows_is_no_crash(shipped):
    paths = sorted((shipped / "reference").iterdir())[:6]

    def scores(tensors):
        with np.errstate(over="ignore"):
            return np.exp(tensors.mean((2, 3), dtype=np.float32) * np.float32(40))

    own = read_inlet(shipped / "channel_marks.inlet.toml")
    recorded = scores(np.stack([apply_inlet(path, own).tensor for path in paths]))
    found = recover_by_scores(paths, recorded, scores, (3, 64, 64), likely=[own])
    assert np.isfinite(recorded).all() and found.mean == 0 and found.inlet == own
    lost = recover_by_scores(
        paths, recorded, lambda tensors: np.full((len(tensors), 3), np.inf, np.float32), (3, 64, 64)
    )
    assert not lost.mean < 1


@pytest.fixture(scope="module")
def engine_of_demo(shipped):
    from zygal.engines.artifact import RuntimeEngine

    return RuntimeEngine(shipped / "channel_marks.onnx", 2)


@pytest.mark.slow
def test_two_mistakes_at_once_are_both_named(shipped):
    names = [path.name for path in sorted((shipped / "reference").iterdir())]
    right = Inlet(
        Decode("rgb", "apply", "#ffffff"), (Resize(within=(64, 64)), Pad((64, 64), colour="#808080")), Values()
    )
    wrong = Inlet(Decode("bgr", "apply", "#ffffff"), (Resize(72), Crop((64, 64))), Values())
    tensors = np.stack([apply_inlet(shipped / "reference" / name, right).tensor for name in names])
    witness = Witness.from_arrays(np.eye(len(names)), names, shipped / "reference", tensors)
    cause = find_cause(witness, wrong, shipped / "reference", dict.fromkeys(range(len(names)), 99.0), 0.5)
    assert len(cause.findings) == 2 and cause.inlet == right and cause.residual_after == 0
    assert any("decode.colour" in finding for finding in cause.findings)
    assert any("pad to 64 x 64 with #808080" in finding for finding in cause.findings)


def softmax(scores):
    raised = np.exp(scores - scores.max(1, keepdims=True))
    return raised / raised.sum(1, keepdims=True)


TEXT_ORDER = sorted(range(12), key=str)


@pytest.mark.parametrize(
    "ours, recorded, words",
    [
        (lambda s: softmax(s), lambda s: s, "softmax of the recorded scores"),
        (lambda s: s, lambda s: softmax(s), "does not apply the last step"),
        (lambda s: softmax(softmax(s)), lambda s: softmax(s), "applies softmax twice"),
        (lambda s: np.roll(s, 1, axis=1), lambda s: s, "shifted by 1: recorded class 0 is class 1 of the artifact"),
        (lambda s: s[:, ::-1], lambda s: s, "in reversed order: recorded class 0 is class 11"),
        (lambda s: s[:, TEXT_ORDER], lambda s: s, 'sorted as text in the artifact\'s order \\("10" before "2"'),
        (lambda s: softmax(s[:, [1, 0, *range(2, 12)]]), lambda s: s, "2 of 12 classes have other indices.*softmax"),
        (lambda s: s[::-1], lambda s: s, "rows are in another order"),
        (lambda s: s + np.arange(12) ** 2, lambda s: s, None),
    ],
)
def test_forms_and_renamings_of_scores_are_recognised(ours, recorded, words):
    import re

    scores = np.random.default_rng(3).normal(size=(9, 12)) * 3
    said = explain_scores(ours(scores), recorded(scores), 1e-4)
    assert said is None if words is None else re.search(words, said), said


@pytest.mark.slow
def test_images_are_held_back_and_prove_the_inlet(workspace):
    done = called(
        "inlet",
        "recover",
        "--witness",
        "channel_marks.witness",
        "--images",
        "reference",
        "-o",
        "r.toml",
        "--json",
        "r.json",
        cwd=workspace,
    )
    assert done.returncode == 0 and "11 images that the search did not see: max error 0 grey levels" in " ".join(
        done.stdout.split()
    )
    found = json.loads((workspace / "r.json").read_text())
    assert found["by_tensors"]["images_held_back"] == 11 and {gate["name"] for gate in found["gates"]} == {
        "inlet",
        "held back",
    }
    matched = called(
        "match",
        "channel_marks.onnx",
        "--witness",
        "channel_marks.witness",
        "--images",
        "reference",
        "--inlet",
        "r.toml",
        "--json",
        "m.json",
        cwd=workspace,
    )
    assert (
        "recovered on the images of this witness" in matched.stderr
        and json.loads((workspace / "m.json").read_text())["inlet_recovered_on_these_images"]
    )
    # It goes with the inlet into an artifact, and is no part of what the inlet does.
    assert (
        called(
            "convert", "channel_marks.pt2", "-o", "m.onnx", "--inlet", "r.toml", "--labels", "labels.txt", cwd=workspace
        ).returncode
        == 0
    )
    assert (
        "recovered on the images"
        in called(
            "match", "m.onnx", "--witness", "channel_marks.witness", "--images", "reference", cwd=workspace
        ).stderr
    )
    recovered, stated = read_inlet(workspace / "r.toml"), read_inlet(workspace / "channel_marks.inlet.toml")
    assert (
        recovered.recovered_on
        and not stated.recovered_on
        and recovered == dataclasses.replace(recovered, recovered_on=None)
    )


def test_both_parts_have_each_kind_and_a_quarter_is_held_back(shipped):
    paths = sorted((shipped / "reference").iterdir())
    material = gather(paths, np.zeros((len(paths), 3, 4, 4), np.float32))
    held = held_back(material)
    assert len(held) >= len(paths) / 4 and len(held) <= len(paths) / 2 and held == held_back(material)
    kinds = {index: (material.kinds[index], material._is[index]) for index in material.readable}
    for kind in set(kinds.values()):
        members = [index for index in kinds if kinds[index] == kind]
        assert len(members) == 1 or 0 < len(set(members) & set(held)) < len(members)
    material.hold(held)
    assert not set(held) & set(material.readable) and not set(held) & set(material.plain)
    for few in range(1, 4):
        assert held_back(gather(paths[:few], np.zeros((few, 3, 4, 4), np.float32))) == []


@pytest.mark.slow
def test_what_only_a_held_image_shows_is_found_and_said_not_to_be_proved(shipped, tmp_path, monkeypatch):
    """An EXIF rotation that the search does not see: all images are searched with then, and nothing is left to prove
    it."""
    witness = read_witness(shipped / "channel_marks.witness")
    turned = [
        index
        for index, image in enumerate(witness.images)
        if Image.open(shipped / "reference" / image.name).getexif().get(0x0112, 1) not in (0, 1)
    ]
    monkeypatch.setattr("zygal.inlet.recovery.recover.held_back", lambda material: turned)
    done = called(
        "inlet",
        "recover",
        "--witness",
        "channel_marks.witness",
        "--images",
        "reference",
        "-o",
        str(tmp_path / "r.toml"),
        "--json",
        str(tmp_path / "r.json"),
        cwd=shipped,
    )
    document = json.loads((tmp_path / "r.json").read_text())
    assert turned and (done.returncode, document["verdict"]) == (4, "undecided"), done.stdout
    assert (
        "none was left to prove it" in " ".join(done.stdout.split())
        and read_inlet(tmp_path / "r.toml").decode.exif == "apply"
    )
