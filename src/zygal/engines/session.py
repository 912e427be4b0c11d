"""Opening a session of ONNX Runtime, and what can be set about it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from zygal.errors import ArtifactError, first_line

LEVELS = ("off", "basic", "extended", "all")
"""How far the runtime may rewrite a graph when it loads it."""
EXECUTIONS = ("sequential", "parallel")
"""Whether operators that do not need each other wait for each other."""

DTYPES = {
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


@dataclass(frozen=True)
class SessionSettings:
    """threads: None for as many as there are cores. profile: beginning of the name of a file for the runtime's profile.
    rewritten: where the runtime writes the graph that it runs."""

    threads: int | None = None
    level: str = "all"
    execution: str = "sequential"
    profile: str | None = None
    rewritten: str | None = None


def open_session(
    artifact: str | Path | bytes, settings: SessionSettings = SessionSettings(), validated: bool = False
):
    """A session on the CPU, of a file or of a message's bytes. validated: the file was looked at before.

    Raises FileError or ArtifactError.
    """
    import onnxruntime

    if not isinstance(artifact, bytes) and not validated:
        from zygal.artifact.read import check_artifact

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
        return onnxruntime.InferenceSession(whole, options, providers=["CPUExecutionProvider"])
    except Exception as fault:  # The runtime's exceptions share no class of their own.
        where = "the model" if isinstance(artifact, bytes) else artifact
        raise ArtifactError(f"{where} cannot be loaded by {runtime_name()} ({first_line(fault)}).") from fault


def runtime_name() -> str:
    import onnxruntime

    return f"ONNX Runtime {onnxruntime.__version__}"
