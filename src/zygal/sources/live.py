"""Live sources: a Python function that builds a model, plus a weights file. The framework itself writes what it built
into a file, which is read like every other source; what is run live is the very object that the function returned."""

from __future__ import annotations

import logging
import os
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from importlib import import_module
from pathlib import Path
from typing import Any

from zygal.errors import EngineError, SourceError, install_extra
from zygal.files.families import FAMILIES, family_named
from zygal.files.writing import scratch_folder
from zygal.machine.backends import missing_package
from zygal.sources.model_folder import ModelFolder, is_model_folder
from zygal.sources.user_code import load_function, split_place

DEFAULT_IMAGE_SHAPE = (3, 224, 224)


@dataclass(frozen=True)
class LiveModel:
    """What FILE.py:FUNCTION returned. model: a module of PyTorch in evaluation mode, or a Keras model. estimator: a
    fitted estimator of scikit-learn that classifies what the model returns, or None."""

    framework: str
    model: Any
    estimator: Any = None


def is_function(source: str | Path) -> bool:
    """Whether a source is given as FILE.py:FUNCTION."""
    return ".py:" in str(source)


def is_live(source: str | Path) -> bool:
    """Whether a source is built here: FILE.py:FUNCTION, or a model folder of a collection."""
    return is_function(source) or is_model_folder(source)


def build_folder(folder: ModelFolder) -> LiveModel:
    """The model of a folder, built by its library. Raises SourceError, or EngineError if the library is missing."""
    from zygal.sources.model_folder.libraries import build as build_model

    logging.getLogger("torch").setLevel(logging.CRITICAL)
    return LiveModel("PyTorch", build_model(folder))


def build(entry_point: str, weights: str | Path | None) -> LiveModel:
    """Runs the function and loads the weights. The file is run: it is the user's own code, named on purpose.

    Raises SourceError, FileError, or EngineError if the framework is missing.
    """
    # What goes wrong comes back as an exception; the framework need not log it as well.
    logging.getLogger("torch").setLevel(logging.CRITICAL)
    function = load_function(entry_point, SourceError)
    file, name = split_place(entry_point, SourceError)
    try:
        made = function()
    except ModuleNotFoundError as fault:
        raise SourceError(f"{name} in {file} cannot be run: {missing_package(fault)}.") from fault
    except Exception as fault:  # Someone else's code.
        raise SourceError(f"{name} in {file} raised {type(fault).__name__}: {fault}.") from fault
    model, estimator = made if isinstance(made, tuple) and len(made) == 2 else (made, None)
    framework = _framework_of(model, entry_point)
    if framework is None or (estimator is not None and not _is_estimator(estimator)):
        returned = " and ".join(type(each).__name__ for each in ([model] if estimator is None else [model, estimator]))
        raise SourceError(
            f"{name} in {file} returned {returned}; return a module of PyTorch, a Keras model, or a pair of one of "
            "them and a fitted classifier of scikit-learn."
        )
    model = import_module(family_named(framework).builder).ready(model, weights)
    return LiveModel(framework, model, estimator)


@contextmanager
def saved(live: LiveModel, entry_point: str, image_shape: tuple[int, ...] | None) -> Iterator[Path]:
    """The model as a file of its framework, which is removed afterwards. `image_shape` is that of one image's tensor.

    Raises SourceError.
    """
    called = Path(entry_point).resolve().name
    with scratch_folder() as folder:
        # The artifact's origin takes the name of this file.
        path = folder / called.replace(":", ":" if os.name == "posix" else "+")
        import_module(family_named(live.framework).builder).save(
            live.model, image_shape or DEFAULT_IMAGE_SHAPE, entry_point, path
        )
        yield path


def _framework_of(model: Any, entry_point: str) -> str | None:
    """The framework that a model belongs to: it was imported by the code that made the model. Raises EngineError."""
    # Keras first: with PyTorch behind it, its models are PyTorch's modules too.
    for family in reversed(FAMILIES):
        module, _, kind = (family.model_class or "").partition(".")
        found = sys.modules.get(module)
        for part in kind.split("."):
            found = getattr(found, part, None)
        if found is not None and isinstance(model, found):
            return family.name
    if "torch" not in sys.modules and "keras" not in sys.modules:
        raise EngineError(
            f"{entry_point} imported neither PyTorch nor Keras; return a model of one of them "
            f"({install_extra('torch')}, or {install_extra('keras')})."
        )
    return None


def _is_estimator(value: Any) -> bool:
    base = sys.modules.get("sklearn.base")
    return base is not None and isinstance(value, base.BaseEstimator)
