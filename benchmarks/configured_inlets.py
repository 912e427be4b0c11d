"""Whether inlets read from the configuration files of public collections give the collections' own tensors.

`python benchmarks/configured_inlets.py PYTHON [--most N] [--seed K] [--record FILE]`. PYTHON is the interpreter of an
environment with transformers, timm and torchvision. For each class of image processors, with its own and with changed
settings, the library computes the tensors of 12 pictures in each of its ways and writes its configuration; the inlet
that Zygal reads from that file is applied to the same pictures. Differences are given in grey levels of the range.
--record writes the configurations and every few pixels of the tensors of two small pictures, as the tests have them.
"""

import argparse
import json
import subprocess
import sys
import tempfile
from collections import Counter
from pathlib import Path

import numpy as np

SIZES = [
    (480, 640),
    (640, 480),
    (375, 500),
    (333, 500),
    (224, 224),
    (256, 341),
    (1024, 683),
    (97, 130),
    (200, 301),
    (601, 403),
    (231, 229),
    (768, 1025),
]
CLASSES = [
    "Beit",
    "Bit",
    "Blip",
    "CLIP",
    "ConvNext",
    "DeiT",
    "DINOv3ViT",
    "Donut",
    "EfficientNet",
    "ImageGPT",
    "Levit",
    "MobileNetV1",
    "MobileNetV2",
    "MobileViT",
    "Perceiver",
    "PoolFormer",
    "PPLCNet",
    "Pvt",
    "Segformer",
    "Siglip",
    "Siglip2",
    "TextNet",
    "ViT",
]


