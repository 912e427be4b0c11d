"""Figures on labelled images, judged by scikit-learn and SciPy, and the program on labels as people have them."""

import csv
import json
import shlex
import shutil

import numpy as np
import pytest
from conftest import called, capture, refused
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image
from scipy.stats import binomtest
from sklearn import metrics

from zygal.inlet import apply_to_all
from zygal.prediction.classifier import open_artifact
from zygal.statistics.intervals import (
    difference_of_paired,
    exact_paired_test,
    mean_of_shares,
    mean_with_error,
    share_of,
)
from zygal.tally.accuracy import accuracy_of
from zygal.tally.calibration import calibration_of
from zygal.tally.duplicates import duplicate_pairs, fingerprint
from zygal.tally.exchange import exchanged_labels
from zygal.tally.figure_confusion import draw_confusion
from zygal.tally.multi_label import multi_label_accuracy


def exclusive(seed, count, classes):
    """Truth and probabilities of a classifier that is right more often than not; not every class occurs."""
    chance = np.random.default_rng(seed)
    truth = chance.integers(0, max(2, classes - 1), count)
    logits = chance.normal(0, 2, (count, classes))
    logits[np.arange(count), truth] += 2
    probabilities = np.exp(logits) / np.exp(logits).sum(axis=1, keepdims=True)
    return truth, probabilities / probabilities.sum(axis=1, keepdims=True)


@settings(deadline=None, max_examples=60)
@given(st.integers(0, 10**6), st.integers(3, 200), st.integers(3, 30))
def test_every_figure_is_that_of_scikit_learn(seed, count, classes):
    truth, probabilities = exclusive(seed, count, classes)
    said, sure = probabilities.argmax(axis=1), probabilities[np.arange(count), truth]
    rank = (probabilities > sure[:, None]).sum(axis=1)
    names = [f"class {place}" for place in range(classes)]
    found = accuracy_of(truth, said, rank, sure, names, (1, 2))
    everything = list(range(classes))
    assert found.top[1].value == metrics.accuracy_score(truth, said)
    assert found.top[2].value == metrics.top_k_accuracy_score(truth, probabilities, k=2, labels=everything)
    assert np.array_equal(found.confusion, metrics.confusion_matrix(truth, said, labels=everything))
    assert found.cross_entropy.value == metrics.log_loss(truth, probabilities, labels=everything)
    with np.errstate(all="ignore"):
        present = metrics.balanced_accuracy_score(truth, said) if set(said) <= set(truth) else found.balanced.value
    assert found.balanced.value == present
    wanted = metrics.precision_recall_fscore_support(truth, said, labels=everything, zero_division=0)
    figures = np.array([(each.precision, each.recall or 0.0, each.f1, each.support) for each in found.classes]).T
    assert np.array_equal(figures, wanted)
    macro = metrics.precision_recall_fscore_support(truth, said, average="macro", zero_division=0)
    assert (found.macro_precision, found.macro_recall, found.macro_f1) == macro[:3]
    assert sum(pair.count for pair in found.pairs) == int((truth != said).sum())


@pytest.mark.slow
@settings(deadline=None, max_examples=25)
@given(st.integers(0, 10**6), st.integers(2, 100), st.integers(2, 8), st.floats(0.05, 0.95))
def test_several_labels_are_those_of_scikit_learn(seed, count, labels, threshold):
    chance = np.random.default_rng(seed)
    truth = chance.random((count, labels)) < 0.3
    probabilities = np.clip(np.round(chance.random((count, labels)) * 0.6 + 0.4 * truth, 2), 0, 1)
    found = multi_label_accuracy(truth, probabilities, [str(place) for place in range(labels)], threshold)
    given_labels = probabilities >= threshold
    for name in ("micro", "macro", "samples"):
        wanted = metrics.precision_recall_fscore_support(truth, given_labels, average=name, zero_division=0)[:3]
        assert getattr(found.averages, name) == pytest.approx(wanted, rel=1e-14)
    assert found.exact_match.value == metrics.accuracy_score(truth, given_labels)
    assert found.hamming_loss == metrics.hamming_loss(truth, given_labels)
    for place, each in enumerate(found.labels):
        if truth[:, place].any():
            wanted = metrics.average_precision_score(truth[:, place], probabilities[:, place])
            assert each.average_precision == pytest.approx(wanted, rel=1e-13)
    best = max(
        metrics.f1_score(truth, probabilities >= cut, average="micro", zero_division=0)
        for cut in np.unique(probabilities)
    )
    assert found.best_f1 == pytest.approx(best, rel=1e-13)
    again = metrics.f1_score(truth, probabilities >= found.best_threshold, average="micro", zero_division=0)
    assert again == pytest.approx(best, rel=1e-13)


