"""Classifies images with the model of this folder, and checks itself. Needs NumPy, Pillow and ONNX Runtime; nothing
else.

    python classify.py IMAGE...      the three most probable classes of each image
    python classify.py --check       runs the bundled reference images; exit code 0 if all answers are the expected ones
    --model NAME                     another model than the first, if the bundle holds several

What is specific to the model is data in classifier.json: names, shapes, labels, and the stages of the preprocessing
("inlet").
"""

import hashlib
import json
import os
import sys
from pathlib import Path

import numpy as np
from PIL import Image, ImageOps

HERE = Path(__file__).resolve().parent


def decode(path, how):  # Stage 1: a file becomes a picture with pixels of 0 to 255
    picture = Image.open(path)
    picture.load()
    if how["exif"] == "apply":
        picture = ImageOps.exif_transpose(picture)  # the rotation that the camera noted
    if picture.mode.startswith("I;16") or picture.mode in ("I", "F"):
        raise SystemExit(f"{path} has more than 8 bits a channel; convert it to 8 bits first.")
    if how["transparency"] != "drop" and ("transparency" in picture.info or "A" in picture.getbands()):
        ground = Image.new("RGBA", picture.size, how["transparency"])  # lay it over this colour
        picture = Image.alpha_composite(ground, picture.convert("RGBA"))
    return picture.convert("RGB").convert("L" if how["colour"] == "grey" else "RGB")


def frame(picture, steps):  # Stage 2: each step gives a picture of another size, an array behind a resize in floats
    for step in steps:
        resized = step["step"] == "resize"
        picture = resize(picture, size_of(step, picture), step) if resized else crop_or_pad(picture, step)
    pixels = np.asarray(picture)
    return pixels[:, :, None] if pixels.ndim == 2 else pixels


def size_of(step, picture):
    """The (height, width) that a resize makes."""
    height, width = np.asarray(picture).shape[:2]
    if step["size"]:
        return tuple(step["size"])
    if step["short_side"]:
        long = in_proportion(step["short_side"] * max(height, width), min(height, width), step)
        return (step["short_side"], long) if height <= width else (long, step["short_side"])
    (tall, wide), keep = (
        step["within"] or step["cover"],
        min if step["within"] else max,
    )  # as large as fits, as small as covers
    if (tall * width <= wide * height) == bool(step["within"]):
        return tall, keep(wide, max(1, in_proportion(tall * width, height, step)))
    return keep(tall, max(1, in_proportion(wide * height, width, step))), wide


