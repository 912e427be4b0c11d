"""Builds the model of a folder, and its preprocessing, by the library that wrote it: by its public means, from local
files alone, and never by code that the folder brings along."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np

from zygal.errors import EngineError, SourceError, ZygalError, first_line, install_extra, some_of
from zygal.inlet.configured.read import CONFIGURATION
from zygal.sources.model_folder.folder import TIMM, ModelFolder, document_of
from zygal.sources.pytorch.checkpoint import read_checkpoint
from zygal.sources.pytorch.live import load_weights

_LOCAL = {"local_files_only": True, "trust_remote_code": False}


def build(folder: ModelFolder) -> Any:
    """The model in evaluation mode, with the folder's weights. Raises EngineError if the library is missing,
    SourceError if it cannot build the model or weights are missing."""
    library = _library(folder)
    if not folder.weights:
        raise SourceError(f"{folder.path} holds no weights: neither model.safetensors nor pytorch_model.bin.")
    try:
        model = _by_timm(library, folder) if folder.library == TIMM else _by_transformers(library, folder)
    except ZygalError:
        raise
    except Exception as fault:  # Of the library and its dependencies.
        raise SourceError(
            f"{folder.path} cannot be built by {folder.library} {library.__version__} "
            f"({type(fault).__name__}: {first_line(fault)})."
        ) from fault
    return model.eval()


def preprocessing(folder: ModelFolder) -> tuple[Callable[[Path], np.ndarray], str]:
    """The library's own way from an image file to a tensor [C, H, W], and what it is called. Raises EngineError or
    SourceError."""
    library = _library(folder)
    with _said_of_preprocessing(library, folder):
        make = _evaluation_of_timm if folder.library == TIMM else _processor_of_transformers
        return make(library, folder)


def way_of_processor(folder: ModelFolder) -> str | None:
    """On what the installed library computes this folder's preprocessing; None where it has one way alone. Raises
    EngineError or SourceError."""
    if folder.library == TIMM:
        return None
    library = _library(folder)
    with _said_of_preprocessing(library, folder):
        processor = _processor(library, folder)
    fast = getattr(processor, "backend", "") == "torchvision" or type(processor).__name__.endswith("Fast")
    return "tensors" if fast else "pictures"


@contextmanager
def _said_of_preprocessing(library: Any, folder: ModelFolder) -> Iterator[None]:
    """What the library raises as a SourceError."""
    try:
        yield
    except Exception as fault:  # Of the library and its dependencies.
        raise SourceError(
            f"the preprocessing of {folder.path} cannot be built by {folder.library} {library.__version__} "
            f"({type(fault).__name__}: {first_line(fault)}); give --inlet."
        ) from fault


def _library(folder: ModelFolder) -> Any:
    """The installed library, kept off the network. Raises EngineError."""
    for name in ("HF_HUB_OFFLINE", "TRANSFORMERS_OFFLINE"):
        os.environ[name] = "1"
    os.environ.setdefault("TRANSFORMERS_VERBOSITY", "error")
    try:
        if folder.library == TIMM:
            import timm as library
        else:
            import transformers as library

            library.utils.logging.disable_progress_bar()
    except ImportError as fault:
        raise EngineError(
            f"{folder.path} is built by {folder.library}, which is not installed; {install_extra('collections')}, or "
            "run this command where the model was trained."
        ) from fault
    return library


def _by_timm(timm: Any, folder: ModelFolder) -> Any:
    import torch

    classes = {} if folder.classes is None else {"num_classes": folder.classes}
    model = timm.create_model(folder.architecture, pretrained=False, **classes, **folder.arguments)
    load_weights(torch, model, folder.weights[0])
    return model


def _by_transformers(transformers: Any, folder: ModelFolder) -> Any:
    # By the class that the configuration names: the library's table of automatic classes has one for each type.
    kind = getattr(transformers, folder.architecture, None)
    if kind is None:
        raise SourceError(
            f"{folder.path} is a {folder.architecture}, which transformers {transformers.__version__} does not have; "
            "install a release that has it. Code of the folder itself is never run."
        )
    safe = folder.weights[0].suffix == ".safetensors"
    if not safe:
        read_checkpoint(folder.weights[0])  # Refuses what is not data, before the library opens it.
    model, loading = kind.from_pretrained(
        str(folder.path),
        output_loading_info=True,
        ignore_mismatched_sizes=True,  # They are refused below, by their names.
        use_safetensors=safe,
        weights_only=True,
        **_LOCAL,
    )
    for what in ("missing_keys", "mismatched_keys"):
        names = sorted(each if isinstance(each, str) else str(each[0]) for each in loading.get(what) or ())
        if names:
            raise SourceError(
                f"{folder.path} does not fit {folder.architecture}: {len(names)} weights are "
                f"{'missing' if what == 'missing_keys' else 'of another shape'} ({some_of(names, 5)}), which the "
                "library would fill with random numbers."
            )
    return model


def _processor(transformers: Any, folder: ModelFolder) -> Any:
    return transformers.AutoImageProcessor.from_pretrained(str(folder.path), **_LOCAL)


def _processor_of_transformers(transformers: Any, folder: ModelFolder):
    from transformers.image_utils import load_image

    processor = _processor(transformers, folder)
    (name,) = processor.model_input_names[:1]

    def to_tensor(path: Path) -> np.ndarray:
        return np.asarray(processor(images=load_image(str(path)), return_tensors="np")[name][0])

    return to_tensor, f"{type(processor).__name__} of transformers {transformers.__version__}"


def _evaluation_of_timm(timm: Any, folder: ModelFolder):
    from PIL import Image

    table = document_of(folder.path / CONFIGURATION).get("pretrained_cfg") or {}
    transform = timm.data.create_transform(**timm.data.resolve_data_config({}, pretrained_cfg=table))

    def to_tensor(path: Path) -> np.ndarray:
        return transform(Image.open(path).convert("RGB")).numpy()

    return to_tensor, f"the evaluation transform of timm {timm.__version__}"