@given(st.integers(1, 3000), st.data())
def test_intervals_and_the_exact_test_are_those_of_scipy(total, data):
    count = data.draw(st.integers(0, total))
    wanted = binomtest(count, total).proportion_ci(method="wilson")
    found = share_of(count, total)
    assert (found.low, found.high) == pytest.approx((wanted.low, wanted.high), abs=1e-12)
    assert found.low <= found.value <= found.high
    assert exact_paired_test(count, total - count) == pytest.approx(
        binomtest(count, total).pvalue, rel=1e-8, abs=1e-300
    )


def test_intervals_hold_the_truth_as_often_as_they_say():
    chance, held = np.random.default_rng(0), np.zeros(2)
    recalls, gained, lost = np.array([0.99, 0.9, 0.6, 0.95, 0.8]), 0.05, 0.03
    for _ in range(2000):
        shares = [share_of(int(right), 30) for right in chance.binomial(30, recalls)]
        balanced = mean_of_shares(shares, float(np.mean([each.value for each in shares])))
        held[0] += balanced.low <= recalls.mean() <= balanced.high
        for_it, against, _ = chance.multinomial(300, [gained, lost, 1 - gained - lost])
        difference = difference_of_paired(int(for_it), int(against), 300)
        held[1] += difference.low <= gained - lost <= difference.high
    assert (held / 2000 > 0.925).all() and (held / 2000 < 0.985).all(), held / 2000


def test_calibration_is_the_mean_distance_in_its_bins():
    truth, probabilities = exclusive(1, 500, 4)
    sure, right = probabilities.max(axis=1), probabilities.argmax(axis=1) == truth
    found, wanted = calibration_of(sure, right), 0.0
    for place in range(15):
        inside = (sure > place / 15) & (sure <= (place + 1) / 15)
        assert found.bins[place].images == inside.sum()
        if inside.any():
            wanted += inside.mean() * abs(right[inside].mean() - sure[inside].mean())
    assert found.expected_error == pytest.approx(wanted, rel=1e-12)
    honest = np.random.default_rng(2).random(200_000)
    assert calibration_of(honest, np.random.default_rng(3).random(200_000) < honest).expected_error < 0.01


