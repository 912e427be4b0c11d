"""A flatbuffer's operators to a graph, one after the other."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from zygal.errors import GraphError, SourceError, UnknownOperators
from zygal.graph import Batch, Graph, TensorType
from zygal.mobile.model import MobileModel, Operator, Tensor
from zygal.mobile.own import own_layers
from zygal.sources.layouts import LaidOut, View
from zygal.sources.mobile import table_images as _images  # noqa: F401  (enters its operators)
from zygal.sources.mobile.names import layer_of, stem_of
from zygal.sources.mobile.quantization import STORED, Quantizer
from zygal.sources.mobile.site import MobileSite
from zygal.sources.mobile.table import ROWS, WITHOUT_MEANING, activated, handler_of
from zygal.sources.tensorflow import translate as _tables  # noqa: F401  (each shared table enters its operators)
from zygal.sources.tensorflow.site import UNKNOWN, Context, Value

COMPUTED = ("float32", "int32", "int64", "bool", "uint8", "int8")
HYBRID = ("CONV_2D", "DEPTHWISE_CONV_2D", "FULLY_CONNECTED", "BATCH_MATMUL")


class Translator:
    """The values of all tensors, as stored and as real numbers. widen: see `quantization`."""

    def __init__(self, model: MobileModel, where: str, widen: bool = False, image_shape: tuple[int, ...] | None = None):
        self.model, self.where, self._layers = model, where, own_layers(model, where)
        self.context = Context(where)
        self.builder = self.context.builder
        self.quantizer = Quantizer(where, self.builder, widen)
        self.hybrid: list[str] = []
        self._stored: dict[int, Value] = {}
        self._real: dict[int, Value] = {}
        if len(model.inputs) != 1:
            names = ", ".join(model.tensors[number].name for number in model.inputs)
            raise SourceError(f"{where} takes {len(model.inputs)} inputs ({names}); an image classifier takes one.")
        self._add_input(model.inputs[0], image_shape)

    def _add_input(self, number: int, image_shape: tuple[int, ...] | None) -> None:
        tensor = self.model.tensors[number]
        self.quantizer.check(tensor)
        if tensor.dtype not in ("float32", "uint8", "int8", "int16"):
            raise SourceError(
                f"{self.where} takes {tensor.name} as {tensor.dtype}; images are float32, uint8, int8 or int16."
            )
        if not tensor.shape:
            raise SourceError(f"{self.where} takes {tensor.name} as a single number; an image classifier takes images.")
        shape = input_shape(tensor, self.where, image_shape)
        name, order = stem_of(tensor.name), tuple(range(len(shape)))
        if tensor.dtype == "uint8" or tensor.quantization is None:
            dtype = tensor.dtype if tensor.dtype in ("float32", "uint8") else self._refuse_input(tensor)
            self.builder.input(name, TensorType(np.dtype(dtype), shape))
            self._stored[number] = self._as_image(View(name, order), tensor)
            return
        # Signed pixels are a detail of the device: the real numbers are what preprocessing makes.
        self.builder.input(name, TensorType(np.dtype(np.float32), shape))
        made = self.quantizer.quantized(
            View(name, order),
            Tensor(f"{name}.stored", tensor.shape, tensor.dtype, quantization=tensor.quantization),
            "",
        )
        (self._real if self.quantizer.widen else self._stored)[number] = self._as_image(made, tensor)
        self.context.note(
            f"the model takes {tensor.dtype}; the artifact takes the real numbers, in float32, and rounds them "
            f"as the device does"
        )

    def _as_image(self, view: View, tensor: Tensor) -> View:
        """Stored images with their channels first, and stored again: what is turned later would stand between them and
        the first convolution."""
        if len(view.order) != 4 or tensor.quantization is None or self.quantizer.widen:
            return view
        real, order = self._from_stored(tensor, view), (0, 3, 1, 2)
        emit = LaidOutStored(self.builder, f"{stem_of(tensor.name)}.turned", "")
        return self.quantizer.quantized(
            View(emit.in_order(real, order), order), replace(tensor, name=f"{stem_of(tensor.name)}.turned"), ""
        )

    def _refuse_input(self, tensor: Tensor) -> str:
        raise SourceError(
            f"{self.where} takes {tensor.name} as {tensor.dtype} without saying what the numbers mean, which is "
            f"not supported."
        )

    def run(self) -> None:
        """Translates all operators. Raises SourceError; UnknownOperators naming all that are not known at once."""
        for operator in self.model.operators:
            self._translated(operator)
        if self.context.unknown:
            raise UnknownOperators(self.where, self.context.unknown, again="save")

    def _translated(self, operator: Operator) -> None:
        if operator.name in ("DEQUANTIZE", "DENSIFY") and self._is_constant(operator):
            return
        results = [self.model.tensors[number] for number in operator.outputs]
        inputs = [UNKNOWN if number < 0 else self.real(number) for number in operator.inputs]
        unknown = any(value is UNKNOWN for number, value in zip(operator.inputs, inputs) if number >= 0)
        site = MobileSite(self.context, operator, self.model.tensors, inputs, self.quantizer, self._layers)
        handler = None if unknown else handler_of(site)
        if handler is None:
            if not unknown:
                self.context.unknown.setdefault(operator.name, []).append(site.name)
            self._real.update(dict.fromkeys(operator.outputs, UNKNOWN))
            return
        for tensor in results:
            self.quantizer.check(tensor)
        self.context.operators[operator.name] += 1
        self._note_hybrid(operator)
        made = self._made(site, handler)
        if len(made) < len(results):
            site.refuse(f"has {len(results)} results where {len(made)} are known")
        for number, tensor, value in zip(operator.outputs, results, made):
            self._keep(site, number, tensor, value)

    def _is_constant(self, operator: Operator) -> bool:
        """Whether an operator widens a constant: its result is then that constant, as it is stored."""
        given = self.model.tensors[operator.inputs[0]] if operator.inputs and operator.inputs[0] >= 0 else None
        if given is None or given.data is None or len(operator.outputs) != 1:
            return False
        number = operator.outputs[0]
        self.model.tensors[number] = replace(given, name=self.model.tensors[number].name)
        return True

    def _made(self, site: MobileSite, handler) -> list[Value]:
        try:
            made = handler(site)
            if site.operator.name in ROWS and "activation" in site.operator.options:
                made = activated(site, made)
        except GraphError as fault:
            raise SourceError(f"{self.where} cannot be converted: {fault}") from fault
        except (KeyError, TypeError, ValueError, IndexError, AttributeError, ArithmeticError) as fault:
            site.refuse(f"has settings or inputs that do not fit it ({type(fault).__name__}: {fault})")
        left = [
            name
            for name, value in site.operator.options.items()
            if f"option {name}" not in site.read and name not in WITHOUT_MEANING and np.any(value)
        ]
        if left:
            site.refuse(f"has a setting that is not supported ({left[0]})")
        return made if isinstance(made, list) else [made]

    def _keep(self, site: MobileSite, number: int, tensor: Tensor, value: Value) -> None:
        if (
            not isinstance(value, View)
            or tensor.quantization is None
            or tensor.dtype not in (*STORED, "int16")
            or self._is_number(value)
        ):
            self._real[number] = site.named(value, stem_of(tensor.name)) if isinstance(value, View) else value
            return
        view = View(site.gathered(value), value.order)
        made = self.quantizer.quantized(view, tensor, site._layer)
        (self._real if self.quantizer.widen else self._stored)[number] = made

    def _is_number(self, view: View) -> bool:
        """Whether a value counts or chooses, so that no scale applies to it."""
        return self.builder.types[view.name].dtype.kind != "f"

    def real(self, number: int) -> Value:
        """A tensor as real numbers, added to the graph when it is first read."""
        if number in self._real:
            return self._real[number]
        tensor = self.model.tensors[number]
        if number in self._stored:
            made = self._from_stored(tensor, self._stored[number])
        elif tensor.data is not None:
            self.quantizer.check(tensor)
            if tensor.dtype not in (*COMPUTED, "float16"):
                raise SourceError(
                    f"{self.where} cannot be converted: {tensor.name} is {tensor.dtype}, which an artifact does "
                    f"not compute with."
                )
            if tensor.dtype in ("uint8", "int8") and tensor.quantization is None and tensor.data.size == 0:
                raise SourceError(f"{self.where} is damaged: {tensor.name} holds nothing.")
            self.context.numbers[tensor.name] = tensor.data.size
            self.context.widths.add(tensor.dtype)
            made = self.quantizer.constant(tensor)
        elif tensor.is_variable:
            raise SourceError(
                f"{self.where} cannot be converted: {tensor.name} keeps its numbers from one image to the next, "
                f"which no classifier does."
            )
        else:
            raise SourceError(f"{self.where} is damaged: {tensor.name} is read before anything makes it.")
        self._real[number] = made
        return made

    def _from_stored(self, tensor: Tensor, view: Value) -> Value:
        if tensor.quantization is None:
            return view
        emit = LaidOutStored(self.builder, stem_of(tensor.name), layer_of(tensor.name))
        dtype = self.builder.types[view.name].dtype
        if self.quantizer.widen:
            wide = emit.step("Cast", view.name, to="float32")
            scale, zero = float(tensor.quantization.scales[0]), float(tensor.quantization.zero_points[0])
            moved = emit.step("Sub", wide, emit.number(zero, wide)) if zero else wide
            return View(emit.step("Mul", moved, emit.number(scale, moved)), view.order)
        return View(
            self.quantizer.dequantized(view.name, tensor.quantization, dtype, tensor.name, layer_of(tensor.name)),
            view.order,
            view.permutation,
        )

    def _note_hybrid(self, operator: Operator) -> None:
        """Weights in 8 bits beside real numbers: the runtime rounds the latter for each image, the artifact does
        not."""
        tensors = [self.model.tensors[number] for number in operator.inputs[:2] if number >= 0]
        if (
            operator.name in HYBRID
            and len(tensors) == 2
            and tensors[0].dtype == "float32"
            and tensors[1].dtype in STORED
            and tensors[1].data is not None
        ):
            self.hybrid.append(self.model.tensors[operator.outputs[0]].name)

    def graph_of(self, number: int) -> Graph:
        """The graph that makes one tensor, as real numbers. Raises SourceError."""
        value = self.real(number)
        if not isinstance(value, View):
            raise SourceError(
                f"{self.where} cannot be converted: {self.model.tensors[number].name} is no tensor of numbers."
            )
        emit = LaidOutStored(self.builder, stem_of(self.model.tensors[number].name), "")
        try:
            return self.builder.finish([emit.plain(View(emit.gathered(value), value.order))])
        except GraphError as fault:
            raise SourceError(f"{self.where} cannot be converted: {fault}") from fault


def input_shape(tensor: Tensor, where: str, image_shape: tuple[int, ...] | None) -> tuple[int | Batch, ...]:
    """The shape that images come in: the first size may be open; others that are, are those of `image_shape`. Raises
    SourceError."""
    sizes = tensor.sizes
    if image_shape is not None and len(image_shape) == len(sizes) - 1:
        sizes = (sizes[0], *(given if size is None else size for size, given in zip(sizes[1:], image_shape)))
    if None in sizes[1:]:
        listed = ", ".join("?" if size is None else str(size) for size in sizes)
        raise SourceError(
            f"{where} leaves the size of its images open ([{listed}]); say it with --shape, as in --shape 224,224,3, "
            "or give an inlet that ends with a size."
        )
    if min(size for size in (*sizes[1:], sizes[0] or 1)) < 1:
        raise SourceError(f"{where} takes images {list(tensor.shape)}, which hold nothing.")
    return tuple(Batch() if size is None else size for size in sizes)


class LaidOutStored(LaidOut):
    """Adds to the graph beside the operators of the file."""

    def refuse(self, why: str):
        """Raises SourceError."""
        raise SourceError(f"the flatbuffer {why}.")
