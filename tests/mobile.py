"""Small flatbuffers, built operator by operator, and what the mobile runtime makes of them."""

import numpy as np

from zygal.engines.mobile_session import open_interpreter
from zygal.engines.session import SessionSettings
from zygal.mobile.model import MobileModel, Operator, Quantization, Signature, Tensor
from zygal.mobile.schema import OPERATORS, TABLES
from zygal.mobile.write import write_model

SETTINGS = dict(OPERATORS.values())


def scaled(scale, zero=0, axis=0):
    return Quantization(
        np.atleast_1d(np.float32(scale)),
        np.broadcast_to(np.atleast_1d(np.int64(zero)), np.shape(np.atleast_1d(scale))),
        axis,
    )


class Flatbuffer:
    """A model under construction. Tensors are numbers; an array is a constant."""

    def __init__(self):
        self.model = MobileModel([], [], [], [])

    def tensor(self, name, shape, dtype="float32", quantization=None, data=None, open_batch=False):
        opened = (0,) if open_batch else ()
        self.model.tensors.append(Tensor(name, tuple(shape), dtype, opened, data, quantization))
        return len(self.model.tensors) - 1

    def constant(self, array, quantization=None, name=None):
        array = np.asarray(array)
        return self.tensor(
            name or f"constant_{len(self.model.tensors)}", array.shape, array.dtype.name, quantization, array
        )

    def input(self, shape, dtype="float32", quantization=None, open_batch=False):
        self.model.inputs.append(self.tensor("image", shape, dtype, quantization, open_batch=open_batch))
        return self.model.inputs[-1]

    def add(
        self, name, inputs, shape, dtype="float32", quantization=None, version=1, open_batch=False, results=1, **options
    ):
        """Adds an operator; settings that are not named have what the schema leaves out as."""
        inputs = [self.constant(each) if isinstance(each, np.ndarray) else each for each in inputs]
        made = [
            self.tensor(
                f"layer/{name.lower()}_{len(self.model.tensors)}", shape, dtype, quantization, open_batch=open_batch
            )
            for _ in range(results)
        ]
        known = {field for field, *_ in TABLES.get(SETTINGS[name]) or ()}
        assert set(options) <= known, (name, options)
        self.model.operators.append(Operator(name, inputs, made, options, version))
        return made[0] if results == 1 else made

    def write(self, path, *outputs, signature=True):
        self.model.outputs = list(outputs)
        if signature:
            names = {self.model.tensors[number].name: number for number in outputs}
            self.model.signatures = [Signature("serving_default", {"image": self.model.inputs[0]}, names)]
        write_model(self.model, path)
        return path


def on_the_runtime(path, *batches, kernels="off"):
    """The first output for each batch, as stored. kernels: "off" for the plain ones, "all" for the faster ones."""
    interpreter, found = open_interpreter(path, SessionSettings(1, kernels)), []
    (given,), made = interpreter.get_input_details(), interpreter.get_output_details()[0]
    for batch in batches:
        interpreter.resize_tensor_input(given["index"], batch.shape)
        interpreter.allocate_tensors()
        interpreter.set_tensor(given["index"], batch)
        interpreter.invoke()
        found.append(interpreter.get_tensor(made["index"]).copy())
    return found[0] if len(found) == 1 else found
