"""What is inside a mobile artifact, for inspection: the values of its layers."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from zygal.engines.mobile_session import open_interpreter, port_of
from zygal.engines.session import SessionSettings
from zygal.errors import EngineError, first_line


def values(path: Path, feed: str, batch: np.ndarray, names: list[str], size: int = 1) -> dict[str, np.ndarray]:  # noqa: ARG001
    """The values of those names that are tensors of the artifact, on a batch run image by image, each `size` times
    where the batch is fixed. Raises EngineError."""
    try:
        # The faster kernels join operators and keep nothing of what lies between them.
        interpreter = open_interpreter(path, SessionSettings(1, "off"), experimental_preserve_all_tensors=True)
        (given,) = interpreter.get_input_details()
        places = {each["name"].partition(";")[0]: each for each in interpreter.get_tensor_details()}
        found: dict[str, list[np.ndarray]] = {name: [] for name in dict.fromkeys(names) if name in places}
        for index in range(len(batch)):
            one = np.repeat(batch[index : index + 1], size, axis=0)
            if tuple(given["shape"]) != one.shape:
                interpreter.resize_tensor_input(given["index"], one.shape)
                interpreter.allocate_tensors()
            interpreter.set_tensor(given["index"], one)
            interpreter.invoke()
            for name, each in found.items():
                each.append(port_of(places[name], name).real(interpreter.get_tensor(places[name]["index"]))[0])
    except Exception as fault:  # The runtime raises what it likes.
        raise EngineError(f"the layers of {path} cannot be read ({first_line(fault)}).") from fault
    return {name: np.stack(each) for name, each in found.items()}
