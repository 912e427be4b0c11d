"""An inlet as text, for reports and figures."""

from __future__ import annotations

from zygal.inlet.specification import GREY_WEIGHTS, Blur, Crop, Decode, Inlet, Pad, Resize, Step, Values

_CENTRED = {
    "down": "centre",
    "nearest": "centre (margins rounded to the nearest pixel)",
    "up": "centre (margins rounded up)",
    "start": "top left",
    "end": "bottom right",
    "equal": "centre (the same margin on both sides)",
    "unrounded": "centre (margins from the size before rounding)",
}


def describe_stages(inlet: Inlet) -> list[tuple[str, str]]:
    """Pairs of a stage and what it does."""
    return [
        ("decode", describe_decode(inlet.decode)),
        ("frame", ", then ".join(describe_step(step) for step in inlet.frame) or "unchanged"),
        ("values", describe_values(inlet.values)),
    ]


def describe_inlet(inlet: Inlet) -> str:
    """The whole inlet in one line."""
    return "; ".join(text for _, text in describe_stages(inlet)) + f"; {inlet.tensor.layout}"


def describe_value(value: object) -> str:
    """A field's value as the inlet's file would have it."""
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, float):
        return f"{value:g}"
    return f"[{', '.join(describe_value(each) for each in value)}]" if isinstance(value, tuple) else str(value)


def describe_decode(decode: Decode) -> str:
    """The decode stage in words."""
    parts = [decode.colour if decode.colour != "grey" else _describe_grey(decode)]
    parts.append(f"EXIF rotation {'applied' if decode.exif == 'apply' else 'ignored'}")
    dropped = decode.transparency == "drop"
    parts.append("transparency dropped" if dropped else f"transparency over {decode.transparency}")
    if decode.sixteen_bit != "refuse":
        parts.append(f"16 bits to 8: {decode.sixteen_bit}")
    if decode.polarity != "as-is":
        parts.append(
            "light and dark inverted" + (" where the border is bright" if decode.polarity == "dark-ground" else "")
        )
    if decode.mirror != "none":
        parts.append("mirrored " + ("in both directions" if decode.mirror == "both" else decode.mirror + "ly"))
    if decode.jpeg == "fast":
        parts.append("JPEG files by the fast inverse transform")
    if decode.jpeg_reduction:
        parts.append("JPEG files reduced by the decoder to no less than {} x {}".format(*decode.jpeg_reduction))
    if decode.jpeg_grey == "luma":
        parts.append("grey from the luma plane of JPEG files")
    if decode.conversion != "first":
        parts.append(("grey made" if decode.conversion.startswith("grey") else "converted") + " after the resize")
    return ", ".join(parts)


def _describe_grey(decode: Decode) -> str:
    parts = "grey"
    if decode.grey_weights != GREY_WEIGHTS:
        parts += " (" + " ".join(f"{weight:.4g}" for weight in decode.grey_weights) + " of red, green, blue)"
    if decode.grey_rounding != "nearest":
        parts += " not rounded" if decode.grey_rounding == "none" else f" rounded {decode.grey_rounding}"
    return parts + (" in three channels" if decode.grey_channels == 3 else "")


def describe_step(step: Step) -> str:
    """One step of the frame in words."""
    if isinstance(step, Resize):
        return _describe_resize(step)
    if isinstance(step, Blur):
        how = f"{step.taps} x {step.taps} pixels" if step.taps else step.kind
        width = f"sigma {step.sigma:g} pixels" if step.sigma else "binomial weights"
        return f"blur with {width} ({how}, rounding {step.rounding})"
    if step.margins:
        by = " ".join(map(str, step.margins)) + " pixels (top, bottom, left, right)"
        return f"crop {by}" if isinstance(step, Crop) else f"pad {by} with {_border(step)}"
    if isinstance(step, Pad):
        to = f"{step.size[0]} x {step.size[1]}" if step.size else f"aspect ratio {step.aspect[0]} : {step.aspect[1]}"
        return f"pad to {to} with {_border(step)}, image at {_CENTRED[step.centring]}"
    if step.aspect is not None:
        part = f"{step.fraction:.4g} of the largest part with" if step.fraction else "to"
        return f"crop {part} aspect ratio {step.aspect[0]} : {step.aspect[1]}, {_CENTRED[step.centring]}"
    if step.fraction is not None:
        how = f" ({step.fraction_rounding} rounded down)"
        return f"crop {step.fraction:.4g} of both sides, {_CENTRED[step.centring]}{how}"
    filled = f" (smaller images filled with {step.missing})" if step.missing else ""
    return f"crop {step.size[0]} x {step.size[1]}, {_CENTRED[step.centring]}{filled}"


def _border(step: Pad) -> str:
    return (
        step.colour
        if step.border == "colour"
        else {
            "repeat": "its border pixels",
            "reflect": "its mirror image",
            "symmetric": "its mirror image (border pixel twice)",
        }[step.border]
    )


def _describe_resize(step: Resize) -> str:
    to = {
        "size": lambda value: f"to {value[0]} x {value[1]}",
        "within": lambda value: f"to fit within {value[0]} x {value[1]}",
        "cover": lambda value: f"to cover {value[0]} x {value[1]}",
        "short_side": lambda value: f"short side to {value}",
        "factor": lambda value: f"both sides by {value:g}",
    }
    name = next(name for name in to if getattr(step, name) is not None)
    # Fields with their default values are left out.
    usual, parts = Resize(), [step.filter]
    for field in (
        "grid",
        "antialias",
        "edges",
        "cubic",
        "rounding",
        "scale",
        "order",
        "grid_scale",
        "prefilter",
        "box",
        "enlarge",
        "reduce_above",
    ):
        value = getattr(step, field)
        if value != getattr(usual, field):
            words = {
                "antialias": "not antialiased",
                "enlarge": "smaller images left as they are",
                "cubic": f"cubic {step.cubic:g}",
                "reduce_above": f"reduced by whole numbers above {value} times the size",
            }
            parts.append(words.get(field, f"{field.replace('_', ' ')} {value}"))
    if step.long_side != "down" and not step.size:
        parts.append(
            f"long side rounded {step.long_side}"
            if step.long_side != "closest-aspect"
            else "long side by the closest aspect ratio"
        )
    return f"resize {to[name](getattr(step, name))} ({', '.join(parts)})"


def describe_values(values: Values) -> str:
    """The values stage in words."""
    parts = f"0..255 to {values.range[0]:g}..{values.range[1]:g}"
    for name, given in (("mean", values.mean), ("std", values.std)):
        parts += f", {name} " + " ".join(f"{each:g}" for each in given) if given else ""
    of_image = {
        "none": "",
        "standardise": ", each image standardised (mean 0, std 1)",
        "standardise-channels": ", each channel of each image standardised (mean 0, std 1)",
        "stretch": ", each image stretched to 0..1",
        "stretch-channels": ", each channel of each image stretched to 0..1",
        "by-maximum": ", each image divided by its largest number",
    }
    return parts + of_image[values.per_image]
