"""A module of PyTorch that a Python function built: its weights file, and its capture by the framework itself."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from zygal.errors import EngineError, SourceError, first_line, install_extra, some_of
from zygal.files import kinds
from zygal.files.opening import existing_file
from zygal.files.recognition import require_kind
from zygal.graph import Shape
from zygal.sources.pytorch.checkpoint import state_in
from zygal.sources.pytorch.pickled import open_saved
from zygal.sources.pytorch.tensors import SCALAR_TYPES, StoredTensor

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
    found = _strip(_read(torch, path), wanted)
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


def _read(torch, path: str | Path) -> dict:
    """The state dictionary of a file, read as data: no pickle is loaded."""
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
    with open_saved(require_kind(path, kinds.TORCH_PICKLE)) as saved:
        _, state = state_in(saved)
        # Many tensors may lie in one storage, which is copied once.
        members = {each.member for each in state.values()}
        storages = {member: np.array(saved.member_bytes(member)) for member in members}
        return {name: as_tensor(torch, storages[stored.member], stored) for name, stored in state.items()}


def as_tensor(torch, storage: np.ndarray, stored: StoredTensor):
    """A stored tensor as the framework's own, in its own dtype. storage: the bytes that it lies in, uint8."""
    dtype = getattr(torch, SCALAR_TYPES[stored.scalar_type])
    flat = torch.from_numpy(storage).view(dtype)
    return flat.as_strided(stored.sizes, stored.strides, stored.offset).clone()


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
            try:
                axes = ({0: torch.export.Dim("batch", min=1)},)
                return torch.export.export(module, (example,), dynamic_shapes=axes)
            except Exception:
                # Some modules pin their batch, and release 2.1 knows no other; what that means is said when it is read.
                return torch.export.export(module, (example,))
    except Exception as fault:
        raise SourceError(
            f"{entry_point} cannot be captured by PyTorch on an image of {list(image_shape)} "
            f"({type(fault).__name__}: {first_line(fault)})."
        ) from fault
