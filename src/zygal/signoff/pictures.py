"""Pictures for the page, as bytes of files: photographs in small, figures, the inlet as a strip."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

from zygal.errors import ImageError
from zygal.files.writing import scratch_folder

THUMBNAIL_PIXELS = 160


def thumbnail(path: str | Path) -> bytes | None:
    """A photograph in small, upright, as JPEG; None if it cannot be read."""
    from PIL import ImageOps

    from zygal.inlet.decode import open_image

    try:
        picture = ImageOps.exif_transpose(open_image(path))
    except ImageError:
        return None
    if picture.mode.startswith("I"):
        picture = picture.point(lambda level: level / 256).convert("L")
    picture = picture.convert("RGB")
    picture.thumbnail((THUMBNAIL_PIXELS, THUMBNAIL_PIXELS))
    data = io.BytesIO()
    picture.save(data, "jpeg", quality=82)
    return data.getvalue()


def thumbnails(folder: str | Path, names: Iterable[str]) -> dict[str, bytes]:
    """By name, without those that cannot be read."""
    made = {name: thumbnail(Path(folder) / name) for name in dict.fromkeys(names)}
    return {name: data for name, data in made.items() if data is not None}


def drawn(draw: Callable[[Any], None], ending: str) -> bytes:
    """What a function of `figures` writes into a file of that ending."""
    with scratch_folder() as folder:
        path = folder / f"figure{ending}"
        draw(path)
        return path.read_bytes()
