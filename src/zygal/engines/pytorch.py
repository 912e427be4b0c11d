"""PyTorch, live: a captured program run by the framework that made it."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from zygal.engines.engine import first_line
from zygal.errors import EngineError, SourceError, install_extra
from zygal.files import scratch_folder
from zygal.sources.pytorch import open_program, read_program
from zygal.sources.pytorch.harmless import write_harmless_copy
from zygal.sources.pytorch.returned import output_place


class PyTorchEngine:
    """A captured program in the live framework, with one of its outputs, the first unless it is named.

    Raises EngineError if PyTorch is not installed, SourceError if there is no such output.
    """

    def __init__(self, path: str | Path, output: str | None = None):
        try:
            import torch
        except ImportError as fault:
            raise EngineError(
                f"{path} can only be run by PyTorch, which is not installed; {install_extra('torch')}, or run this command where "
                "PyTorch is installed."
            ) from fault
        self._torch = torch
        self.name, self.version, self.path = "PyTorch", torch.__version__, Path(path)
        with open_program(path) as archive, scratch_folder() as folder:
            program = read_program(archive)
            self._place = output_place(program, output)
            with (folder / "program.pt2").open("wb") as copy:
                write_harmless_copy(archive, copy)
            try:
                self._module = torch.export.load(folder / "program.pt2").module()
            except Exception as fault:  # Any fault of the framework's loader means the same to the user.
                raise SourceError(
                    f"{path} cannot be loaded by PyTorch {self.version} ({first_line(fault)})."
                ) from fault
        # The output of a layer is what its last call makes.
        self._layer_ends = {call.layer: call.results[0] for call in program.calls if call.layer and call.results}
        self.input_type = program.types[program.inputs[0]]
        first = self.input_type.shape[0]
        self.batch_size = first if isinstance(first, int) else None

    def run(self, batch: np.ndarray) -> np.ndarray:
        try:
            with self._torch.inference_mode():
                result = self._module(self._torch.from_numpy(batch))
        except Exception as fault:
            raise EngineError(
                f"{self.path} cannot be run by PyTorch on tensors {list(batch.shape)} of {batch.dtype} "
                f"({first_line(fault)})."
            ) from fault
        leaves = self._torch.utils._pytree.tree_leaves(result)
        return leaves[self._place].float().numpy()

    def use_threads(self, count: int) -> bool:
        """Sets how many threads an operator may use; whether it did."""
        self._torch.set_num_threads(count)
        return True

    def layer_outputs(self, batch: np.ndarray) -> list[tuple[str, str, np.ndarray]]:
        """For each layer, in the order in which they end: its name, its output's name, its output."""
        torch, kept = self._torch, {}
        layers = {value: layer for layer, value in self._layer_ends.items()}

        class Keeper(torch.fx.Interpreter):
            def run_node(self, node):
                result = super().run_node(node)
                if node.name in layers and isinstance(result, torch.Tensor) and result.is_floating_point():
                    # A later call may write into it.
                    kept[node.name] = result.detach().float().clone().numpy()
                return result

        size = self.batch_size or len(batch)
        with torch.inference_mode():
            Keeper(self._module).run(torch.from_numpy(np.repeat(batch, size // len(batch), axis=0)))
        return [(layers[value], value, output[: len(batch)]) for value, output in kept.items()]
