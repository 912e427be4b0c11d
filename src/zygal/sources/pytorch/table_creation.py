"""ATen operators that make tensors from nothing, change dtypes, or only check something."""

from __future__ import annotations

import numpy as np

from zygal.graph import Batch, Dimension
from zygal.sources.pytorch.calls import Site, aten
from zygal.sources.pytorch.program import COMPUTED_AS_FLOAT32, SCALAR_TYPES
from zygal.sources.pytorch.symbols import floor_divide, multiply


def wanted_dtype(call: Site, default: str = "float32") -> np.dtype:
    """The dtype argument as the artifact computes it."""
    number = call.plain("dtype")
    name = default if number is None else SCALAR_TYPES.get(number)
    if name is None:
        call.refuse(f"makes numbers of the dtype number {number}, which is not supported")
    return np.dtype("float32" if name in COMPUTED_AS_FLOAT32 else name)


def in_dtype(call: Site, x: str) -> str:
    """The value in the dtype that the call asks for before it computes, if it asks for one."""
    if not call.has("dtype"):
        return x
    target = wanted_dtype(call)
    return x if call.type_of(x).dtype == target else call.step("Cast", x, to=target.name)


def filled(call: Site, sizes: list[Dimension], value: float | bool, dtype: np.dtype) -> str:
    """A constant of one value; with the batch among its sizes, one that is repeated.

    Where a program is freed from its fixed batch, a first size of that number is taken for the batch.
    """
    if sizes and call.is_captured_batch(sizes[0]):
        sizes = [Batch(), *sizes[1:]]
    call.check_count(sizes)
    if any(isinstance(size, Batch) for size in sizes):
        single = call.constant(np.full((1,) * len(sizes), value, dtype), "filling")
        return call.expanded(single, sizes)
    return call.constant(np.full(sizes, value, dtype), "filled")


def _filling(name: str, value: float | None) -> None:
    def number(call: Site):
        return call.plain("fill_value") if value is None else value

    def natural(call: Site) -> str:
        kind = type(number(call))
        return "float32" if value is not None or kind is float else "bool" if kind is bool else "int64"

    @aten(f"{name}.default")
    def make(call: Site):
        return filled(call, call.plain("size"), number(call), wanted_dtype(call, natural(call)))

    @aten(f"{name}_like.default")
    def make_like(call: Site):
        like = call.type_of(call.tensor("self"))
        return filled(call, list(like.shape), number(call), wanted_dtype(call, like.dtype.name))

    @aten(f"new_{name}.default")
    def make_new(call: Site):
        return filled(
            call, call.plain("size"), number(call), wanted_dtype(call, call.type_of(call.tensor("self")).dtype.name)
        )


_filling("zeros", 0)
_filling("ones", 1)
_filling("full", None)


@aten("empty.memory_format", "new_empty.default", "empty_like.default", "empty_permuted.default")
def empty(call: Site):
    """Memory that is written before it is read; zeros until then."""
    if call.is_tensor("self"):
        like = call.type_of(call.tensor("self"))
        sizes = call.plain("size") or list(like.shape)
        return filled(call, sizes, 0, wanted_dtype(call, like.dtype.name))
    return filled(call, call.plain("size"), 0, wanted_dtype(call))


@aten("scalar_tensor.default")
def scalar(call: Site):
    value = call.plain("s")
    return call.constant(np.array(value, wanted_dtype(call)), "scalar")


@aten("arange.default", "arange.start", "arange.start_step")
def arange(call: Site):
    start, end, step = call.plain("start", 0), call.plain("end"), call.plain("step", 1)
    if any(isinstance(number, Batch) for number in (start, end, step)):
        call.refuse("counts up to the batch size")
    whole = all(isinstance(number, int) for number in (start, end, step))
    call.check_count([int(abs((end - start) / (step or 1))) + 1])
    made = np.arange(start, end, step, np.int64 if whole else np.float64)
    return call.constant(made.astype(wanted_dtype(call, "int64" if whole else "float32")), "range")


@aten("linspace.default")
def linspace(call: Site):
    call.check_count([call.plain("steps")])
    made = np.linspace(call.plain("start"), call.plain("end"), call.plain("steps"))
    return call.constant(made.astype(wanted_dtype(call)), "steps")


@aten("eye.default", "eye.m")
def eye(call: Site):
    call.check_count([call.plain("n"), call.plain("m") or call.plain("n")])
    made = np.eye(call.plain("n"), call.plain("m") or call.plain("n"))
    return call.constant(made.astype(wanted_dtype(call)), "eye")


