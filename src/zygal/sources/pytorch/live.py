"""Live sources: a Python function that builds a module, plus a weights file, captured by the framework itself.

The capture is saved as a program and is read like every other program.
"""

from __future__ import annotations

import logging
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from zygal.errors import EngineError, SourceError, install_extra, some_of
from zygal.files import existing_file, load_function, scratch_folder, split_place
from zygal.graph import Shape

NESTED_UNDER = ("state_dict", "model_state_dict", "model", "net", "network", "weights", "params", "module",
                "state_dict_ema", "model_ema", "ema")  # fmt: skip
PREFIXES = ("module.", "_orig_mod.", "model.", "net.", "network.")
# Older files lack these counters, which inference does not read.
NOT_MISSED = "num_batches_tracked"


def is_live(source: str | Path) -> bool:
    """Whether a source is given as FILE.py:FUNCTION."""
    return ".py:" in str(source)


@contextmanager
def captured(entry_point: str, weights: str | Path | None, image_shape: Shape) -> Iterator[Path]:
    """Builds, loads and captures; gives the path of a program that is removed afterwards.

    `image_shape` is that of one image's tensor. The file is run: it is the user's own code, named on
    purpose. Raises SourceError, FileError, or EngineError if the framework is missing.
    """
    torch = _framework(entry_point)
    # What goes wrong comes back as an exception; the framework need not log it as well.
    logging.getLogger("torch").setLevel(logging.CRITICAL)
    function = load_function(entry_point, SourceError)
    file, name = split_place(entry_point, SourceError)
    try:
        module = function()
    except Exception as fault:  # Someone else's code.
        raise SourceError(f"{name} in {file} raised {type(fault).__name__}: {fault}.") from fault
    if not isinstance(module, torch.nn.Module):
        raise SourceError(f"{name} in {file} returned {type(module).__name__}, not a module of PyTorch.")
    if weights is not None:
        load_weights(torch, module, weights)
    with scratch_folder() as folder:
        # The artifact's origin takes the name of this file.
        path = Path(folder) / f"{Path(file).name}:{name}".replace(":", ":" if os.name == "posix" else "+")
        torch.export.save(_capture(torch, module.eval(), image_shape, entry_point), path)
        yield path


def load_weights(torch, module, path: str | Path) -> None:
    """Loads all of a state dictionary or nothing. Raises SourceError listing what is missing, unexpected or misshapen."""
    wanted = module.state_dict()
    found = _strip(_find_state(_read(torch, path), torch, path), wanted)
    missing = [name for name in wanted if name not in found and not name.endswith(NOT_MISSED)]
    unexpected = [name for name in found if name not in wanted]
    misshapen = [
        f"{name} {list(found[name].shape)} for {list(wanted[name].shape)}"
        for name in found
        if name in wanted and found[name].shape != wanted[name].shape
    ]
    faults = [("missing", missing), ("unexpected", unexpected), ("of another shape", misshapen)]
    listed = "; ".join(f"{len(names)} {what} ({some_of(names, 5)})" for what, names in faults if names)
    if listed:
        raise SourceError(f"{path} does not fit the module: {listed}; nothing was loaded.")
    module.load_state_dict(found, strict=False)


def _framework(entry_point: str):
    try:
        import torch
    except ImportError as fault:
        raise EngineError(
            f"{entry_point} can only be built with PyTorch, which is not installed; {install_extra('torch')}."
        ) from fault
    return torch


def _read(torch, path: str | Path) -> Any:
    path = existing_file(path)
    if path.suffix == ".safetensors":
        try:
            from safetensors.torch import load_file
        except ImportError as fault:
            raise EngineError(
                f"{path} needs the package safetensors, which is not installed; {install_extra('torch')}."
            ) from fault
        try:
            return load_file(path)
        except Exception as fault:  # The library has no exception of its own for every damage.
            raise SourceError(f"{path} is damaged or not a safetensors file ({fault}).") from fault
    try:
        return torch.load(path, map_location="cpu", weights_only=True)
    except Exception as fault:
        raise SourceError(
            f"{path} is not a file of bare weights: the weights-only loader refuses it "
            f"({str(fault).strip().splitlines()[0]}); a pickle of a whole module holds code and is never loaded, so save "
            "module.state_dict() instead."
        ) from fault


def _find_state(content: Any, torch, path: str | Path) -> dict:
    """The state dictionary, at the top or under one of the usual keys."""
    if isinstance(content, dict):
        for candidate in (content, *(content[key] for key in NESTED_UNDER if isinstance(content.get(key), dict))):
            if candidate and all(isinstance(value, torch.Tensor) for value in candidate.values()):
                return dict(candidate)
    raise SourceError(
        f"{path} holds no state dictionary, neither at the top nor under {', '.join(NESTED_UNDER)}; save "
        "module.state_dict()."
    )


def _strip(state: dict, wanted: dict) -> dict:
    """Without the prefixes that wrappers for training and compilation put before every name that the module has."""
    for _ in PREFIXES:
        for prefix in PREFIXES:
            if not wanted.keys() & state.keys() and all(name.startswith(prefix) for name in state):
                state = {name.removeprefix(prefix): value for name, value in state.items()}
    return state


def _capture(torch, module, image_shape: Shape, entry_point: str):
    example = torch.zeros(2, *image_shape)
    try:
        with torch.no_grad():
            axes = ({0: torch.export.Dim("batch", min=1)},)
            try:
                return torch.export.export(module, (example,), dynamic_shapes=axes)
            except Exception:
                # Some modules pin their batch; what that means is said when the program is read.
                return torch.export.export(module, (example,))
    except Exception as fault:
        first = (str(fault).strip().splitlines() or [""])[0]
        raise SourceError(
            f"{entry_point} cannot be captured by PyTorch on an image of {list(image_shape)} ({type(fault).__name__}: {first})."
        ) from fault
