"""ATen operators that make tensors from nothing, change dtypes, or only check something."""

from __future__ import annotations

import numpy as np

from zygal.graph import Batch, Dimension
from zygal.sources.pytorch.calls import Places, Site, aten
from zygal.sources.pytorch.symbols import floor_divide, multiply
from zygal.sources.pytorch.tensors import COMPUTED_AS_FLOAT32, SCALAR_TYPES


def wanted_dtype(site: Site, default: str = "float32") -> np.dtype:
    """The dtype argument as the artifact computes it."""
    number = site.plain("dtype")
    name = default if number is None else SCALAR_TYPES.get(number)
    if name is None:
        site.refuse(f"makes numbers of the dtype number {number}, which is not supported")
    return np.dtype("float32" if name in COMPUTED_AS_FLOAT32 else name)


def in_dtype(site: Site, x: str) -> str:
    """The value in the dtype that the call asks for before it computes, if it asks for one."""
    if not site.has("dtype"):
        return x
    target = wanted_dtype(site)
    return x if site.type_of(x).dtype == target else site.step("Cast", x, to=target.name)


def filled(site: Site, sizes: list[Dimension], value: float | bool, dtype: np.dtype) -> str:
    """A constant of one value; with the batch among its sizes, one that is repeated."""
    site.check_count(sizes)
    if any(isinstance(size, Batch) for size in sizes):
        single = site.constant(np.full((1,) * len(sizes), value, dtype), "filling")
        return site.expanded(single, sizes)
    return site.constant(np.full(sizes, value, dtype), "filled")


def _filling(name: str, value: float | None) -> None:
    def number(site: Site):
        return site.plain("fill_value") if value is None else value

    def natural(site: Site) -> str:
        kind = type(number(site))
        return "float32" if value is not None or kind is float else "bool" if kind is bool else "int64"

    @aten(f"{name}.default")
    def make(site: Site):
        return filled(site, site.plain("size"), number(site), wanted_dtype(site, natural(site)))

    @aten(f"{name}_like.default")
    def make_like(site: Site):
        like = site.type_of(site.tensor("self"))
        return filled(site, list(like.shape), number(site), wanted_dtype(site, like.dtype.name))

    @aten(f"new_{name}.default")
    def make_new(site: Site):
        return filled(
            site, site.plain("size"), number(site), wanted_dtype(site, site.type_of(site.tensor("self")).dtype.name)
        )


_filling("zeros", 0)
_filling("ones", 1)
_filling("full", None)


@aten("empty.memory_format", "new_empty.default", "empty_like.default", "empty_permuted.default")
def empty(site: Site):
    """Memory that is written before it is read; zeros until then."""
    if site.is_tensor("self"):
        like = site.type_of(site.tensor("self"))
        sizes = site.plain("size") or list(like.shape)
        return filled(site, sizes, 0, wanted_dtype(site, like.dtype.name))
    return filled(site, site.plain("size"), 0, wanted_dtype(site))


@aten("scalar_tensor.default")
def scalar(site: Site):
    value = site.plain("s")
    return site.constant(np.array(value, wanted_dtype(site)), "scalar")


@aten("arange.default", "arange.start", "arange.start_step")
def arange(site: Site):
    start, end, step = site.plain("start", 0), site.plain("end"), site.plain("step", 1)
    if isinstance(end, Batch) and end.times == 1 and (start, step) == (0, 1):
        wanted_dtype(site, "int64")
        return Places(1)
    if any(isinstance(number, Batch) for number in (start, end, step)):
        site.refuse("counts up to the batch size")
    whole = all(isinstance(number, int) for number in (start, end, step))
    site.check_count([int(abs((end - start) / (step or 1))) + 1])
    made = np.arange(start, end, step, np.int64 if whole else np.float64)
    return site.constant(made.astype(wanted_dtype(site, "int64" if whole else "float32")), "range")


@aten("linspace.default")
def linspace(site: Site):
    site.check_count([site.plain("steps")])
    made = np.linspace(site.plain("start"), site.plain("end"), site.plain("steps"))
    return site.constant(made.astype(wanted_dtype(site)), "steps")


@aten("eye.default", "eye.m")
def eye(site: Site):
    site.check_count([site.plain("n"), site.plain("m") or site.plain("n")])
    made = np.eye(site.plain("n"), site.plain("m") or site.plain("n"))
    return site.constant(made.astype(wanted_dtype(site)), "eye")


