"""A Keras model that a Python function built: its weights file, and the archive that the framework writes of it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from zygal.errors import SourceError, first_line
from zygal.files.opening import existing_file


def ready(model: Any, weights: str | Path | None) -> Any:
    """The model with these weights if there are any. Raises SourceError or FileError."""
    if weights is not None:
        load_weights(model, weights)
    return model


def load_weights(model: Any, path: str | Path) -> None:
    """Loads all of a .weights.h5 file or nothing. Raises SourceError or FileError."""
    path = existing_file(path)
    if not path.name.endswith(".weights.h5"):
        raise SourceError(
            f"{path} is not a weights file of Keras; save the weights with model.save_weights('NAME.weights.h5')."
        )
    before = [variable.numpy() for variable in model.weights]
    try:
        model.load_weights(path)
    except Exception as fault:  # Any fault of the framework's loader means the same to the user.
        for variable, value in zip(model.weights, before):
            variable.assign(value)
        raise SourceError(f"{path} does not fit the model ({first_line(fault)}); nothing was loaded.") from fault


def save(model: Any, image_shape: tuple[int, ...], entry_point: str, path: Path) -> None:  # noqa: ARG001
    """Writes the .keras archive of a model to a path of any name. Raises SourceError."""
    archive = path.with_name("model.keras")
    try:
        model.save(archive)
    except Exception as fault:  # Parts that cannot be saved raise what they like.
        raise SourceError(f"{entry_point} returned a model that Keras cannot save ({first_line(fault)}).") from fault
    archive.rename(path)
