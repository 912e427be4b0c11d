"""Preprocessing inside an artifact beside Zygal's own inlet, on decoded pictures of 480 x 640.

    python benchmarks/raw_pixels.py [ROUNDS]

For usual inlets: the time of the operators that `convert --raw-pixels` writes, in the runtime with one and with two
threads, over that of the inlet in one thread on the same decoded picture, in turn; and the largest difference of the
two tensors in grey levels. Below 1 the artifact is faster.
"""

import sys
import tempfile
from pathlib import Path

import numpy as np
from in_turn import measured, session
from PIL import Image

from zygal.artifact.formats import write_artifact
from zygal.classifier.metadata import Metadata
from zygal.inlet.apply import apply_to_opened
from zygal.inlet.front import front_of
from zygal.inlet.specification import Crop, Decode, Inlet, Resize, Tensor, Values

MEAN, STD = (0.485, 0.456, 0.406), (0.229, 0.224, 0.225)
USUAL = Values(range=(0.0, 1.0), mean=MEAN, std=STD)
INLETS = {
    "short side 256, bilinear, crop 224": Inlet(frame=(Resize(short_side=256), Crop(size=(224, 224))), values=USUAL),
    "short side 256, bicubic, crop 224": Inlet(
        frame=(Resize(short_side=256, filter="bicubic"), Crop(size=(224, 224))), values=USUAL
    ),
    "224 x 224, bilinear": Inlet(frame=(Resize(size=(224, 224)),), values=USUAL),
    "224 x 224, Lanczos": Inlet(frame=(Resize(size=(224, 224), filter="lanczos"),), values=USUAL),
    "224 x 224, area": Inlet(frame=(Resize(size=(224, 224), filter="area", rounding="end"),), values=USUAL),
    "224 x 224, two pixels, no rounding": Inlet(
        frame=(Resize(size=(224, 224), antialias=False, edges="repeat", rounding="none"),), values=USUAL
    ),
    "224 x 224, bilinear, NHWC": Inlet(frame=(Resize(size=(224, 224)),), values=USUAL, tensor=Tensor(layout="NHWC")),
    "grey, 224 x 224, bilinear": Inlet(
        Decode("grey"), frame=(Resize(size=(224, 224)),), values=Values(range=(0.0, 1.0))
    ),
    "crop 224": Inlet(frame=(Crop(size=(224, 224)),), values=USUAL),
}


def main():
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 25
    rng = np.random.default_rng(3)
    coarse = Image.fromarray(rng.integers(0, 256, (30, 40, 3), np.uint8)).resize((640, 480), Image.Resampling.BICUBIC)
    pixels = np.clip(np.asarray(coarse) + rng.normal(0, 8, (480, 640, 3)), 0, 255).astype(np.uint8)
    with tempfile.TemporaryDirectory() as folder:
        for name, inlet in INLETS.items():
            path = Path(folder) / "front.onnx"
            write_artifact(front_of(inlet, "image", "tensor"), path, Metadata())
            sessions = [session(str(path), threads) for threads in (1, 2)]
            runs = [
                lambda i=inlet: apply_to_opened(Image.fromarray(pixels), i, "drawn"),
                *(lambda s=each: s.run(None, {"image": pixels[None]})[0][0] for each in sessions),
            ]
            ours, inside = runs[0](), runs[1]()
            channels_last = inlet.tensor.layout == "NHWC"
            level = ours.grey_level if channels_last else ours.grey_level[:, None, None]
            off = (np.abs(inside.astype(np.float64) - ours.tensor) / np.abs(level)).max()
            readings = measured(runs, rounds)
            one, two = (np.median(readings[:, place] / readings[:, 0]) for place in (1, 2))
            times = np.median(readings, axis=0) * 1000
            print(
                f"{name:36} inlet {times[0]:5.2f} ms, inside with 1 thread {times[1]:5.2f} ms ({one:.2f}x), with 2 "
                f"{times[2]:5.2f} ms ({two:.2f}x), largest difference {off:.3f} grey levels",
                flush=True,
            )


if __name__ == "__main__":
    main()
