"""Records what real pipelines make of photographs, those of the libraries that this environment has.

    python benchmarks/habits/record.py FOLDER

Run it in as many environments as the libraries need; photographs are written once, and recordings that exist are kept.
"""

import os
import sys
import warnings
from importlib import import_module
from pathlib import Path

import numpy as np
from photographs import write_photographs
from pipelines import PIPELINES

LIBRARIES = ("by_pillow", "by_torch", "by_opencv", "by_augmentation", "by_tensorflow", "by_scikit_image")
os.environ.setdefault("TF_CPP_MIN_LOG_LEVEL", "3")
os.environ.setdefault("KERAS_BACKEND", "jax")
warnings.filterwarnings("ignore")


def main():
    folder = Path(sys.argv[1])
    for name in LIBRARIES:
        try:
            import_module(name)
        except ImportError as fault:
            print(f"{name}: {fault}", file=sys.stderr)
    photographs = {
        part: sorted((folder / part).glob("*")) or write_photographs(folder / part, seed)
        for part, seed in (("seen", 1), ("unseen", 2))
    }
    recordings = folder / "recordings"
    recordings.mkdir(exist_ok=True)
    for name, pipeline in PIPELINES.items():
        if not (recordings / f"{name}.npz").exists():
            made = {part: np.stack([pipeline(path) for path in paths]) for part, paths in photographs.items()}
            np.savez(recordings / f"{name}.npz", **made)
            print(name, flush=True)


if __name__ == "__main__":
    main()
