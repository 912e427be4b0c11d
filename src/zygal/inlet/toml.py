"""Inlets as TOML. Reading refuses every key that it does not know, and says which keys there are."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import fields
from typing import Any

from zygal.errors import InletError, one_line
from zygal.files.documents import parse_toml
from zygal.inlet import specification as spec
from zygal.inlet.checks import CHECKS, integer, meant, one_of
from zygal.inlet.resampling import uses_pillow
from zygal.inlet.sizes import size_after
from zygal.inlet.specification import Blur, Crop, Decode, Inlet, Pad, Resize, Step, Tensor, Values

FORMAT_VERSION = 1


def parse_inlet(text: str, where: str) -> Inlet:
    """The inlet that a TOML text states; `where` names the text in messages. Raises InletError."""
    return inlet_of(parse_toml(text, where, InletError), where)


def inlet_of(document: dict[str, Any], where: str) -> Inlet:
    """The inlet of a TOML document that was parsed. Raises InletError."""
    table = _Table(where, "", document)
    version = table.take("zygal_inlet", integer)
    if version != FORMAT_VERSION:
        found = "no line zygal_inlet = 1, so it is not an inlet" if version is None else f"zygal_inlet = {version}"
        raise InletError(f"{where} has {found}; this release reads version {FORMAT_VERSION}.")
    decode = _record(table.table("decode"), Decode)
    frame = tuple(_step(step) for step in table.tables("frame"))
    channels = decode.grey_channels if decode.colour == "grey" else 3
    values = _values(table.table("values"), channels)
    tensor = _tensor(table.table("tensor"), values)
    recovered_on = table.take("recovered_on", _hash)
    table.finish()
    inlet = Inlet(decode, frame, values, tensor, recovered_on)
    _check_frame(inlet, where)
    return inlet


def format_inlet(inlet: Inlet, comments: Sequence[str] = ()) -> str:
    """The TOML text of an inlet, after comments of a line each; `parse_inlet` gives back an equal one."""
    import tomli_w

    return "".join(f"# {one_line(comment, 400)}\n" for comment in comments) + tomli_w.dumps(document_of(inlet))


def document_of(inlet: Inlet) -> dict[str, Any]:
    """What the TOML file of an inlet holds."""
    document: dict[str, Any] = {"zygal_inlet": FORMAT_VERSION, "decode": _plain(inlet.decode)}
    document["frame"] = [{"step": type(step).__name__.lower(), **_plain(step)} for step in inlet.frame]
    document["values"] = _plain(inlet.values)
    document["tensor"] = _plain(inlet.tensor)
    return document if inlet.recovered_on is None else {**document, "recovered_on": inlet.recovered_on}


def _hash(value: Any) -> str:
    if not isinstance(value, str) or len(value) != 64 or set(value) - set("0123456789abcdef"):
        raise ValueError("the SHA-256 that zygal inlet recover wrote")
    return value


# Written even where they are what they would be if left out.
_ALWAYS = {
    Decode: {"colour", "exif", "transparency"},
    Resize: {"filter"},
    Crop: {"centring"},
    Pad: {"colour"},
    Blur: {"sigma", "taps"},
    Values: {"range"},
    Tensor: {"layout", "dtype"},
}


def _plain(record: Any) -> dict[str, Any]:
    default = type(record)()
    shown = {
        each.name: getattr(record, each.name)
        for each in fields(record)
        if each.name in _ALWAYS[type(record)] or getattr(record, each.name) != getattr(default, each.name)
    }
    if isinstance(record, Resize) and record.size is None:
        shown["long_side"] = record.long_side
    idle = spec.idle_fields(record) if isinstance(record, Step) else ()
    shown = {name: value for name, value in shown.items() if name not in idle and value is not None}
    return {name: list(value) if isinstance(value, tuple) else value for name, value in shown.items()}


class _Table:
    """A TOML table from which keys are taken; what is left at the end is unknown."""

    def __init__(self, where: str, name: str, content: Any):
        self.where, self.name = where, name
        if not isinstance(content, dict):
            raise InletError(f"{where}: {name} must be a table.")
        self._left = dict(content)
        self._asked: list[str] = []

    def take(self, key: str, check: Callable[[Any], Any], default: Any = None) -> Any:
        """The checked value of a key; `check` raises ValueError with what would be right."""
        self._asked.append(key)
        if key not in self._left:
            return default
        try:
            return check(self._left.pop(key))
        except ValueError as fault:
            raise self.error(f"{key} must be {fault}") from None

    def table(self, name: str) -> _Table:
        self._asked.append(name)
        return _Table(self.where, f"[{name}]", self._left.pop(name, {}))

    def tables(self, name: str) -> list[_Table]:
        self._asked.append(name)
        content = self._left.pop(name, [])
        if not isinstance(content, list):
            raise InletError(f"{self.where}: write [[{name}]] with two brackets; steps are applied in order.")
        return [_Table(self.where, f"[[{name}]] step {i}", step) for i, step in enumerate(content, 1)]

    def finish(self) -> None:
        if self._left:
            unknown = ", ".join(self._left)
            hint = meant(next(iter(self._left)), self._asked)
            raise self.error(
                f"unknown key{'s' * (len(self._left) > 1)} {unknown}; known are {', '.join(self._asked)}{hint}"
            )

    def error(self, what: str) -> InletError:
        return InletError(f"{self.where}: {self.name + ': ' if self.name else ''}{what}.")


def _record(table: _Table, kind: type) -> Any:
    """A record of the table's keys, each checked, and all of them together."""
    given = {name: table.take(name, check) for name, check in CHECKS[kind].items()}
    table.finish()
    given = {name: value for name, value in given.items() if value is not None}
    record = kind(**given)
    fault = _contradiction(record, given)
    if fault:
        raise table.error(fault)
    return record


