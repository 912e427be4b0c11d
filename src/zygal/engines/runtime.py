"""ONNX Runtime on the CPU, through its session interface."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from zygal.engines.engine import first_line
from zygal.errors import ArtifactError, EngineError


class RuntimeEngine:
    """An artifact in a session of ONNX Runtime with `threads` threads (None: as many as there are cores)."""

    def __init__(self, path: str | Path, threads: int | None = None):
        import onnxruntime

        self.name = f"ONNX Runtime {onnxruntime.__version__}"
        self.path = Path(path)
        # Faults come back as exceptions; the runtime need not print them as well.
        onnxruntime.set_default_logger_severity(4)
        options = onnxruntime.SessionOptions()
        if threads is not None:
            options.intra_op_num_threads = threads
            options.inter_op_num_threads = 1
        try:
            self._session = onnxruntime.InferenceSession(str(path), options, providers=["CPUExecutionProvider"])
        except Exception as fault:  # The runtime's exceptions share no class of their own.
            raise ArtifactError(f"{path} cannot be loaded by {self.name} ({first_line(fault)}).") from fault
        inputs, outputs = self._session.get_inputs(), self._session.get_outputs()
        if len(inputs) != 1:
            names = ", ".join(each.name for each in inputs)
            raise ArtifactError(f"{path} takes {len(inputs)} inputs ({names}); an image classifier takes one.")
        self.input_name, self.output_name = inputs[0].name, outputs[0].name
        self.input_shape, self.input_dtype = inputs[0].shape, _DTYPES.get(inputs[0].type, "float32")
        first = self.input_shape[0] if self.input_shape else None
        self.batch_size = first if isinstance(first, int) and first > 0 else None

    def run(self, batch: np.ndarray) -> np.ndarray:
        try:
            return self._session.run([self.output_name], {self.input_name: batch})[0]
        except Exception as fault:
            raise EngineError(
                f"{self.path} cannot be run on tensors {list(batch.shape)} of {batch.dtype} ({first_line(fault)})."
            ) from fault

    def values(self, batch: np.ndarray, names: list[str]) -> dict[str, np.ndarray]:
        """The values of those names that are in the graph, on a batch run image by image. Raises EngineError."""
        import onnx
        import onnxruntime

        model = onnx.load(str(self.path), load_external_data=False)
        made = {output for node in model.graph.node for output in node.output}
        wanted = [name for name in dict.fromkeys(names) if name in made]
        declared = {output.name for output in model.graph.output}
        model.graph.output.extend(onnx.ValueInfoProto(name=name) for name in wanted if name not in declared)
        options = onnxruntime.SessionOptions()
        # Weights beside the artifact are found from where it lies.
        options.add_session_config_entry("session.model_external_initializers_file_folder_path", str(self.path.parent))
        try:
            session = onnxruntime.InferenceSession(
                model.SerializeToString(), options, providers=["CPUExecutionProvider"]
            )
            size = self.batch_size or 1
            parts = [
                session.run(wanted, {self.input_name: np.repeat(batch[index : index + 1], size, axis=0)})
                for index in range(len(batch))
            ]
        except Exception as fault:
            raise EngineError(f"the layers of {self.path} cannot be looked at ({first_line(fault)}).") from fault
        return {name: np.stack([part[place][0] for part in parts]) for place, name in enumerate(wanted)}


_DTYPES = {
    "tensor(float)": "float32",
    "tensor(uint8)": "uint8",
    "tensor(float16)": "float16",
    "tensor(double)": "float64",
}
