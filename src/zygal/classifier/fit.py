"""Whether an inlet and labels fit a model."""

from __future__ import annotations

from zygal.classifier.labels import Labels, check_label_count
from zygal.errors import InletError, LabelsError
from zygal.graph import Graph, TensorType
from zygal.graph.shapes import shape_text
from zygal.inlet import Inlet
from zygal.inlet.sizes import tensor_shape


def check_fit(graph: Graph, inlet: Inlet | None, labels: Labels | None) -> None:
    """Raises InletError or LabelsError if the inlet or the labels do not fit the model."""
    output_type = graph.types[graph.outputs[0]]
    if labels is not None:
        if output_type.rank != 2:
            raise LabelsError(f"labels name the classes of [batch, classes], but the output is {output_type}.")
        check_label_count(labels.names, output_type.shape[1], "the labels file")
    if inlet is not None:
        check_inlet_fits(inlet, graph.types[graph.inputs[0]])


def check_inlet_fits(inlet: Inlet, model_input: TensorType) -> None:
    """Raises InletError if the inlet's tensor is not what the model takes."""
    made, wanted = tensor_shape(inlet), model_input.shape[1:]
    if made is None:
        raise InletError(
            f"the inlet gives tensors as large as each image, but the model takes {shape_text(model_input.shape)}; "
            "end its frame with a crop, or with a resize to a size."
        )
    if made != wanted:
        raise InletError(
            f"the inlet makes tensors {shape_text(made)} ({inlet.tensor.layout[1:]}), but the model takes "
            f"{shape_text(wanted)} an image; check the crop, the colour and the layout in the inlet."
        )
    if inlet.tensor.dtype != model_input.dtype.name:
        raise InletError(f"the inlet makes {inlet.tensor.dtype}, but the model takes {model_input.dtype}.")