def _step(table: _Table) -> Step:
    kinds = {"resize": Resize, "crop": Crop, "pad": Pad, "blur": Blur}
    step = table.take("step", one_of(tuple(kinds)))
    if step is None:
        raise table.error('the key step is missing; write step = "resize", "crop", "pad" or "blur"')
    return _record(table, kinds[step])


def _contradiction(record: Any, given: dict[str, Any]) -> str | None:
    """Why these keys cannot stand together, or None. Keys that would have no effect are contradictions too."""
    if isinstance(record, Decode):
        return _decode_contradiction(record, given)
    if isinstance(record, Resize):
        return _resize_contradiction(record, given)
    if isinstance(record, Crop):
        chosen = [name for name in ("size", "fraction", "aspect", "margins") if name in given]
        if len(chosen) != 1 and sorted(chosen) != ["aspect", "fraction"]:
            return (
                "a crop needs one of size = [height, width], fraction = PART, aspect = [height, width], aspect with "
                "fraction, and margins = [top, bottom, left, right]"
            )
        if len(chosen) == 2 and record.fraction_rounding == "margin":
            return 'fraction_rounding = "margin" is not known together with aspect'
    if isinstance(record, Pad) and sum(name in given for name in ("size", "aspect", "margins")) != 1:
        return (
            "a pad needs one of size = [height, width], aspect = [height, width] and margins = [top, bottom, "
            "left, right]"
        )
    if isinstance(record, Blur) and record.sigma is None and record.kind != "binomial":
        return "a blur needs sigma, its standard deviation in pixels"
    if isinstance(record, Blur) and record.kind != "three-boxes" and record.taps is None:
        return "a blur needs taps, the odd number of pixels that its weights reach over"
    return _idle(record, given) if isinstance(record, Step) else None


def _decode_contradiction(record: Decode, given: dict[str, Any]) -> str | None:
    idle = [name for name in given if name.startswith("grey_") or name == "jpeg_grey"]
    if idle and record.colour != "grey":
        return f"{idle[0]} describes the conversion to grey, but colour is {record.colour}"
    if record.conversion == "grey-after-resize" and record.colour != "grey":
        return f'conversion = "grey-after-resize" describes the conversion to grey, but colour is {record.colour}'
    if record.jpeg_grey == "luma" and record.conversion == "grey-after-resize":
        return 'jpeg_grey = "luma" decodes to grey, which contradicts conversion = "grey-after-resize"'
    if record.jpeg == "fast" and record.jpeg_reduction:
        return 'jpeg_reduction is not known together with jpeg = "fast"'
    return None


def _resize_contradiction(record: Resize, given: dict[str, Any]) -> str | None:
    if sum(name in given for name in spec.RESIZE_TO) != 1:
        return (
            "a resize needs one of short_side = PIXELS, size = [height, width], within = [height, width], "
            "cover = [height, width] and factor = NUMBER"
        )
    if "filter" not in given:
        return f"a resize needs its filter: {', '.join(spec.FILTERS)}"
    if record.rounding.startswith("fixed") and not spec.fixed_point_fits(record):
        return (
            f'rounding = "{record.rounding}" is for the filters {", ".join(spec.FIXED_POINT)} without antialias '
            '(bicubic with cubic = -0.75, bicubic and lanczos4 with edges = "repeat"; in 8 bits only bilinear)'
        )
    if record.long_side == "closest-aspect" and not (record.within or record.cover):
        return 'long_side = "closest-aspect" is known for within and cover'
    if record.reduce_above and not uses_pillow(record):
        return "reduce_above is known for the filters of Pillow, with their usual keys"
    if record.scale == "float64" and record.filter != "nearest":
        return 'scale = "float64" is known for the filter nearest; places of kernels are exact or in float32'
    return _idle(record, given)


