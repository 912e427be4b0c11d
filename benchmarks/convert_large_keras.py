"""Conversion of a Keras file of about 100 MB as a whole process: CPU time and peak memory, and what is imported.

    python benchmarks/convert_large_keras.py

Needs Keras once, to write the file.
"""

import os
import subprocess
import sys
import tempfile
from pathlib import Path

from startup_and_convert import ZYGAL, interleaved_medians

WRITE = """
import os
os.environ.setdefault("KERAS_BACKEND", "jax")
import keras
model = keras.applications.ResNet50(weights=None)
model.save("model.keras")
model.save("model.h5")
"""


def main():
    with tempfile.TemporaryDirectory() as folder:
        subprocess.run([sys.executable, "-c", WRITE], cwd=folder, check=True, stderr=subprocess.DEVNULL)
        commands = {
            f"convert {name}": [ZYGAL, "convert", name, "-o", "model.onnx"] for name in ("model.keras", "model.h5")
        }
        environment = {"KERAS_BACKEND": "jax", **os.environ}
        os.environ.update(environment)
        commands["import and load"] = [sys.executable, "-c", "import keras; keras.saving.load_model('model.keras')"]
        medians = interleaved_medians(commands, folder, 3)
        size = (Path(folder) / "model.keras").stat().st_size
        traced = [sys.executable, "-X", "importtime", "-m", "zygal", *commands["convert model.keras"][1:]]
        imports = subprocess.run(traced, cwd=folder, capture_output=True, text=True).stderr
    print(
        f"{'':20} {'wall s':>8} {'CPU s':>8} {'peak MB':>8}   (medians of 3, interleaved; the file has "
        f"{size / 1e6:.0f} MB)"
    )
    for name, (wall, cpu, peak) in medians.items():
        print(f"{name:20} {wall:8.2f} {cpu:8.2f} {peak / 1e6:8.0f}")
    print(f"peak allowed: {2 * size / 1e6 + 100:.0f} MB")
    frameworks = [name for name in ("torch", "keras", "tensorflow", "jax") if f" {name}\n" in imports]
    print(f"frameworks imported by convert: {', '.join(frameworks) or 'none'}")


if __name__ == "__main__":
    main()
