"""Sessions of the mobile runtime, through its plain interpreter."""

from __future__ import annotations

import threading
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from zygal.engines.session import Port, SessionSettings
from zygal.errors import ArtifactError, cannot_be_started, first_line
from zygal.machine.libraries import without_native_messages
from zygal.machine.processor import allowed_cores

PACKAGE = "ai-edge-litert"


class MobileSession:
    """What `engines.session` says of a session. An interpreter serves one thread, so each thread that calls has one of
    its own."""

    def __init__(self, path: Path, settings: SessionSettings):
        self.runtime, self._path, self._settings = runtime_name(), path, settings
        self._own = threading.local()
        interpreter = self._interpreter()
        self._inputs, self._outputs = interpreter.get_input_details(), interpreter.get_output_details()
        self.inputs, self.outputs = ports(interpreter, self._inputs), ports(interpreter, self._outputs, outputs=True)
        self._places = {
            port.name: each for port, each in zip((*self.inputs, *self.outputs), (*self._inputs, *self._outputs))
        }

    def _interpreter(self) -> Any:
        if getattr(self._own, "interpreter", None) is None:
            self._own.interpreter = open_interpreter(self._path, self._settings)
        return self._own.interpreter

    def run(self, names: Sequence[str] | None, feed: Mapping[str, np.ndarray]) -> list[np.ndarray]:
        """See `session.Session.run`."""
        interpreter, changed = self._interpreter(), False
        sizes = getattr(self._own, "sizes", {})
        for name, array in feed.items():
            place = self._places[name]
            if sizes.get(name, tuple(place["shape"])) != array.shape:
                interpreter.resize_tensor_input(place["index"], array.shape)
                changed = True
        if changed:
            self._own.sizes = {name: array.shape for name, array in feed.items()}
            interpreter.allocate_tensors()
        for name, array in feed.items():
            interpreter.set_tensor(self._places[name]["index"], array)
        interpreter.invoke()
        return [
            interpreter.get_tensor(self._places[name]["index"])
            for name in names or [port.name for port in self.outputs]
        ]


def open_session(
    artifact: str | Path, settings: SessionSettings = SessionSettings(), validated: bool = False
) -> MobileSession:
    """See `engines.session.open_session`."""
    if not validated:
        from zygal.mobile.read import read_model

        read_model(artifact)
    if settings.level not in ("off", "all") or settings.execution != "sequential":
        raise ArtifactError(
            f"{artifact} cannot be run at level {settings.level}, {settings.execution}: the mobile runtime has the "
            "levels off (without its faster kernels) and all, and runs operators one after the other."
        )
    return MobileSession(Path(artifact), settings)


def open_interpreter(path: Path, settings: SessionSettings = SessionSettings(), **more: Any) -> Any:
    """An interpreter of the mobile runtime, its tensors allocated. Raises EngineError or ArtifactError."""
    package = _package(path)
    kernels = (
        package.OpResolverType.AUTO
        if settings.level == "all"
        else package.OpResolverType.BUILTIN_WITHOUT_DEFAULT_DELEGATES
    )
    try:
        with without_native_messages():
            interpreter = package.Interpreter(
                model_path=str(path),
                num_threads=settings.threads or allowed_cores(),
                experimental_op_resolver_type=kernels,
                **more,
            )
            interpreter.allocate_tensors()
            return interpreter
    except Exception as fault:  # The runtime raises what it likes.
        raise ArtifactError(f"{path} cannot be loaded by {runtime_name()} ({first_line(fault)}).") from fault


def ports(interpreter: Any, details: Sequence[Mapping[str, Any]], outputs: bool = False) -> tuple[Port, ...]:
    """Inputs or outputs by the names of the only signature, else by those of the tensors."""
    names = {each["index"]: each["name"] for each in details}
    signatures = interpreter.get_signature_list()
    if len(signatures) == 1:
        (key,) = signatures
        try:
            runner = interpreter.get_signature_runner(key)
            listed = runner.get_output_details() if outputs else runner.get_input_details()
            names.update({each["index"]: name for name, each in listed.items() if each["index"] in names})
        except ValueError:  # A signature of another graph.
            pass
    return tuple(port_of(each, names[each["index"]]) for each in details)


def port_of(details: Mapping[str, Any], name: str) -> Port:
    """What the interpreter says of a tensor, under a name."""
    signature = (
        details["shape_signature"] if len(details["shape_signature"]) == len(details["shape"]) else details["shape"]
    )
    shape = tuple(int(size) if size >= 0 else f"N{at or ''}" for at, size in enumerate(signature))
    given, dtype = details["quantization_parameters"], np.dtype(details["dtype"])
    steps = (
        (np.float32(given["scales"][0]), int(given["zero_points"][0]))
        if len(given["scales"]) == 1 and dtype.kind in "iu"
        else None
    )
    return Port(name, dtype.name, shape, str(dtype), steps)


def _package(path: str | Path) -> Any:
    try:
        with without_native_messages():
            from ai_edge_litert import interpreter
    except Exception as fault:  # A package that does not fit this machine raises what it likes.
        raise cannot_be_started(path, "the mobile runtime", "mobile", fault) from fault
    return interpreter


def runtime_name() -> str:
    """The runtime and its release."""
    from importlib.metadata import PackageNotFoundError, version

    try:
        return f"LiteRT {version(PACKAGE)}"
    except PackageNotFoundError:
        return "LiteRT"


def import_runtime() -> None:
    """Raises EngineError if the runtime is not installed."""
    _package("a mobile flatbuffer")