def pictures(folder: Path, seed: int) -> list[Path]:
    """Twelve JPEG and PNG files with edges, ramps and noise."""
    from PIL import Image

    paths, random = [], np.random.default_rng(seed)
    for place, (height, width) in enumerate(SIZES):
        y, x = np.mgrid[:height, :width]
        waves = [np.sin(x / random.uniform(3, 60) + y / random.uniform(3, 60) + c) for c in range(3)]
        pixels = 127 + 90 * np.stack(waves, -1) + random.normal(0, 18, (height, width, 3))
        pixels[height // 3 : height // 2, width // 4 : width // 2] = random.integers(0, 256, 3)
        image = Image.fromarray(pixels.clip(0, 255).astype(np.uint8))
        paths.append(folder / f"{place:02d}.{'png' if place % 4 == 3 else 'jpg'}")
        image.save(paths[-1])
    return paths


def small_pictures(folder: Path) -> list[Path]:
    """Two PNG files made by whole numbers alone, the same everywhere."""
    from PIL import Image

    paths = []
    for place, (height, width) in enumerate([(97, 130), (301, 231)]):
        y, x = np.mgrid[:height, :width]
        pixels = np.stack([(x * 3 + y * 2) % 256, (x * x // 40 + y * 5) % 256, (x * y // 16) % 256], -1)
        pixels[height // 3 : height // 2, width // 4 : width // 2] = [200, 30, 90]
        paths.append(folder / f"{place:02d}.png")
        Image.fromarray(pixels.astype(np.uint8)).save(paths[-1])
    return paths


def every_few(tensor: np.ndarray) -> np.ndarray:
    """At most 7 x 7 pixels of a tensor [C, H, W], the last row and column among them."""
    if tensor.ndim != 3:
        return tensor.ravel()[:12]
    rows, columns = (np.linspace(0, side - 1, min(side, 7)).astype(int) for side in tensor.shape[1:])
    return tensor[:, rows][:, :, columns]


def settings_of(random, base: dict) -> dict:
    """Some changed settings, as people change them."""
    side = int(random.choice([64, 96, 128, 192, 224, 240, 256, 300, 384, 448]))
    changes = {
        "size": [{"height": side, "width": side}, {"height": side, "width": side + 32}, {"shortest_edge": side}],
        "crop_size": [{"height": side, "width": side}, {"height": side - 8, "width": side}, side],
        "resample": [0, 2, 3, 2, 3, 1, 4, 5],
        "do_center_crop": [True, False],
        "do_resize": [True, True, False],
        "do_rescale": [True, True, True, False],
        "rescale_factor": [1 / 255, 1 / 127.5, 1 / 256],
        "do_normalize": [True, False],
        "image_mean": [[0.485, 0.456, 0.406], [0.0, 0.0, 0.0], 0.5],
        "image_std": [[0.229, 0.224, 0.225], [1.0, 1.0, 1.0], 0.5],
        "crop_pct": [0.875, 0.95, 1.0, 0.9],
        "rescale_offset": [True, False],
        "include_top": [True, False],
        "do_flip_channel_order": [True, False],
        "resize_short": [256, 320, 232],
        "do_pad": [True],
    }
    known = [key for key in changes if key in base or key in ("do_center_crop", "crop_size", "do_pad")]
    chosen = random.choice(known, size=min(len(known), int(random.integers(1, 4))), replace=False)
    return {key: changes[key][int(random.integers(len(changes[key])))] for key in chosen}


def make(most: int, seed: int) -> None:
    """In the library's environment: writes configuration and tensors, says so, and waits until they have been read."""
    import timm
    import transformers
    from PIL import Image

    said, sys.stdout = sys.stdout, sys.stderr
    paths = sorted(Path.cwd().glob("[0-9]*.*g"))
    random = np.random.default_rng(seed)

    def tell(name: str, way: str, document: dict, make_tensor) -> None:
        tensors = []
        for path in paths:
            try:
                tensors.append(np.asarray(make_tensor(Image.open(path).convert("RGB"))))
            except Exception:
                tensors.append(None)
        if all(each is None for each in tensors):
            return
        kept = {str(at): each for at, each in enumerate(tensors) if each is not None}
        np.savez("tensors.npz", **kept)
        Path("config.json").write_text(json.dumps(document))
        print(json.dumps({"name": name, "way": way}), file=said, flush=True)
        sys.stdin.readline()

    def of_processor(processor):
        name = processor.model_input_names[0]
        return lambda image: processor(image, return_tensors="np")[name][0]

    for stem in CLASSES:
        for way, ending in (("tensors", ""), ("pictures", "Pil")):
            kind = getattr(transformers, f"{stem}ImageProcessor{ending}", None)
            for trial in range(most) if kind else ():
                try:
                    base = json.loads(kind().to_json_string())
                    processor = kind(**(settings_of(random, base) if trial else {}))
                    document = json.loads(processor.to_json_string())
                    tell(kind.__name__, way, document, of_processor(processor))
                except Exception as fault:
                    print(f"{kind.__name__}: {fault}"[:200], file=sys.stderr)
    names = sorted({name.partition(".")[0] for name in timm.list_pretrained()})
    for name in [names[int(at)] for at in random.integers(len(names), size=4 * most)]:
        table = timm.get_pretrained_cfg(name).to_dict()
        for mode in (table.get("crop_mode") or "center", "squash", "border"):
            changed = table | {"crop_mode": mode, "crop_pct": float(random.choice([table["crop_pct"], 0.9, 1.0]))}
            transform = timm.data.create_transform(**timm.data.resolve_data_config({}, pretrained_cfg=changed))
            written = {
                key: value for key, value in changed.items() if isinstance(value, (int, float, str, list, tuple, bool))
            }
            tell(f"{name} {mode}", "timm", {"architecture": name, "pretrained_cfg": written}, transform)


def judged(folder: Path, paths: list[Path], way: str) -> tuple[str, str]:
    """right, wrong or refused, and the largest difference in grey levels or the reason."""
    from zygal.errors import ZygalError
    from zygal.inlet import apply_inlet
    from zygal.inlet.configured import read_configured

    tensors = np.load(folder / "tensors.npz")
    try:
        found = read_configured(folder / "config.json", None if way == "timm" else way)
    except ZygalError as fault:
        return "refused", str(fault).replace(str(folder / "config.json"), "it")
    worst, inlet = 0.0, found.inlet
    for key in tensors.files:
        try:
            ours = apply_inlet(paths[int(key)], inlet).tensor
        except ZygalError as fault:
            return "image refused", str(fault)[-150:]
        if ours.shape != tensors[key].shape:
            return "wrong", f"shape {ours.shape} for {tensors[key].shape}"
        low, high = inlet.values.range
        level = (high - low) / 255 / np.array(inlet.values.std or (1.0,) * 3).reshape(3, 1, 1)
        worst = max(worst, float((np.abs(ours - tensors[key].astype(np.float64)) / abs(level)).max()))
    # An unrounded resize of tensors computes its positions in float32; docs/inlet.md has that difference.
    limit = 0.02 if any(getattr(step, "rounding", "") == "none" for step in inlet.frame) else 1e-3
    return ("right" if worst <= limit else "wrong"), f"{worst:.2g}"


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("python")
    parser.add_argument("--most", type=int, default=12)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--record", type=Path)
    given = parser.parse_args()
    if given.python == "make":
        make(given.most, given.seed)
        return 0
    counts, reasons, worst = Counter(), Counter(), Counter()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        paths = small_pictures(folder) if given.record else pictures(folder, given.seed)
        kept: dict[str, np.ndarray] = {}
        command = [given.python, __file__, "make", "--most", str(given.most), "--seed", str(given.seed)]
        maker = subprocess.Popen(
            command, cwd=folder, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True
        )
        for line in maker.stdout:
            answer = json.loads(line)
            if given.record:
                case = f"{len(kept):03d} {answer['way']}"
                tensors = np.load(folder / "tensors.npz")
                kept[f"{case} config"] = np.array((folder / "config.json").read_text())
                kept |= {f"{case} {at}": every_few(tensors[at]) for at in tensors.files}
            verdict, why = judged(folder, paths, answer["way"])
            kind = "timm" if answer["way"] == "timm" else answer["name"]
            counts[kind, verdict] += 1
            if verdict == "right":
                worst[answer["way"]] = max(worst[answer["way"]], float(why))
            elif verdict == "wrong":
                print(f"  {answer['name']}, {answer['way']}: wrong {why} {(folder / 'config.json').read_text()}"[:900])
            else:
                reasons[f"{verdict}: {why}"[:170]] += 1
            maker.stdin.write("\n")
            maker.stdin.flush()
    if given.record:
        np.savez_compressed(given.record, **kept)
    for kind in sorted({kind for kind, _ in counts}):
        listed = ", ".join(f"{count} {verdict}" for (at, verdict), count in sorted(counts.items()) if at == kind)
        print(f"{kind}: {listed}")
    print("largest difference in grey levels:", {way: f"{value:.2g}" for way, value in worst.items()})
    for reason, count in reasons.most_common():
        print(f"  {count} {reason}")
    return 1 if any(verdict == "wrong" for _, verdict in counts) else 0


if __name__ == "__main__":
    sys.exit(main())
