"""Makes the files that the demo ships, from the two trained models.

    python training/make_demo_data.py TRAINED_DIR

Draws the 40 reference images in the file forms that people have, copies the models, and records
their witnesses from the live frameworks with the training side's own preprocessing.
"""

import argparse
import shutil
import subprocess
import sys
from pathlib import Path

from PIL import Image

from zygal.demo.marks import LABELS, draw_mark

DATA = Path(__file__).parents[1] / "src/zygal/demo/data"
REFERENCE_SERIES, COUNT = 3, 40
SIZES = ((160, 120), (120, 160), (200, 150), (192, 108), (128, 128), (240, 180), (140, 110), (96, 144))

# Orientation tags of the EXIF standard, with the turn that undoes them.
ORIENTATIONS = {3: Image.Transpose.ROTATE_180, 6: Image.Transpose.ROTATE_90, 8: Image.Transpose.ROTATE_270}


def save_reference(index: int, folder: Path) -> None:
    picture, _ = draw_mark(REFERENCE_SERIES, index, SIZES[index % len(SIZES)])
    stem = folder / f"mark-{index:02d}"
    if index % 5 == 1:
        turned_by = list(ORIENTATIONS)[index // 5 % 3]
        exif = Image.Exif()
        exif[0x0112] = turned_by
        picture.transpose(ORIENTATIONS[turned_by]).save(stem.with_suffix(".jpg"), quality=88, exif=exif)
    elif index % 10 == 3:
        transparent(picture).save(stem.with_suffix(".png"), optimize=True)
    elif index % 20 == 7:
        picture.convert("L").save(stem.with_suffix(".png"), optimize=True)
    elif index % 20 == 15:
        picture.convert("L").save(stem.with_suffix(".jpeg"), quality=85)
    elif index % 20 == 18:
        picture.quantize(96).save(stem.with_suffix(".png"), optimize=True)
    else:
        picture.save(stem.with_suffix(".jpg"), quality=(75, 88, 95)[index % 3])


def transparent(picture: Image.Image) -> Image.Image:
    """As cut out by an annotation tool: transparent towards the edges."""
    mask = Image.radial_gradient("L").resize(picture.size).point(lambda v: max(0, min(255, (215 - v) * 6)))
    result = picture.convert("RGBA")
    result.putalpha(mask)
    return result


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("trained", type=Path)
    trained = parser.parse_args().trained
    shutil.rmtree(DATA / "reference", ignore_errors=True)
    (DATA / "reference").mkdir(parents=True)
    for index in range(COUNT):
        save_reference(index, DATA / "reference")
    (DATA / "labels.txt").write_text("\n".join(LABELS) + "\n")
    for folder, model in ((".", "channel_marks.pt2"), ("keras", "channel_marks.keras")):
        shutil.copyfile(trained / model, DATA / folder / model)
        command = ["witness", f"{folder}/{model}", "--images", "reference", "-o", f"{folder}/channel_marks.witness"]
        command += ["--training-code", f"{folder}/training_code.py:load_image", "--labels", "labels.txt"]
        subprocess.run([sys.executable, "-m", "zygal", *command], cwd=DATA, check=True)
    total = sum(path.stat().st_size for path in DATA.rglob("*") if path.is_file())
    print(f"{total / 1e6:.2f} MB of demo data")


if __name__ == "__main__":
    main()
