"""Windows that slide over images whose channels come last, in the words of the format."""

from __future__ import annotations

from collections.abc import Sequence

from zygal.artifact.mobile.site import Site
from zygal.artifact.mobile.views import View, channels_last
from zygal.graph.ops.windows import Geometry, same_pads
from zygal.mobile.schema import SAME, VALID


def as_image(site: Site, view: View) -> tuple[View, bool]:
    """A row of places as an image of one row."""
    if view.rank == 4:
        return view, False
    if view.rank != 3:
        site.refuse(f"works on images with {view.rank - 2} axes")
    x = site.image(view)
    n, length, channels = site.shape_of(x)
    return View(channels_last(4), site.reshape_tensor(x, (n, 1, length, channels))), True


def as_before(site: Site, tensor: int, was_row: bool) -> View:
    """A result that was computed as an image of one row, as the row that it was."""
    if not was_row:
        return View(channels_last(4), tensor)
    n, _, length, channels = site.shape_of(tensor)
    return View(channels_last(3), site.reshape_tensor(tensor, (n, length, channels)))


def padded(site: Site, x: int, pads: Sequence[tuple[int, int]], value: float = 0.0) -> int:
    """An image with a border of one number along height and width."""
    if not any(map(any, pads)):
        return x
    n, height, width, channels = site.shape_of(x)
    sizes = (n, height + sum(pads[0]), width + sum(pads[1]), channels)
    table = site.numbers([[0, 0], *map(list, pads), [0, 0]])
    if value == 0:
        return site.step("PAD", [x, table], sizes, site.dtype_of(x))
    return site.step("PADV2", [x, table, site.number(value, x)], sizes, site.dtype_of(x))


class Windows:
    """How windows slide over an image with its channels last: what padding of the format's own does it, else what
    border it needs."""

    def __init__(self, site: Site, x: int, attributes, kernel: Sequence[int], was_row: bool):
        if was_row:
            attributes = {
                name: with_row(name, value) if isinstance(value, (list, tuple)) else value
                for name, value in attributes.items()
            }
            kernel = (1, *kernel)[-2:]
        self.geometry = geometry = Geometry.of(attributes, kernel)
        self.sizes = site.shape_of(x)[1:3]
        self.counts = geometry.counts(self.sizes)
        begins, ends = zip(*geometry.pads)
        same = same_pads(self.sizes, kernel, geometry.strides, geometry.dilations)
        ours = [-(-size // stride) for size, stride in zip(self.sizes, geometry.strides)]
        needed = [
            (count - 1) * stride + dilation * (k - 1) + 1 - size - begin
            for count, stride, dilation, k, size, begin in zip(
                self.counts, geometry.strides, geometry.dilations, geometry.kernel, self.sizes, begins
            )
        ]
        self.none = not any(begins) and all(each <= 0 for each in needed)
        self.same = (
            not self.none
            and list(self.counts) == ours
            and list(begins) == same[:2]
            and all(max(need, 0) == wanted for need, wanted in zip(needed, same[2:]))
        )
        self.border = [(begin, max(need, 0)) for begin, need in zip(begins, needed)]

    @property
    def padding(self) -> int:
        """The format's number for how the border is padded."""
        return SAME if self.same else VALID

    def options(self, dilated: bool = True) -> dict[str, int]:
        """The options that convolutions and pools have in common."""
        geometry = self.geometry
        options = {
            "padding": self.padding,
            "stride_h": geometry.strides[0],
            "stride_w": geometry.strides[1],
            "activation": 0,
        }
        if dilated:
            options.update(dilation_h=geometry.dilations[0], dilation_w=geometry.dilations[1])
        return options


def with_row(name: str, value: Sequence[int]) -> list[int]:
    """A setting of one axis as that of two."""
    if name == "pads":
        return [0, value[0], 0, value[1]]
    return [1, *value] if len(value) == 1 else list(value)
