"""Model folders of public collections: their preprocessing, judged by recorded tensors of the libraries; what survey
says of a folder; and folders that are built by their library."""

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from conftest import called
from PIL import Image

from zygal.classifier.labels import read_labels
from zygal.errors import InletError, SourceError, ZygalError
from zygal.inlet import apply_inlet, read_inlet
from zygal.inlet.configured import read_configured
from zygal.inlet.reading import read_with_notes
from zygal.sources.model_folder import is_model_folder, read_model_folder

RECORDED = np.load(Path(__file__).parent / "data/configured_inlets.npz")
CASES = sorted({key.rpartition(" ")[0] for key in RECORDED.files})
REFUSED = {"Donut", "Siglip2", "TextNet", "ImageGPT"}
"""Classes whose tensors no inlet states."""


@pytest.fixture(scope="module")
def pictures(tmp_path_factory):
    """The pictures that the libraries were given: whole numbers, so that they are the same everywhere."""
    folder = tmp_path_factory.mktemp("pictures")
    for place, (height, width) in enumerate([(97, 130), (301, 231)]):
        y, x = np.mgrid[:height, :width]
        pixels = np.stack([(x * 3 + y * 2) % 256, (x * x // 40 + y * 5) % 256, (x * y // 16) % 256], -1)
        pixels[height // 3 : height // 2, width // 4 : width // 2] = [200, 30, 90]
        Image.fromarray(pixels.astype(np.uint8)).save(folder / f"{place:02d}.png")
    return folder


def few(tensor):
    rows, columns = (np.linspace(0, side - 1, min(side, 7)).astype(int) for side in tensor.shape[1:])
    return tensor[:, rows][:, :, columns]


@pytest.mark.alike
@pytest.mark.parametrize("case", CASES)
def test_an_inlet_from_a_configuration_gives_the_tensors_of_the_library(case, pictures, tmp_path):
    way, text = case.partition(" ")[2], str(RECORDED[f"{case} config"])
    (tmp_path / "c.json").write_text(text)
    try:
        inlet = read_configured(tmp_path / "c.json", None if way == "timm" else way).inlet
    except InletError as fault:
        expected = ("pad", "filter", "round", "black", "stated", "units", "class", "crops", "resample")
        assert any(word in str(fault) for word in expected)
        return
    assert not any(name in text for name in REFUSED)
    for at in (0, 1):
        if f"{case} {at}" not in RECORDED:
            continue
        try:
            ours = apply_inlet(pictures / f"{at:02d}.png", inlet).tensor
        except ZygalError as fault:
            assert "crop" in str(fault)  # Too small for a crop that cannot be stated for it.
            continue
        theirs = RECORDED[f"{case} {at}"].astype(np.float64)
        level = np.ptp(inlet.values.range) / 255 / np.array(inlet.values.std or (1.0,) * 3).reshape(3, 1, 1)
        # Unrounded resizes of tensors compute places in float32, with the difference that docs/inlet.md states.
        limit = 0.02 if any(getattr(step, "rounding", "") == "none" for step in inlet.frame) else 1e-3
        assert few(ours).shape == theirs.shape and np.abs((few(ours) - theirs) / level).max() < limit


def test_most_recorded_configurations_are_read(tmp_path):
    read = 0
    for case in CASES:
        (tmp_path / "c.json").write_text(str(RECORDED[f"{case} config"]))
        try:
            read += bool(read_configured(tmp_path / "c.json"))
        except InletError:
            continue
    assert read >= 0.6 * len(CASES) >= 40


VIT = {"image_processor_type": "ViTImageProcessor", "size": {"height": 32, "width": 40}, "resample": 2}


def written(folder, document, name="preprocessor_config.json"):
    (folder / name).write_text(json.dumps(document))
    return folder / name


@pytest.mark.parametrize(
    ("change", "why"),
    [
        ({"image_processor_type": "NewestImageProcessor"}, "NewestImageProcessor"),
        ({"do_sharpen": True}, "'do_sharpen' is not understood"),
        ({"auto_map": {"AutoImageProcessor": "code.Mine"}}, "never run"),
        ({"size": {"shortest_edge": 32, "longest_edge": 64}}, "size is"),
        ({"size": {"height": -1, "width": 4}}, "size is"),
        ({"size": "large"}, "size is"),
        ({"resample": 9}, "resample is 9"),
        ({"resample": "bicubic"}, "resample is 'bicubic'"),
        ({"do_normalize": None}, "do_normalize is None"),
        ({"do_rescale": "yes"}, "do_rescale is 'yes'"),
        ({"do_pad": True}, "do_pad"),
        ({"image_mean": [0.5, 0.5]}, "three numbers"),
        ({"rescale_factor": 0}, "rescale_factor is 0"),
        ({"image_processor_type": "DINOv3ViTImageProcessor", "do_rescale": False}, "do_rescale is false"),
        ({"rescale_factor": float("nan")}, ""),
        ({"image_std": [0, 1, 1]}, ""),
    ],
)
def test_what_a_configuration_says_that_is_not_understood_is_refused_by_name(change, why, tmp_path):
    path = written(tmp_path, VIT | change)
    with pytest.raises(InletError) as refused:
        read_inlet(path)
    assert why in str(refused.value) and str(path) in str(refused.value)


def test_the_way_follows_the_class_and_the_release_that_wrote_the_folder(tmp_path):
    path = written(tmp_path, VIT)
    assert read_configured(path).way == "pictures" and "not on tensors" in read_with_notes(path)[1][0]
    written(tmp_path, VIT | {"image_processor_type": "ViTImageProcessorFast"})
    assert read_configured(path).way == "tensors"
    written(tmp_path, VIT)
    written(tmp_path, {"transformers_version": "5.1.0"}, "config.json")
    assert read_configured(path).way == "tensors" and read_configured(path, "pictures").way == "pictures"
    written(tmp_path, {"feature_extractor_type": "ViTFeatureExtractor", "size": 48})
    assert read_configured(path).inlet.frame[0].size == (48, 48)


MODEL = {
    "architectures": ["ViTForImageClassification"],
    "model_type": "vit",
    "image_size": 32,
    "transformers_version": "5.24.0",
    "id2label": {"0": "bead", "1": "coil", "2": "disc"},
}


@pytest.fixture
def folder(tmp_path):
    """A folder as transformers writes it, with weights that fit no architecture."""
    from safetensors.numpy import save_file

    place = tmp_path / "marks"
    place.mkdir()
    written(place, MODEL, "config.json")
    written(place, VIT | {"size": 32})
    save_file({"head": np.zeros((3, 4), np.float32)}, place / "model.safetensors")
    return place


def started(*words, cwd):
    """What the program gives in a process of its own, into which it may load a library."""
    return subprocess.run([sys.executable, "-m", "zygal", *words], cwd=cwd, capture_output=True, text=True)


def test_survey_describes_a_folder_without_its_library(folder):
    done = called("survey", folder, "--json", "s.json", cwd=folder.parent)
    said = " ".join(done.stdout.split())
    assert done.returncode == 0 and "ViTForImageClassification" in said and "resize to 32 x 32" in said
    found = json.loads((folder.parent / "s.json").read_text())
    assert found["classes"] == 3 and found["labels"] == ["bead", "coil", "disc"] and found["image_shape"] == [3, 32, 32]
    assert found["weights"]["parameters"] == 12 and found["preprocessing"]["computed_on"] == "tensors"


def test_options_that_a_folder_does_not_have_are_refused_by_name(folder):
    for words in (["survey", folder, "--shape", "3,8,8"], ["convert", folder, "-o", "m.onnx", "--weights", "w.pth"]):
        done = called(*words, cwd=folder.parent)
        assert done.returncode == 2 and words[-2].strip("-") in done.stderr


def test_a_folder_gives_its_labels_and_says_when_they_are_placeholders(folder):
    assert read_labels(folder / "config.json").names == ("bead", "coil", "disc")
    assert read_model_folder(folder).labels.names == ("bead", "coil", "disc")
    written(folder, MODEL | {"id2label": {"0": "LABEL_0", "1": "LABEL_1"}}, "config.json")
    found = read_model_folder(folder)
    assert found.labels is None and found.classes == 2 and "placeholders" in found.notes[0]


@pytest.mark.parametrize(
    ("change", "why"),
    [
        ({"architectures": ["ViTModel"]}, "no image classifier"),
        ({"architectures": []}, "architectures"),
        ({"id2label": {"0": "bead", "2": "coil"}}, "config.json"),
    ],
)
def test_a_folder_of_something_else_is_refused_in_a_sentence(change, why, folder):
    written(folder, MODEL | change, "config.json")
    done = called("convert", folder, "-o", "m.onnx", cwd=folder.parent)
    assert done.returncode == 2 and why in done.stderr and "Traceback" not in done.stderr
    assert not (folder.parent / "m.onnx").exists()


def test_other_folders_are_no_model_folders(tmp_path):
    assert not is_model_folder(tmp_path)
    written(tmp_path, {"class_name": "Functional"}, "config.json")
    assert not is_model_folder(tmp_path)
    (tmp_path / "config.json").write_text("{")
    assert not is_model_folder(tmp_path)
    with pytest.raises(SourceError):
        read_model_folder(tmp_path)


def test_a_damaged_configuration_beside_weights_is_said(folder):
    (folder / "config.json").write_text('{"architectures": ["ViT')
    for words in (["survey", folder], ["convert", folder, "-o", "m.onnx"]):
        done = called(*words, cwd=folder.parent)
        assert done.returncode == 2 and "config.json" in done.stderr and "Traceback" not in done.stderr


def test_recipes_writes_the_inlet_of_a_configuration(folder):
    done = called("inlet", "recipes", "--from", folder / "preprocessor_config.json", "-o", "m.inlet.toml", cwd=folder)
    assert done.returncode == 0 and "as it computes on tensors" in done.stdout
    assert read_inlet(folder / "m.inlet.toml") == read_inlet(folder / "preprocessor_config.json")
    both = called("inlet", "recipes", "squash", "--from", folder / "preprocessor_config.json", cwd=folder)
    alone = called("inlet", "recipes", "--way", "tensors", cwd=folder)
    assert both.returncode == alone.returncode == 2 and "--from" in both.stderr and "--from" in alone.stderr


def test_a_library_that_is_missing_is_named(folder, tmp_path):
    written(folder, {"architecture": "resnet18", "pretrained_cfg": {"input_size": [3, 32, 32]}}, "config.json")
    done = called("convert", folder, "-o", "m.onnx", cwd=folder.parent)
    assert done.returncode == 2 and "timm, which is not installed" in done.stderr


@pytest.fixture(scope="module")
def trained(tmp_path_factory):
    """A small vision transformer as its library saves it, and images."""
    transformers = pytest.importorskip("transformers")
    import torch

    torch.manual_seed(0)
    folder = tmp_path_factory.mktemp("hub")
    sizes = {"hidden_size": 32, "num_hidden_layers": 2, "num_attention_heads": 2, "intermediate_size": 64}
    labels = {0: "bead", 1: "coil", 2: "disc"}
    settings = transformers.ViTConfig(**sizes, image_size=32, patch_size=8, id2label=labels, label2id=None)
    transformers.ViTForImageClassification(settings).save_pretrained(folder / "marks")
    transformers.ViTImageProcessorPil(size={"height": 32, "width": 32}).save_pretrained(folder / "marks")
    (folder / "images").mkdir()
    random = np.random.default_rng(0)
    for place in range(4):
        pixels = random.integers(0, 256, (40 + place, 53, 3), np.uint8)
        Image.fromarray(pixels).save(folder / f"images/{place}.png")
    return folder


@pytest.mark.slow
def test_a_folder_converts_and_matches_its_library(trained):
    made = started("convert", "marks", "-o", "marks.onnx", cwd=trained)
    assert made.returncode == 0, made.stderr
    assert "3 labels" in made.stdout and "computes on pictures" in made.stderr
    recorded = started("witness", "marks", "--images", "images", "-o", "marks.witness", "--layers", cwd=trained)
    assert recorded.returncode == 0, recorded.stderr
    matched = started("match", "marks.onnx", "--witness", "marks.witness", "--images", "images", cwd=trained)
    assert matched.returncode == 0 and "PASS: A, B, C, L on 4 images" in matched.stdout


@pytest.mark.slow
def test_a_preprocessing_that_the_library_cannot_build_is_one_sentence(trained, tmp_path):
    shutil.copytree(trained / "marks", tmp_path / "marks")
    settings = {"image_processor_type": "DINOv3ViTImageProcessor", "size": {"height": 32, "width": 32}}
    written(tmp_path / "marks", settings)  # It needs torchvision, or another release.
    done = started("convert", "marks", "-o", "m.onnx", cwd=tmp_path)
    assert done.returncode in (0, 2) and "internal error" not in done.stderr
    assert done.returncode == 0 or "give --inlet" in done.stderr


@pytest.mark.slow
def test_a_pickle_of_weights_that_runs_code_is_refused_by_name(trained, tmp_path):
    import torch

    class Hostile:
        def __reduce__(self):
            return os.system, (f"touch {tmp_path}/ran",)

    shutil.copytree(trained / "marks", tmp_path / "marks")
    (tmp_path / "marks/model.safetensors").unlink()
    torch.save({"classifier.weight": Hostile()}, tmp_path / "marks/pytorch_model.bin")
    done = started("convert", "marks", "-o", "m.onnx", cwd=tmp_path)
    assert done.returncode == 2 and "system" in done.stderr and not (tmp_path / "ran").exists()


@pytest.mark.slow
def test_missing_weights_are_not_filled_with_random_numbers(trained, tmp_path):
    from safetensors.numpy import load_file, save_file

    shutil.copytree(trained / "marks", tmp_path / "marks")
    state = load_file(tmp_path / "marks/model.safetensors")
    del state["classifier.weight"]
    save_file(state, tmp_path / "marks/model.safetensors", {"format": "pt"})
    done = started("convert", "marks", "-o", "m.onnx", cwd=tmp_path)
    assert done.returncode == 2 and "classifier.weight" in done.stderr and not (tmp_path / "m.onnx").exists()
