"""The demo's files, and the commands that it runs on them."""

from __future__ import annotations

import io
import os
from dataclasses import dataclass
from importlib.resources import files
from pathlib import Path

from zygal.demo.marks import LABELS, draw_mark
from zygal.errors import OutputError
from zygal.files.writing import whole_file, write_text

MARKER = "channel_marks.pt2"
LABELLED, LABELLED_SERIES = 200, 11
CAMERAS = (("bow camera", (160, 120)), ("mast camera", (64, 48)))
_TWICE, _MISTAKEN = 42, "special"


@dataclass(frozen=True)
class Step:
    """One command of the demo. says: what it is for. expected: its exit code."""

    says: str
    arguments: tuple[str, ...]
    expected: int = 0


_MATCH = ("match", "channel_marks.onnx", "--witness", "channel_marks.witness", "--images", "reference")

STEPS = (
    Step("What did the training side deliver?", ("survey", "channel_marks.pt2")),
    Step(
        "Convert it to a portable artifact, with preprocessing (inlet) and labels inside.",
        (
            "convert",
            "channel_marks.pt2",
            "-o",
            "channel_marks.onnx",
            "--inlet",
            "channel_marks.inlet.toml",
            "--labels",
            "labels.txt",
        ),
    ),
    Step("Everything that is needed to run the artifact is inside.", ("survey", "channel_marks.onnx")),
    Step(
        "Are preprocessing and predictions those of the training framework? The witness is a recording of it.", _MATCH
    ),
    Step(
        "Deliberately wrong: red and blue are swapped. The gates must fail and name the cause.",
        (*_MATCH, "--inlet", "wrong/swapped_channels.toml"),
        1,
    ),
    Step(
        "Deliberately wrong: values of 0..255 with a mean for 0..1. This is invalid input.",
        (*_MATCH, "--inlet", "wrong/unscaled_values.toml", "--worst", "1"),
        2,
    ),
    Step(
        "If nobody wrote the preprocessing down: recover it from the recording.",
        (
            "inlet",
            "recover",
            "--witness",
            "channel_marks.witness",
            "--images",
            "reference",
            "-o",
            "recovered.inlet.toml",
        ),
    ),
    Step(
        "Draw what the inlet does to an image, stage by stage.",
        ("inlet", "draw", "reference/mark-05.jpg", "--inlet", "recovered.inlet.toml", "-o", "strip.png"),
    ),
    Step(
        "A second model of the same classes, from Keras: another size, channels last, values -1..1, probabilities.",
        ("survey", "keras/channel_marks.keras"),
    ),
    Step(
        "It is converted with the same command.",
        (
            "convert",
            "keras/channel_marks.keras",
            "-o",
            "keras/channel_marks.onnx",
            "--inlet",
            "keras/channel_marks.inlet.toml",
            "--labels",
            "labels.txt",
        ),
    ),
    Step(
        "Its training side squashed the images and ignored the EXIF rotation; its inlet says so.",
        (
            "match",
            "keras/channel_marks.onnx",
            "--witness",
            "keras/channel_marks.witness",
            "--images",
            "reference",
            "--worst",
            "1",
        ),
    ),
    Step(
        "How accurate is it on labelled images, and is it better than the Keras model?",
        (
            "tally",
            "channel_marks.onnx",
            "--images",
            "labelled.csv",
            "--compare",
            "keras/channel_marks.onnx",
            "--trained-on",
            "reference",
            "--draw",
            "drawn",
        ),
    ),
    Step(
        "Predictions for three images.",
        ("classify", "channel_marks.onnx", "reference/mark-05.jpg", "reference/mark-27.png", "reference/mark-16.jpg"),
    ),
    Step(
        "Predictions for a folder, into a file; both models, and where they disagree.",
        (
            "classify",
            "channel_marks.onnx",
            "reference",
            "--compare",
            "keras/channel_marks.onnx",
            "-o",
            "predictions.csv",
            "--overwrite",
        ),
    ),
    Step(
        "How fast is it on this machine? Longer runs know it better.",
        (
            "bench",
            "channel_marks.onnx",
            "--witness",
            "channel_marks.witness",
            "--batches",
            "1,8",
            "--threads",
            "1",
            "--layers",
            "--seconds",
            "2",
        ),
    ),
    Step(
        "A smaller file with weights of 16 bits, and what it loses. Without --half it computes in 8 bits, which "
        "takes longer to find out.",
        ("shrink", "channel_marks.onnx", "-o", "channel_marks.half.onnx", "--images", "reference", "--half"),
    ),
    Step(
        "Everything that must hold, in one plan: one verdict, and one page for those who were not there.",
        ("signoff", "signoff.toml"),
    ),
    Step(
        "All that an application team needs, in one bundle, with programs that check themselves.",
        (
            "pack",
            "channel_marks.onnx",
            "--images",
            "reference",
            "--signoff",
            "signoff.signoff",
            "-o",
            "channel_marks.zip",
        ),
    ),
    Step(
        "Is it what was signed off, and does it classify as it did here?",
        ("pack", "--check", "channel_marks.zip", "--signoff", "signoff.signoff"),
    ),
)


def write_workspace(folder: str | Path) -> None:
    """Writes the demo's files into a folder that is new, empty, or an earlier demo's. Raises OutputError."""
    folder = Path(folder)
    if os.path.exists(folder) and not os.path.isdir(folder):
        raise OutputError(f"{folder} is a file; name a folder for the demo.")
    try:
        folder.mkdir(parents=True, exist_ok=True)
        foreign = any(folder.iterdir()) and not (folder / MARKER).exists()
    except OSError as fault:
        raise OutputError(f"{folder} cannot be used: {(fault.strerror or str(fault)).lower()}.") from fault
    if foreign:
        raise OutputError(f"{folder} holds other files; name a new folder for the demo.")
    _copy(files("zygal.demo") / "data", folder)
    _draw_labelled(folder)


def _draw_labelled(folder: Path) -> None:
    """Labelled pictures of two cameras, drawn by the code, with a table of them; one is there twice, under two
    labels."""
    table = ["path,label,group"]
    for index in range(LABELLED):
        camera = index // len(LABELS) % 2
        picture, label = draw_mark(LABELLED_SERIES, index, CAMERAS[camera][1])
        names = [LABELS[label]] + ([_MISTAKEN] if index == _TWICE else [])
        for name in names:
            # The one that is there twice was saved again.
            data = io.BytesIO()
            picture.save(data, "jpeg", quality=88 if name == LABELS[label] else 70)
            path = Path("labelled") / name / f"mark-{index:03d}.jpg"
            (folder / path).parent.mkdir(parents=True, exist_ok=True)
            with whole_file(folder / path) as file:
                file.write(data.getvalue())
            table.append(f"{path.as_posix()},{name},{CAMERAS[camera][0]}")
    write_text(folder / "labelled.csv", "\n".join(table) + "\n")


def _copy(source, target: Path) -> None:
    for entry in source.iterdir():
        if entry.is_dir():
            if entry.name != "__pycache__":
                (target / entry.name).mkdir(exist_ok=True)
                _copy(entry, target / entry.name)
        else:
            with whole_file(target / entry.name) as file:
                file.write(entry.read_bytes())