def in_proportion(product, divisor, step):
    exact = {"down": product // divisor, "up": -(-product // divisor)}
    return exact.get(step["long_side"], round(product / divisor))


def resize(picture, size, step):
    height, width = np.asarray(picture).shape[:2]
    if step["rounding"] == "passes" or step["filter"] == "nearest":  # Pillow's own resize, one axis after the other
        method = Image.Resampling[step["filter"].upper()]
        rows_first = step["order"] == "by-shrinkage" and height - size[0] > max(0, 2 * (width - size[1]))
        between = (width, size[0]) if rows_first else (size[1], height)
        return picture.resize(between, method).resize((size[1], size[0]), method)
    pixels = np.asarray(picture, np.float32)  # a resize in floats: two small matrices, for rows and for columns
    pixels = pixels[:, :, None] if pixels.ndim == 2 else pixels
    rows, columns = weights(height, size[0], step), weights(width, size[1], step)
    pixels = np.einsum("oc,hcd->hod", columns, np.einsum("oh,hcd->ocd", rows, pixels), optimize=True)
    return pixels if step["rounding"] == "none" else np.clip(np.rint(pixels), 0, 255).astype(np.uint8)


def weights(before, after, step):
    """The matrix [after, before] that resizes one axis."""
    scale = before / after
    centre = (np.arange(after) + 0.5) * scale - 0.5  # of each output pixel, on the input
    widened = max(scale, 1.0) if step["antialias"] else 1.0
    reach = {"bilinear": 1, "bicubic": 2}[step["filter"]] * widened
    matrix = np.zeros((after, before))
    for output, middle in enumerate(centre):
        taps = np.arange(int(np.floor(middle - reach)) + 1, int(np.ceil(middle + reach)))
        value = kernel(np.abs(taps - middle) / widened, step)
        if step["edges"] == "inside":  # beyond the picture there is nothing
            value = np.where((taps >= 0) & (taps < before), value, 0.0)
        np.add.at(matrix[output], np.clip(taps, 0, before - 1), value)
    return (matrix / matrix.sum(axis=1, keepdims=True)).astype(np.float32)


def kernel(x, step):
    if step["filter"] == "bilinear":
        return np.maximum(0.0, 1 - x)
    a = step["cubic"]
    near, far = ((a + 2) * x - (a + 3)) * x * x + 1, (((x - 5) * x + 8) * x - 4) * a
    return np.where(x < 1, near, np.where(x < 2, far, 0.0))


def crop_or_pad(picture, step):
    """A window of another size in the middle; what lies beyond the picture has the colour of the pad."""
    height, width = np.asarray(picture).shape[:2]
    tall, wide = step["size"] or step["aspect"]
    largest = (
        max(1, min(height, width * tall // wide)),
        max(1, min(width, height * wide // tall)),
    )  # with these proportions
    rows, columns = step["size"] or largest
    top, left = margin(height - rows, step), margin(width - columns, step)
    spare = (height - rows, width - columns) if step["step"] == "crop" else (rows - height, columns - width)
    if min(spare) < 0:
        raise SystemExit(
            f"an image of {width} x {height} pixels does not fit the {step['step']} to {columns} x {rows}."
        )
    if isinstance(picture, np.ndarray):
        return picture[top : top + rows, left : left + columns]
    made = Image.new(picture.mode, (columns, rows), step.get("colour", 0))
    made.paste(picture, (-left, -top))
    return made


def margin(spare, step):
    """The pixels before a window in the middle. Below 0: the picture begins there on the window."""
    size = abs(spare)
    before = {"down": size // 2, "up": -(-size // 2), "nearest": round(size / 2)}[step["centring"]]
    return before if spare >= 0 else -before


def tensor_of(path, model):  # Stages 3 and 4: pixels become the model's numbers, in float32, its axes in their order
    inlet = model["inlet"]
    pixels = frame(decode(path, inlet["decode"]), [] if model["raw_pixels"] else inlet["frame"])
    if model["raw_pixels"]:
        return np.array(pixels)  # the model does the rest itself
    if inlet["decode"]["colour"] == "bgr":
        pixels = pixels[:, :, ::-1]
    if inlet["decode"]["colour"] == "grey" and inlet["decode"]["grey_channels"] == 3:
        pixels = pixels.repeat(3, axis=2)
    if inlet["tensor"]["dtype"] == "float32":
        (low, high), mean, std = (inlet["values"][name] for name in ("range", "mean", "std"))
        pixels = pixels.astype(np.float32)
        if high - low != 255:
            pixels = pixels * np.float32(high - low) / np.float32(255)
        pixels = (pixels + np.float32(low) - np.array(mean or 0, np.float32)) / np.array(std or 1, np.float32)
    return np.ascontiguousarray(pixels.transpose(2, 0, 1) if inlet["tensor"]["layout"] == "NCHW" else pixels)


class Classifier:  # one input, one output [batch, classes]; what the scores are is stated in classifier.json
    ENDING = ".onnx"

    def __init__(self, model):
        os.environ["ORT_DISABLE_TELEMETRY"] = "1"  # the runtime would count its uses in files of its own
        import onnxruntime

        self.model = model
        self.session = onnxruntime.InferenceSession(str(HERE / model["file"]), providers=["CPUExecutionProvider"])

    def scores(self, tensor):
        batch = tensor[None].repeat(self.model["input"]["batch"] or 1, axis=0)  # some models insist on a batch
        return self.session.run([self.model["output"]["name"]], {self.model["input"]["name"]: batch})[0][0]

    def probabilities(self, scores):
        sigmoid, powers = (lambda x: 1 / (1 + np.exp(-x))), (lambda x: np.exp(x - x.max()))
        made = {
            "logits": lambda x: powers(x) / powers(x).sum(),
            "log-probabilities": np.exp,
            "independent logits": sigmoid,
        }
        shares = made.get(self.model["scores"], lambda x: x)(scores.astype(np.float64))
        return np.array([1 - shares[0], shares[0]]) if len(shares) == 1 else shares  # one output: no and yes


def check(classifier):
    """The bundled images: their bytes, tensors and scores against those that were recorded when the bundle was made."""
    model, worst, failed = classifier.model, 0.0, 0
    for expected in model["references"]:
        path = HERE / expected["image"]
        same_file = hashlib.sha256(path.read_bytes()).hexdigest() == expected["sha256"]
        tensor = tensor_of(path, model)
        same_tensor = hashlib.sha256(tensor.tobytes()).hexdigest() == expected["tensor_sha256"]
        scores, wanted = classifier.scores(tensor), np.array(expected["scores"], np.float32)
        difference = float(np.abs(scores.astype(np.float64) - wanted).max()) / model["spread"]
        passes = same_file and difference <= model["limit_of_spread"] and int(scores.argmax()) == int(wanted.argmax())
        worst, failed = max(worst, difference), failed + (not passes)
        words = f"file {'as bundled' if same_file else 'CHANGED'}, tensor {'identical' if same_tensor else 'differs'}"
        print(
            f"{'pass' if passes else 'FAIL'}  {expected['image']}: {words}, scores differ by {difference:.1e} "
            f"of the spread"
        )
    print(
        f"{model['name']}: {failed} of {len(model['references'])} images fail, largest difference {worst:.1e} "
        f"of the spread"
    )
    return failed == 0


def main(arguments, kind=Classifier):
    models = [
        each
        for each in json.loads((HERE / "classifier.json").read_text("utf-8"))["models"]
        if each["file"].endswith(kind.ENDING)
    ]
    wanted = arguments[arguments.index("--model") + 1] if "--model" in arguments[:-1] else None
    paths = [each for each in arguments if not each.startswith("--") and each != wanted]
    chosen = [each for each in models if wanted in (None, each["name"])]
    if not chosen or not (paths or "--check" in arguments):
        raise SystemExit(
            __doc__
            if chosen
            else f"there is no model {wanted}; there are {', '.join(each['name'] for each in models)}."
        )
    if "--check" in arguments:
        return 0 if all(check(kind(model)) for model in chosen) else 1
    classifier = kind(chosen[0])
    for path in paths:
        shares = classifier.probabilities(classifier.scores(tensor_of(path, chosen[0])))
        best = np.argsort(-shares, kind="stable")[:3]
        print(f"{path}: " + ", ".join(f"{chosen[0]['labels'][index]} {shares[index]:.3f}" for index in best))
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
