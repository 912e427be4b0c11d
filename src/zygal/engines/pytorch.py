"""PyTorch, live: a captured program run by the framework that made it."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import numpy as np

from zygal.classifier.choice import Choice
from zygal.engines.pytorch_calls import CalledProgram
from zygal.errors import EngineError, SourceError, first_line, install_extra
from zygal.files.families import Reading
from zygal.files.writing import scratch_folder
from zygal.sources.pytorch import Program, ProgramArchive, open_program, read_program
from zygal.sources.pytorch.choice import output_place, scores_choice
from zygal.sources.pytorch.harmless import write_harmless_copy
from zygal.sources.pytorch.modes import captured_in_training

MODULE, CAPTURED, CALLED, ARCHIVE = "module", "captured", "called", "archive"
"""Ways to run a model: the module of the training code, the program captured from it as the framework loads it or call
by call, a scripted archive."""
LOADS_COPIES, SCHEMA_LOADED = (2, 9), "8"
"""The first release that loads a program whose tensors are plain bytes, and the only schema of such programs. Other
programs are run call by call."""


class TorchEngine:
    """What all models of PyTorch have in common. path: of the source. Raises EngineError where PyTorch is not
    installed."""

    name = "PyTorch"
    ways: tuple[str, ...] = ()

    def __init__(self, path: str | Path):
        try:
            import torch
        except ImportError as fault:
            raise EngineError(
                f"{path} can only be run by PyTorch, which is not installed; {install_extra('torch')}, or run this "
                "command where PyTorch is installed."
            ) from fault
        self._torch, self.version, self.path = torch, torch.__version__, Path(path)
        self._modules: dict[str, Any] = {}

    def describe(self, program: Program, chosen: Choice) -> None:
        """Takes over what the program says of inputs and outputs."""
        self.chosen, self.output_names = chosen, program.output_names
        self._place = output_place(program, chosen.name)
        self.input_type = program.types[program.inputs[0]]
        first = self.input_type.shape[0]
        self.batch_size = first if isinstance(first, int) else None

    def use(self, modules: Mapping[str, Any]) -> None:
        """The ways to run the model, the usual one first."""
        self._modules = {way: module for way, module in modules.items() if module is not None}
        self.ways = tuple(self._modules)

    def run(self, batch: np.ndarray) -> np.ndarray:
        """See `engine.Engine.run`."""
        try:
            with self._torch.inference_mode():
                result = self._modules[self.ways[0]](self._torch.from_numpy(batch))
        except EngineError:
            raise
        except Exception as fault:
            raise EngineError(
                f"{self.path} cannot be run by PyTorch on tensors {list(batch.shape)} of {batch.dtype} "
                f"({first_line(fault)})."
            ) from fault
        leaves, _ = self._torch.utils._pytree.tree_flatten(result)
        return leaves[self._place].float().numpy()

    def prepared(self, batch: np.ndarray, way: str | None = None) -> Callable[[], object]:
        """The bare call that a user makes for a batch, for timing. way: one of `ways`; the first unless given."""
        module = self._modules[way or self.ways[0]]
        tensor, inference_mode = self._torch.from_numpy(batch), self._torch.inference_mode

        def call() -> object:
            with inference_mode():
                return module(tensor)

        return call

    def use_threads(self, count: int) -> bool:
        """Sets how many threads an operator may use; whether it did."""
        # To set it costs time even where nothing changes.
        if self._torch.get_num_threads() != count:
            self._torch.set_num_threads(count)
        return True


class PyTorchEngine(TorchEngine):
    """A captured program in the live framework, in evaluation mode, with one of its outputs: see `scores_choice`.

    module: the module that the program was captured from, which is then run itself. Raises EngineError if PyTorch is
    not installed, SourceError if there is no such output.
    """

    def __init__(self, path: str | Path, reading: Reading = Reading(), module: Any = None):
        super().__init__(path)
        with open_program(path) as archive, scratch_folder() as folder:
            program = read_program(archive)
            self.describe(program, scores_choice(program, reading.output, reading.classes))
            self.captured_in_training = captured_in_training(program)
            loads = self._release >= LOADS_COPIES and program.schema_version.partition(".")[0] == SCHEMA_LOADED
            captured = self._load(archive, folder) if loads else CalledProgram(self._torch, archive, program)
        self.use({MODULE: None if module is None else module.eval(), CAPTURED if loads else CALLED: captured})
        # The output of a layer is what its last call makes.
        self._layer_ends = {call.layer: call.results[0] for call in program.calls if call.layer and call.results}

    @property
    def _release(self) -> tuple[int, ...]:
        return tuple(int(part) for part in re.findall(r"\d+", self.version)[:2])

    def _load(self, archive: ProgramArchive, folder: Path) -> Any:
        """The captured program in the framework, by a copy that is safe to load."""
        with (folder / "program.pt2").open("wb") as copy:
            write_harmless_copy(archive, copy)
        try:
            return self._torch.export.load(folder / "program.pt2").module()
        except Exception as fault:  # Any fault of the framework's loader means the same to the user.
            raise SourceError(
                f"{archive.path} cannot be loaded by PyTorch {self.version} ({first_line(fault)})."
            ) from fault

    def layer_outputs(self, batch: np.ndarray) -> list[tuple[str, str, np.ndarray]]:
        """For each layer, in the order in which they end: its name, its output's name, its output."""
        torch, kept = self._torch, {}
        layers = {value: layer for layer, value in self._layer_ends.items()}

        def keep(name: str, result: Any) -> None:
            if name in layers and isinstance(result, torch.Tensor) and result.is_floating_point():
                # A later call may write into it.
                kept[name] = result.detach().float().clone().numpy()

        class Keeper(torch.fx.Interpreter):
            def run_node(self, node):
                result = super().run_node(node)
                keep(node.name, result)
                return result

        size = self.batch_size or len(batch)
        images, captured = torch.from_numpy(np.repeat(batch, size // len(batch), axis=0)), self._modules[self.ways[-1]]
        with torch.inference_mode():
            if isinstance(captured, CalledProgram):
                captured(images, keep)
            else:
                Keeper(captured).run(images)
        return [(layers[value], value, output[: len(batch)]) for value, output in kept.items()]
