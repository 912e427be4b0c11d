"""A module of PyTorch that a Python function built: its weights file, and its capture by the framework itself."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from zygal.errors import EngineError, SourceError, first_line, install_extra, some_of
from zygal.files.opening import existing_file
from zygal.graph import Shape

NESTED_UNDER = (
    "state_dict",
    "model_state_dict",
    "model",
    "net",
    "network",
    "weights",
    "params",
    "module",
    "state_dict_ema",
    "model_ema",
    "ema",
)
PREFIXES = ("module.", "_orig_mod.", "model.", "net.", "network.")
# Older files lack these counters, which inference does not read.
NOT_MISSED = "num_batches_tracked"


def ready(module: Any, weights: str | Path | None) -> Any:
    """The module in evaluation mode, with these weights if there are any. Raises SourceError or FileError."""
    import torch

    if weights is not None:
        load_weights(torch, module, weights)
    return module.eval()


def save(module: Any, image_shape: Shape, entry_point: str, path: Path) -> None:
    """Captures a module on images of that shape and writes the program. Raises SourceError."""
    import torch

    # The framework warns of files that are called otherwise.
    program = path.with_name("model.pt2")
    torch.export.save(_capture(torch, module, image_shape, entry_point), program)
    program.rename(path)


def load_weights(torch, module, path: str | Path) -> None:
    """Loads all of a state dictionary or nothing. Raises SourceError listing what is missing, unexpected or
    misshapen."""
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
            f"({str(fault).strip().splitlines()[0]}); a pickle of a whole module holds code and is never loaded, so "
            "save module.state_dict() instead."
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
        raise SourceError(
            f"{entry_point} cannot be captured by PyTorch on an image of {list(image_shape)} "
            f"({type(fault).__name__}: {first_line(fault)})."
        ) from fault