@aten("block_diag.default", "cartesian_prod.default")
def combined(site: Site):
    """Of what is known beforehand."""
    arrays = [site.array(value) for value in site.tensors("tensors")]
    if any(array is None for array in arrays):
        site.refuse("combines what depends on the image, which is not supported")
    if "cartesian" in site.target:
        site.check_count([array.size for array in arrays])
        grids = np.meshgrid(*arrays, indexing="ij")
        return site.constant(np.stack([grid.reshape(-1) for grid in grids], -1), "pairs")
    arrays = [np.atleast_2d(array) for array in arrays]
    site.check_count([sum(array.shape[axis] for array in arrays) for axis in (0, 1)])
    made = np.zeros(np.sum([array.shape for array in arrays], 0), arrays[0].dtype)
    row = column = 0
    for array in arrays:
        made[row : row + array.shape[0], column : column + array.shape[1]] = array
        row, column = row + array.shape[0], column + array.shape[1]
    return site.constant(made, "blocks")


@aten("fill.Scalar", "fill.Tensor", "zero.default")
def fill(site: Site):
    like = site.type_of(site.tensor("self"))
    if site.is_tensor("value"):
        value = site.array(site.tensor("value"))
        if value is None:
            return site.expanded(site.step("Cast", site.tensor("value"), to=like.dtype.name), list(like.shape))
        return filled(site, list(like.shape), value.item(), like.dtype)
    return filled(site, list(like.shape), site.plain("value", 0), like.dtype)


@aten("copy.default")
def copy(site: Site):
    """The new contents, in the dtype and to the size of the tensor that is written into."""
    like, x = site.type_of(site.tensor("self")), site.tensor("src")
    if site.type_of(x).dtype != like.dtype:
        x = site.step("Cast", x, to=like.dtype.name)
    return x if site.type_of(x).shape == like.shape else site.expanded(x, list(like.shape))


@aten(
    "to.dtype",
    "to.dtype_layout",
    "to.device",
    "to.other",
    "_to_copy.default",
    "to.prim_Device",
    "type_as.default",
    "to.prim_dtype",
)
def convert_dtype(site: Site):
    x = site.tensor("self")
    if site.is_tensor("other"):
        dtype = site.type_of(site.tensor("other")).dtype
    else:
        dtype = wanted_dtype(site, site.type_of(x).dtype.name)
    return site.step("Identity", x) if dtype == site.type_of(x).dtype else site.step("Cast", x, to=dtype.name)


@aten(
    "_assert_tensor_metadata.default",
    "_assert_scalar.default",
    "_assert_async.msg",
    "sym_constrain_range.default",
    "sym_constrain_range_for_size.default",
)
def check_only(site: Site):
    """The framework's own assertions; the sizes are known here."""
    return


@aten("set_.default")
def forget(site: Site):
    """Lets go of a tensor's memory, after its last use."""
    return


@aten("sym_size.int")
def size(site: Site):
    measured = site.places("self") or site.type_of(site.tensor("self"))
    return measured.shape[site.plain("dim")]


def _on_sizes(name: str, function) -> None:
    aten(name)(lambda site: function(*site.plain_arguments()))


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


@aten("tril_indices.default", "triu_indices.default")
def places_of_triangle(site: Site):
    function = np.tril_indices if "tril" in site.target else np.triu_indices
    positions = function(site.plain("row"), site.plain("offset", 0), site.plain("col"))
    return site.constant(np.stack(positions).astype(np.int64), "places")


def _triangle(name: str, function) -> None:
    def triangle(site: Site):
        x, offset = site.tensor("self"), site.plain("diagonal", 0)
        shape = site.type_of(x).shape[-2:]
        kept = site.constant(function(np.ones(shape, bool), offset), "kept")
        return site.step("Where", kept, x, site.number(0, x))

    aten(name)(triangle)


_triangle("tril.default", np.tril)
_triangle("triu.default", np.triu)


@aten("meshgrid.indexing", "meshgrid.default")
def meshgrid(site: Site):
    arrays = [site.array(value) for value in site.tensors("tensors")]
    if any(array is None for array in arrays):
        site.refuse("makes a grid from what depends on the image")
    grids = np.meshgrid(*arrays, indexing=site.plain("indexing", "ij"))
    return tuple(site.constant(grid, f"grid{position}") for position, grid in enumerate(grids))