def test_the_same_picture_is_found_after_encoding_anew_and_no_other(shipped, tmp_path):
    paths = sorted((shipped / "labelled").rglob("*.jpg"))
    marks = []
    for path in paths:
        picture = Image.open(path)
        picture.resize((picture.width * 5 // 4, picture.height * 5 // 4)).save(tmp_path / "again.jpg", quality=55)
        marks.append((fingerprint(np.asarray(picture)), fingerprint(np.asarray(Image.open(tmp_path / "again.jpg")))))
    first, again = [one for one, _ in marks], [other for _, other in marks]
    (twice,) = [(i, j) for i, j in duplicate_pairs(first)]
    assert [paths[i].parent.name for i in twice] == ["north-cardinal", "special"]
    found = set(duplicate_pairs(first, again))
    same = {(i, i) for i in range(len(paths))} | {twice, twice[::-1]}
    assert found <= same and len(found) >= 0.97 * len(same), (len(found), len(same))


def test_a_tally_of_the_demo_is_that_of_scikit_learn(workspace):
    done = called(
        "tally",
        "channel_marks.onnx",
        "--images",
        "labelled.csv",
        "--compare",
        "channel_marks.pt2",
        "--trained-on",
        "reference",
        "--json",
        "a.json",
        "--draw",
        "drawn",
        "--min-accuracy",
        "80%",
        cwd=workspace,
    )
    # Accuracy passes; that nothing was lost is not decided by so few images.
    assert done.returncode == 4 and "Accuracy 91.0 %" in done.stdout, done.stdout + done.stderr
    found = json.loads((workspace / "a.json").read_text())
    rows = list(csv.DictReader((workspace / "labelled.csv").open()))
    classifier = open_artifact(workspace / "channel_marks.onnx")
    made = list(apply_to_all([workspace / row["path"] for row in rows], classifier.inlet))
    scores = np.concatenate(
        [classifier.scores([each.tensor for each in made[start : start + 8]]) for start in range(0, len(made), 8)]
    )
    truth = [classifier.labels.index(row["label"]) for row in rows]
    said = scores.argmax(axis=1)
    figures = found["exclusive"]
    assert figures["top_k_accuracy"]["1"]["value"] == metrics.accuracy_score(truth, said)
    assert figures["balanced_accuracy"]["value"] == metrics.balanced_accuracy_score(truth, said)
    assert figures["cross_entropy_nats"]["value"] == metrics.log_loss(truth, classifier.probabilities(scores))
    assert figures["confusion_counts"] == metrics.confusion_matrix(truth, said).tolist()
    assert {name: each["images"] for name, each in found["groups"].items()} == {"bow camera": 101, "mast camera": 100}
    assert found["paired"][
        "verdict"
    ] == "undecided" and "predict the same on all 201 images; these are too few" in " ".join(done.stdout.split())
    assert [len(found["duplicates"][key]) for key in ("different_labels", "same_label", "in_training")] == [1, 0, 0]
    wrong = [each["confidence"] for each in found["misclassified"]]
    assert len(wrong) == sum(said != truth) and wrong == sorted(wrong, reverse=True)
    for name, size in (("confusion", (1280, 800)), ("reliability", (1280, 800)), ("wrong", (1280, 930))):
        assert Image.open(workspace / "drawn" / f"{name}.png").size == size
    done = called(
        "tally",
        "channel_marks.onnx",
        "--images",
        "labelled",
        "--min-accuracy",
        "0.99",
        "--draw",
        "pair",
        "--pair",
        "special,port-hand",
        cwd=workspace,
    )
    assert done.returncode == 1 and "FAIL: accuracy" in done.stdout
    assert Image.open(workspace / "pair/wrong.png").size == (1280, 350)


def test_worse_beside_another_breaks(workspace):
    assert (
        called(
            "convert",
            "keras/channel_marks.keras",
            "-o",
            "keras.onnx",
            "--inlet",
            "keras/channel_marks.inlet.toml",
            "--labels",
            "labels.txt",
            cwd=workspace,
        ).returncode
        == 0
    )
    done = called("tally", "keras.onnx", "--images", "labelled", "--compare", "channel_marks.onnx", cwd=workspace)
    assert done.returncode == 1 and "keras.onnx is worse" in done.stdout and "FAIL: comparison" in done.stdout
    done = called("tally", "channel_marks.onnx", "--images", "labelled", "--compare", "keras.onnx", cwd=workspace)
    assert done.returncode == 0 and "is better" in done.stdout


def test_labels_off_by_one_are_noticed(workspace):
    names = (workspace / "labels.txt").read_text().split()
    (workspace / "off.txt").write_text("\n".join(names[-1:] + names[:-1]))
    done = called(
        "tally", "channel_marks.onnx", "--images", "labelled", "--labels", "off.txt", "--json", "a.json", cwd=workspace
    )
    assert "the labels of 10 classes look off by -1" in done.stdout, done.stdout
    assert json.loads((workspace / "a.json").read_text())["exchanged_labels"]["correct_if_exchanged"] > 170
    swapped = [names[1], names[0], *names[2:]]
    (workspace / "off.txt").write_text("\n".join(swapped))
    assert (
        "Warning: the labels of"
        not in called("tally", "channel_marks.onnx", "--images", "labelled", cwd=workspace).stdout
    )


@pytest.fixture(autouse=True)
def wide(monkeypatch):
    """Sentences are not broken where a test looks for them."""
    monkeypatch.setenv("COLUMNS", "300")


TABLES = {
    "no heading": (["mark-005.jpg,special"], []),
    "the first is gone": (["gone.jpg,special", "mark-005.jpg,special"], []),
    "any order": (
        ["group,label,path", "a,special,labelled/special/mark-008.jpg"],
        ["no images of these classes, so nothing is known about them: port-hand"],
    ),
    "respelt": (["path,label", "labelled/special/mark-008.jpg,Port_Hand"], ["Port_Hand = port-hand"]),
    "unknown": (
        [
            "path,label",
            "labelled/special/mark-008.jpg,special",
            "labelled/special/mark-018.jpg,specail",
            "labelled/special/mark-028.jpg,whale",
        ],
        ["2 images are left out", "specail (did you mean special?)", "whale"],
    ),
    "semicolons": (["path;label", "labelled/special/mark-008.jpg;special"], []),
}


@pytest.mark.parametrize("name", TABLES)
def test_tables_as_people_write_them(name, workspace):
    lines, notes = TABLES[name]
    shutil.copy(workspace / "labelled/special/mark-008.jpg", workspace / "mark-005.jpg")
    (workspace / "mine.csv").write_text("\n".join(lines) + "\n")
    done = called("tally", "channel_marks.onnx", "--images", "mine.csv", cwd=workspace)
    assert done.returncode == (3 if name == "the first is gone" else 0) and "1 image of mine.csv" in done.stdout, (
        done.stdout + done.stderr
    )
    assert all(note in done.stderr for note in notes), done.stderr


def test_numbers_stand_for_names_only_where_it_is_said(workspace):
    names = (workspace / "labels.txt").read_text().split()
    rows = list(csv.DictReader((workspace / "labelled.csv").open()))
    for file, first in (("from0.csv", 0), ("from1.csv", 1)):
        lines = [f"{row['path']},{names.index(row['label']) + first}" for row in rows]
        (workspace / file).write_text("\n".join(["path,label", *lines]))
    call = ("tally", "channel_marks.onnx", "--images")
    refused(called(*call, "from0.csv", cwd=workspace), "by numbers", "--numbers FILE")
    refused(called(*call, "from1.csv", cwd=workspace), "off by one", "--numbers FILE")
    refused(called(*call, "from1.csv", "--numbers", "labels.txt", cwd=workspace), "off by one")
    refused(called(*call, "labelled.csv", "--numbers", "labels.txt", cwd=workspace), "are not numbers")
    by_number = called(*call, "from0.csv", "--numbers", "labels.txt", cwd=workspace).stdout
    by_name = called(*call, "labelled.csv", cwd=workspace).stdout
    assert [
        [line for line in text.splitlines() if line.startswith("Accuracy 91.0 %")] for text in (by_number, by_name)
    ] == ([["Accuracy 91.0 % (95 % CI 86.3 % to 94.3 %)."]] * 2)


def test_images_that_cannot_be_read_are_listed_and_break(workspace):
    (workspace / "labelled/special/broken.jpg").write_text("no image")
    shutil.copytree(workspace / "labelled/special", workspace / "learnt")
    done = called("tally", "channel_marks.onnx", "--images", "labelled", "--trained-on", "learnt", cwd=workspace)
    assert done.returncode == 3 and "zygal: not readable: labelled/special/broken.jpg" in done.stderr
    assert "Warning: 1 file could not be read (exit code 3)" in done.stdout
    assert (
        "a labelled image is also a training image: labelled/special/mark-008.jpg and learnt/mark-008.jpg"
        in done.stdout
    )


def test_several_labels_of_a_table(shipped, tmp_path):
    import torch

    class Colours(torch.nn.Module):
        def forward(self, image):
            return torch.sigmoid(20 * (image.mean(dim=(2, 3)) - 0.5))

    capture(Colours(), tmp_path / "colours.pt2", (3, 64, 64))
    inlet = (shipped / "channel_marks.inlet.toml").read_text()
    (tmp_path / "in.toml").write_text(
        "\n".join(line for line in inlet.splitlines() if not line.startswith(("mean", "std")))
    )
    (tmp_path / "labels.txt").write_text("red\ngreen\nblue\n")
    assert (
        called(
            "convert", "colours.pt2", "-o", "colours.onnx", "--inlet", "in.toml", "--labels", "labels.txt", cwd=tmp_path
        ).returncode
        == 0
    )
    lines = ["path,label"]
    for colour, names in (((255, 0, 0), "red"), ((255, 255, 0), "red; green"), ((0, 0, 0), ""), ((255, 0, 255), "red")):
        path = f"{len(lines)}.png"
        Image.new("RGB", (80, 70), colour).save(tmp_path / path)
        lines.append(f"{path},{names}")
    (tmp_path / "mine.csv").write_text("\n".join(lines))
    done = called(
        "tally",
        "colours.onnx",
        "--images",
        "mine.csv",
        "--json",
        "a.json",
        "--compare",
        "colours.pt2",
        "--draw",
        "drawn",
        cwd=tmp_path,
    )
    assert done.returncode == 4 and "all labels correct" in done.stdout, done.stdout + done.stderr
    found = json.loads((tmp_path / "a.json").read_text())["multi_label"]
    assert found["exact_match"]["value"] == 0.75 and found["hamming_loss"] == pytest.approx(1 / 12)
    assert list(found["averages"]["micro"].values()) == pytest.approx([4 / 5, 1, 8 / 9])
    assert sorted(path.name for path in (tmp_path / "drawn").iterdir()) == ["reliability.png", "wrong.png"]


@pytest.mark.parametrize("classes", [2, 25, 26, 525])
def test_a_confusion_matrix_of_any_size_is_drawn(classes, tmp_path):
    chance = np.random.default_rng(0)
    truth = np.repeat(np.arange(classes), 4)
    said = np.where(chance.random(len(truth)) < 0.1, chance.integers(0, classes, len(truth)), truth)
    found = accuracy_of(
        truth, said, (said != truth).astype(int), np.full(len(truth), 0.9), list(map(str, range(classes))), (1,)
    )
    draw_confusion(found, "all", tmp_path / "all.png")
    assert Image.open(tmp_path / "all.png").size == (1280, 800)


@pytest.mark.parametrize(
    "arguments, words",
    [
        (("--images", "nosuch"), ["nosuch does not exist"]),
        (("--images", "reference"), ["no sub-folders of classes"]),
        (("--images", "few.csv"), ["2 columns in row 2"]),
        (("--images", "other.csv"), ["no label that is a class", "whale"]),
        (("--images", "one.csv"), ["one column"]),
        (("--images", "gone.csv"), ["none of the 1 labelled images can be read", "gone.jpg"]),
        (("--images", "channel_marks.pt2"), ["not text"]),
        (("--images", "labelled", "--pair", "special,port-hand"), ["--draw"]),
        (("--images", "labelled", "--draw", "drawn", "--pair", "special"), ["is not a class"]),
        (("--images", "labelled", "--draw", "labels.txt"), ["is a file"]),
        (("--images", "labelled", "--trained-on", "nosuch"), ["nosuch does not exist"]),
        (("--images", "labelled", "--labels", "few.csv"), ["few.csv"]),
        (("--images", "labelled", "--multi-label", "--min-accuracy", "x"), ["not a percentage"]),
    ],
)
def test_calls_that_make_no_sense(arguments, words, workspace):
    (workspace / "few.csv").write_text("path,label,group\na.jpg,special\n")
    (workspace / "other.csv").write_text("path,label\nreference/mark-00.jpg,whale\n")
    (workspace / "one.csv").write_text("path\nreference/mark-00.jpg\n")
    (workspace / "gone.csv").write_text("path,label\ngone.jpg,special\n")
    refused(called("tally", "channel_marks.onnx", *arguments, cwd=workspace), *words)


def test_an_artifact_without_labels_is_not_joined_by_position(workspace):
    called("convert", "channel_marks.pt2", "-o", "bare.onnx", "--inlet", "channel_marks.inlet.toml", cwd=workspace)
    refused(called("tally", "bare.onnx", "--images", "labelled", cwd=workspace), "holds no class names", "--labels")
    done = called("tally", "bare.onnx", "--images", "labelled", "--labels", "labelled", cwd=workspace)
    # Sub-folders in their own order are not this model's: that is noticed.
    assert "classes look exchanged" in done.stdout


@pytest.mark.slow
def test_the_suggested_command_can_be_pasted(workspace):
    shutil.copy(workspace / "channel_marks.onnx", workspace / "channel marks.onnx")
    done = called("tally", "channel marks.onnx", "--images", "labelled", "--json", "tally.json", cwd=workspace)
    assert done.returncode == 0, done.stderr
    program, *words = shlex.split(json.loads((workspace / "tally.json").read_text())["next_step"])
    assert program == "zygal" and "channel marks.onnx" in words
    assert called(*words, cwd=workspace).returncode == 0 and (workspace / "figures" / "wrong.png").is_file()


def test_a_reversed_order_of_labels_is_called_so():
    names = ["north", "east", "south", "west", "centre"]
    found = exchanged_labels(np.eye(5, dtype=int)[::-1] * 20, names)
    assert found.reversed and found.shift is None and found.predicted_as["north"] == "centre"
    assert not exchanged_labels(np.roll(np.eye(5, dtype=int), 1, axis=1) * 20, names).reversed


def test_a_mean_of_losses_has_no_interval_below_zero():
    assert mean_with_error(0.01, 1.0, 4, least=0.0).low == 0
