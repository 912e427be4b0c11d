"""Sessions of ONNX Runtime."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from zygal.engines.session import LEVELS, Port, SessionSettings
from zygal.errors import ArtifactError, EngineError, first_line

NO_TELEMETRY = "ORT_DISABLE_TELEMETRY"
_DTYPES = {
    "tensor(float)": "float32",
    "tensor(float16)": "float16",
    "tensor(double)": "float64",
    "tensor(uint8)": "uint8",
    "tensor(int8)": "int8",
    "tensor(int32)": "int32",
    "tensor(int64)": "int64",
    "tensor(bool)": "bool",
}
"""The runtime's names of element types."""


class OnnxSession:
    """What `engines.session` says of a session. `run` is the runtime's own method, so that nothing is measured
    besides."""

    def __init__(self, opened: Any):
        self.runtime, self.run, self.end_profiling = runtime_name(), opened.run, opened.end_profiling
        self.inputs, self.outputs = (
            tuple(Port(each.name, _DTYPES.get(each.type), tuple(each.shape), each.type) for each in listed)
            for listed in (opened.get_inputs(), opened.get_outputs())
        )


def open_session(
    artifact: str | Path | bytes, settings: SessionSettings = SessionSettings(), validated: bool = False
) -> OnnxSession:
    """See `engines.session.open_session`."""
    onnxruntime = import_runtime()
    if not isinstance(artifact, bytes) and not validated:
        from zygal.onnx.read import check_artifact

        check_artifact(artifact)

    # Faults come back as exceptions; the runtime need not print them as well.
    onnxruntime.set_default_logger_severity(4)
    options = onnxruntime.SessionOptions()
    if settings.threads is not None:
        options.intra_op_num_threads = settings.threads
        options.inter_op_num_threads = settings.threads if settings.execution == "parallel" else 1
    levels = onnxruntime.GraphOptimizationLevel
    options.graph_optimization_level = dict(
        zip(
            LEVELS, (levels.ORT_DISABLE_ALL, levels.ORT_ENABLE_BASIC, levels.ORT_ENABLE_EXTENDED, levels.ORT_ENABLE_ALL)
        )
    )[settings.level]
    if settings.execution == "parallel":
        options.execution_mode = onnxruntime.ExecutionMode.ORT_PARALLEL
    if settings.profile is not None:
        options.enable_profiling, options.profile_file_prefix = True, settings.profile
    if settings.rewritten is not None:
        options.optimized_model_filepath = settings.rewritten
    whole = artifact if isinstance(artifact, bytes) else str(artifact)
    try:
        return OnnxSession(onnxruntime.InferenceSession(whole, options, providers=["CPUExecutionProvider"]))
    except Exception as fault:  # The runtime's exceptions share no class of their own.
        where = "the model" if isinstance(artifact, bytes) else artifact
        raise ArtifactError(f"{where} cannot be loaded by {runtime_name()} ({first_line(fault)}).") from fault


def open_changed(model: Any, folder: Path, where: str | Path) -> OnnxSession:
    """A session of a message that was changed. Raises EngineError."""
    onnxruntime = import_runtime()
    options = onnxruntime.SessionOptions()
    # External weights are looked up in the artifact's folder.
    options.add_session_config_entry("session.model_external_initializers_file_folder_path", str(folder))
    try:
        return OnnxSession(
            onnxruntime.InferenceSession(model.SerializeToString(), options, providers=["CPUExecutionProvider"])
        )
    except Exception as fault:
        raise EngineError(f"{where} cannot be opened for inspection ({first_line(fault)}).") from fault


def runtime_name() -> str:
    """The runtime and its release."""
    return f"ONNX Runtime {import_runtime().__version__}"


def import_runtime() -> Any:
    """The runtime's package. It would count its uses in files of its own below the home and the temporary folder, and
    name them to its maker: that is switched off before it starts, in this process and those that it starts."""
    os.environ[NO_TELEMETRY] = "1"
    import onnxruntime

    return onnxruntime