def _idle(record: Step, given: dict[str, Any]) -> str | None:
    """The first key that has no effect, in words."""
    return next(
        (f"{name} has no effect {why}" for name, why in spec.idle_fields(record).items() if name in given), None
    )


def _values(table: _Table, channels: int) -> Values:
    values = _record(table, Values)
    range_, mean, std = values.range, values.mean, values.std
    if range_[0] == range_[1]:
        raise table.error("range gives black and white the same value")
    for name, numbers in (("mean", mean), ("std", std)):
        if numbers is not None and len(numbers) != channels:
            raise table.error(
                f"{name} has {len(numbers)} numbers, but the image has {channels} channel{'s' * (channels > 1)}"
            )
    if std is not None and 0 in std:
        raise table.error("std contains 0")
    if values.per_image != "none" and (mean or std):
        raise table.error(
            f'per_image = "{values.per_image}" takes the mean and the deviation of each image; drop mean and std'
        )
    _check_units(table, values)
    return values


def _check_units(table: _Table, values: Values) -> None:
    """Raises InletError where mean and std are plainly in other units than the range."""
    if values.mean is None or not any(values.mean):
        return
    width = abs(values.range[1] - values.range[0])
    largest = max(map(abs, (*values.mean, *(values.std or ()))))
    if width >= 100 and largest <= 1:
        raise table.error(
            f"mean = {list(values.mean)} is in units of 0 to 1, but range = {list(values.range)}; write range = [0, "
            "1], or give mean and std in grey levels"
        )
    if width <= 2 and max(map(abs, values.mean)) > 3:
        raise table.error(
            f"mean = {list(values.mean)} is in grey levels, but range = {list(values.range)}; write range = [0, 255], "
            "or divide mean and std by 255"
        )


def _tensor(table: _Table, values: Values) -> Tensor:
    layout = table.take("layout", one_of(spec.LAYOUTS), "NCHW")
    dtype = table.take("dtype", one_of(spec.DTYPES), "float32")
    table.finish()
    if dtype == "uint8" and (values.range != (0.0, 255.0) or values.mean or values.std):
        raise table.error("dtype uint8 contradicts [values]: 8-bit tensors need range = [0, 255] without mean and std")
    return Tensor(layout, dtype)


def _check_frame(inlet: Inlet, where: str) -> None:
    """Raises InletError if a step asks for what the step before it cannot leave, for no image at all."""
    least: tuple[int, int] | None = None
    if inlet.decode.conversion != "first" and not any(isinstance(step, Resize) for step in inlet.frame):
        raise InletError(f'{where}: conversion = "{inlet.decode.conversion}" needs a resize in the frame.')
    for index, step in enumerate(inlet.frame, 1):
        name = f"{where}: [[frame]] step {index}"
        if inlet.decode.conversion == "after-resize" and isinstance(step, Resize) and not uses_pillow(step):
            raise InletError(f'{name}: conversion = "after-resize" is known for resizes by Pillow only.')
        given = None if isinstance(step, Blur) else step.size
        if (
            isinstance(step, Crop)
            and given
            and least
            and not step.missing
            and (given[0] > least[0] or given[1] > least[1])
        ):
            raise InletError(
                f"{where}: the crop to {given[0]} x {given[1]} is larger than what the step before it "
                f"leaves ({least[0]} x {least[1]})."
            )
        if isinstance(step, Pad) and given and least and (given[0] < least[0] or given[1] < least[1]):
            raise InletError(
                f"{name} pads to {given[0]} x {given[1]}, which is smaller than what the "
                f"step before it leaves ({least[0]} x {least[1]})."
            )
        if isinstance(step, Resize) and step.box == "unreduced" and index > 1:
            raise InletError(f'{name}: box = "unreduced" is for the first step.')
        least = _least_after(least, step)


def _least_after(least: tuple[int, int] | None, step: Step) -> tuple[int, int] | None:
    """A size that no image is smaller than after a step, as far as that is known."""
    if isinstance(step, Blur):
        return least
    if isinstance(step, Resize) and step.short_side and step.enlarge:
        return step.short_side, step.short_side
    if isinstance(step, Resize) and step.size is None:
        return step.cover if step.enlarge else None
    if step.centring == "equal" if not isinstance(step, Resize) else False:
        return size_after(least, step) if least else None
    return step.size or (size_after(least, step) if least else None)
