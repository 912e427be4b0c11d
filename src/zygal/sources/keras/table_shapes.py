"""Layers that connect: dense ones, merges, reshapes, and those that do nothing at inference."""

from __future__ import annotations

from functools import reduce

from zygal.graph import Batch
from zygal.sources.keras.handlers import NOTHING_AT_INFERENCE, layer
from zygal.sources.keras.site import LayerSite
from zygal.sources.keras.table_activations import activated
from zygal.sources.layouts import View, is_batch
from zygal.sources.layouts.arranging import flattened, joined, permuted, product, reshaped_to


@layer("Dense")
def dense(call: LayerSite) -> View:
    """Along the last axis."""
    view = call.x
    width = call.shape(view)[-1]
    kernel, bias = call.needed("kernel", "", (width, None)), call.weight("bias")
    return activated(call, product(call, view, kernel, bias))


@layer("EinsumDense")
def einsum_dense(call: LayerSite) -> View:
    view, equation = call.x, call.config["equation"].replace(" ", "")
    kernel = call.needed("kernel")
    given, made = equation.split("->")
    first, second = given.split(",")
    if "..." in equation:
        hidden = "".join(letter for letter in "ABCDEFGH")[: call.rank(view) - len(first.replace("...", ""))]
        first, made = first.replace("...", hidden), made.replace("...", hidden)
    name = call.step("Einsum", call.plain(view), call.constant(kernel, "kernel"), equation=f"{first},{second}->{made}")
    bias = call.weight("bias")
    if bias is not None:
        name = call.step("Add", name, call.constant(bias, "bias"))
    return activated(call, call.named_view(name))


@layer("Flatten")
def flatten(call: LayerSite) -> View:
    """Columns keep the order in which the image lies; what reads them knows which is which."""
    return flattened(call, call.x, channels_first=call.config.get("data_format") == "channels_first")


@layer("Reshape")
def reshape(call: LayerSite) -> View:
    return reshaped_to(call, call.x, list(call.config["target_shape"]))


@layer("Permute")
def permute(call: LayerSite) -> View:
    """Only the counting of the axes changes; what needs another order in memory turns it then."""
    view, dims = call.x, [0, *call.config["dims"]]
    if sorted(dims) != list(range(call.rank(view))):
        call.refuse(f"orders axes by {dims[1:]}")
    return permuted(call, view, dims)


@layer("RepeatVector")
def repeat_vector(call: LayerSite) -> View:
    wide = call.step("Unsqueeze", call.plain(call.x), axes=[1])
    return call.named_view(call.step("Tile", wide, repeats=[1, int(call.config["n"]), 1]))


def _merge(operator: str, *names: str) -> None:
    @layer(*names)
    def merge(call: LayerSite) -> View:
        names, lead = call.together(call.views())
        return View(reduce(lambda left, right: call.step(operator, left, right), names), lead.order, lead.permutation)


_merge("Add", "Add")
_merge("Sub", "Subtract")
_merge("Mul", "Multiply")
_merge("Max", "Maximum")
_merge("Min", "Minimum")


@layer("Average")
def average(call: LayerSite) -> View:
    names, lead = call.together(call.views())
    total = reduce(lambda left, right: call.step("Add", left, right), names)
    return View(call.step("Mul", total, call.number(1 / len(names), total)), lead.order, lead.permutation)


@layer("Concatenate")
def concatenate(call: LayerSite) -> View:
    return joined(call, call.views(), int(call.config.get("axis", -1)))


@layer("Dot")
def dot(call: LayerSite) -> View:
    """Sums of products along an axis of each, images apart."""
    left, right = call.views()
    axes = call.config["axes"]
    axes = [axes, axes] if isinstance(axes, int) else list(axes)
    names = [call.plain(view) for view in (left, right)]
    if call.config.get("normalize"):
        names = [_unit(call, name, axis) for name, axis in zip(names, axes)]
    letters = iter("bcdefghijklmnopqrstuvwxyz")
    terms = []
    for view, axis in zip((left, right), axes):
        axis %= call.rank(view)
        terms.append("".join("a" if at == 0 else "z" if at == axis else next(letters) for at in range(call.rank(view))))
    made = "a" + "".join(letter for term in terms for letter in term if letter not in "az")
    name = call.step("Einsum", *names, equation=f"{terms[0]},{terms[1]}->{made}")
    return call.named_view(call.step("Unsqueeze", name, axes=[1]) if len(made) == 1 else name)


def _unit(call: LayerSite, name: str, axis: int) -> str:
    square = call.step("ReduceSum", call.step("Mul", name, name), axes=[axis], keepdims=1)
    return call.step("Div", name, call.step("Sqrt", call.step("Max", square, call.number(1e-12, name))))


@layer("Embedding")
def embedding(call: LayerSite) -> View:
    table = call.needed("embeddings")
    index = call.step("Cast", call.plain(call.x), to="int64")
    return call.named_view(call.step("Gather", call.constant(table, "embeddings"), index, axis=0))


@layer("TimeDistributed")
def each_step(call: LayerSite) -> View:
    """The inner layer on every step, the steps used as images."""
    view = call.x
    shape = call.shape(view)
    if not is_batch(shape[0]) or is_batch(shape[1]):
        call.refuse("uses an axis that is not known at conversion time")
    merged = call.reshaped(call.plain(view), [Batch(shape[0].times * shape[1]), *shape[2:]])
    made = call.inner("layer", call.named_view(merged))
    inner = call.shape(made)
    return call.named_view(call.reshaped(call.plain(made), [shape[0], shape[1], *inner[1:]]))


@layer("SpectralNormalization")
def wrapped(call: LayerSite) -> View:
    """At inference the kernel is what training left of it."""
    return call.inner("layer", call.x)


@layer(
    "Dropout",
    "SpatialDropout1D",
    "SpatialDropout2D",
    "SpatialDropout3D",
    "GaussianNoise",
    "GaussianDropout",
    "AlphaDropout",
    "ActivityRegularization",
    "Identity",
    "StochasticDepth",
    "RandomBrightness",
    "RandomContrast",
    "RandomFlip",
    "RandomRotation",
    "RandomTranslation",
    "RandomZoom",
    "RandomHue",
    "RandomSaturation",
    "RandomSharpness",
    "RandomColorJitter",
    "RandomColorDegeneration",
    "RandomErasing",
    "RandomGaussianBlur",
    "RandomGrayscale",
    "RandomInvert",
    "RandomPosterization",
    "RandomShear",
    "RandomPerspective",
    "RandomHeight",
    "RandomWidth",
    "RandomElasticTransform",
    "AutoContrast",
    "CutMix",
    "MixUp",
    "RandAugment",
    "AugMix",
)
def nothing(call: LayerSite) -> View:
    """What only training does."""
    NOTHING_AT_INFERENCE.add(call.shown.class_name)
    if call.shown.class_name == "AutoContrast":
        call.refuse("changes the contrast at inference too, which is not supported; do it in the inlet's images")
    return call.x