@aten("block_diag.default", "cartesian_prod.default")
def combined(call: Site):
    """Of what is known beforehand."""
    arrays = [call.array(value) for value in call.tensors("tensors")]
    if any(array is None for array in arrays):
        call.refuse("combines what depends on the image, which is not supported")
    if "cartesian" in call.call.target:
        call.check_count([array.size for array in arrays])
        grids = np.meshgrid(*arrays, indexing="ij")
        return call.constant(np.stack([grid.reshape(-1) for grid in grids], -1), "pairs")
    arrays = [np.atleast_2d(array) for array in arrays]
    call.check_count([sum(array.shape[axis] for array in arrays) for axis in (0, 1)])
    made = np.zeros(np.sum([array.shape for array in arrays], 0), arrays[0].dtype)
    row = column = 0
    for array in arrays:
        made[row : row + array.shape[0], column : column + array.shape[1]] = array
        row, column = row + array.shape[0], column + array.shape[1]
    return call.constant(made, "blocks")


@aten("fill.Scalar", "fill.Tensor", "zero.default")
def fill(call: Site):
    like = call.type_of(call.tensor("self"))
    if call.is_tensor("value"):
        value = call.array(call.tensor("value"))
        if value is None:
            return call.expanded(call.step("Cast", call.tensor("value"), to=like.dtype.name), list(like.shape))
        return filled(call, list(like.shape), value.item(), like.dtype)
    return filled(call, list(like.shape), call.plain("value", 0), like.dtype)


@aten("copy.default")
def copy(call: Site):
    """The new contents, in the dtype and to the size of the tensor that is written into."""
    like, x = call.type_of(call.tensor("self")), call.tensor("src")
    if call.type_of(x).dtype != like.dtype:
        x = call.step("Cast", x, to=like.dtype.name)
    return x if call.type_of(x).shape == like.shape else call.expanded(x, list(like.shape))


@aten("to.dtype", "to.dtype_layout", "to.device", "to.other", "_to_copy.default", "to.prim_Device", "type_as.default",
      "to.prim_dtype")  # fmt: skip
def convert_dtype(call: Site):
    x = call.tensor("self")
    if call.is_tensor("other"):
        dtype = call.type_of(call.tensor("other")).dtype
    else:
        dtype = wanted_dtype(call, call.type_of(x).dtype.name)
    return call.result("Identity", x) if dtype == call.type_of(x).dtype else call.result("Cast", x, to=dtype.name)


@aten("_assert_tensor_metadata.default", "_assert_scalar.default", "_assert_async.msg", "sym_constrain_range.default",
      "sym_constrain_range_for_size.default")  # fmt: skip
def check_only(call: Site):
    """The framework's own assertions; the sizes are known here."""
    return None


@aten("set_.default")
def forget(call: Site):
    """Lets go of a tensor's memory, after its last use."""
    return None


@aten("sym_size.int")
def size(call: Site):
    return call.type_of(call.tensor("self")).shape[call.plain("dim")]


def _on_sizes(name: str, function) -> None:
    aten(name)(lambda call: function(*call.plain_arguments()))


def _sum(left: Dimension, right: Dimension) -> Dimension:
    if isinstance(left, Batch) and isinstance(right, Batch):
        return Batch(left.times + right.times)
    if isinstance(left, Batch) or isinstance(right, Batch):
        raise ValueError("a size is the batch plus a number")
    return left + right


_on_sizes("_operator.mul", multiply)
_on_sizes("_operator.floordiv", floor_divide)
_on_sizes("_operator.add", _sum)
_on_sizes("_operator.sub", lambda left, right: _sum(left, Batch(-right.times) if isinstance(right, Batch) else -right))
_on_sizes("_operator.neg", lambda size: Batch(-size.times) if isinstance(size, Batch) else -size)


def _quotient(left: Dimension, right: int) -> Dimension | float:
    if isinstance(left, Batch):
        if right != int(right) or left.times % int(right):
            raise ValueError("a size is a fraction of the batch")
        return Batch(left.times // int(right))
    return left / right


def _remainder(left: Dimension, right: int) -> int:
    if not isinstance(left, Batch):
        return left % right
    if left.times % right:
        raise ValueError("a size depends on what is left of the batch")
    return 0


def _whole(size: Dimension | float) -> Dimension:
    return size if isinstance(size, Batch) else int(size)


_on_sizes("_operator.truediv", _quotient)
_on_sizes("_operator.mod", _remainder)
for _name in ("math.trunc", "math.floor", "math.ceil", "torch.sym_int", "torch.sym_float"):
    _on_sizes(_name, _whole)
for _name in ("eq", "ne", "ge", "gt", "le", "lt", "and_", "or_", "not_"):
    # Only the framework's own assertions read these.
    aten(f"_operator.{_name}")(check_only)
