"""An inlet as text, for reports and figures."""

from __future__ import annotations

from dataclasses import fields

from zygal.inlet.specification import GREY_WEIGHTS, Decode, Inlet, Pad, Resize, Step, Values

_CENTRED = {
    "down": "centre",
    "nearest": "centre (margins rounded to the nearest pixel)",
    "up": "centre (margins rounded up)",
    "start": "top left",
    "end": "bottom right",
}


def describe_stages(inlet: Inlet) -> list[tuple[str, str]]:
    """Pairs of a stage and what it does."""
    return [
        ("decode", describe_decode(inlet.decode)),
        ("frame", ", then ".join(describe_step(step) for step in inlet.frame) or "unchanged"),
        ("values", describe_values(inlet.values)),
    ]


def describe_inlet(inlet: Inlet) -> str:
    return "; ".join(text for _, text in describe_stages(inlet)) + f"; {inlet.tensor.layout}"


def describe_value(value: object) -> str:
    """A field's value as the inlet's file would have it."""
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, float):
        return f"{value:g}"
    return f"[{', '.join(describe_value(each) for each in value)}]" if isinstance(value, tuple) else str(value)


def describe_decode(decode: Decode) -> str:
    parts = [decode.colour if decode.colour != "grey" else _describe_grey(decode)]
    parts.append(f"EXIF rotation {'applied' if decode.exif == 'apply' else 'ignored'}")
    dropped = decode.transparency == "drop"
    parts.append("transparency dropped" if dropped else f"transparency over {decode.transparency}")
    if decode.sixteen_bit != "refuse":
        parts.append(f"16 bits to 8: {decode.sixteen_bit}")
    if decode.polarity == "inverted":
        parts.append("light and dark inverted")
    if decode.mirror != "none":
        parts.append("mirrored " + ("in both directions" if decode.mirror == "both" else decode.mirror + "ly"))
    return ", ".join(parts)


def _describe_grey(decode: Decode) -> str:
    parts = "grey"
    if decode.grey_weights != GREY_WEIGHTS:
        parts += " (" + " ".join(f"{weight:.4g}" for weight in decode.grey_weights) + " of red, green, blue)"
    if decode.grey_rounding != "nearest":
        parts += " not rounded" if decode.grey_rounding == "none" else f" rounded {decode.grey_rounding}"
    return parts + (" in three channels" if decode.grey_channels == 3 else "")


def describe_step(step: Step) -> str:
    if isinstance(step, Resize):
        return _describe_resize(step)
    if isinstance(step, Pad):
        to = f"{step.size[0]} x {step.size[1]}" if step.size else f"aspect ratio {step.aspect[0]} : {step.aspect[1]}"
        return f"pad to {to} with {step.colour}, image at {_CENTRED[step.centring]}"
    if step.fraction is not None:
        how = f" ({step.fraction_rounding} rounded down)"
        return f"crop {step.fraction:.4g} of both sides, {_CENTRED[step.centring]}{how}"
    if step.aspect is not None:
        return f"crop to aspect ratio {step.aspect[0]} : {step.aspect[1]}, {_CENTRED[step.centring]}"
    return f"crop {step.size[0]} x {step.size[1]}, {_CENTRED[step.centring]}"


def _describe_resize(step: Resize) -> str:
    if step.size:
        to = f"to {step.size[0]} x {step.size[1]}"
    elif step.within:
        to = f"to fit within {step.within[0]} x {step.within[1]}"
    else:
        to = f"short side to {step.short_side}"
    # Fields with their default values are left out.
    usual = Resize()
    named = ("grid", "antialias", "edges", "cubic", "rounding", "scale", "order")
    other = [
        each.name
        for each in fields(Resize)
        if each.name in named and getattr(step, each.name) != getattr(usual, each.name)
    ]
    parts = [step.filter]
    for name in other:
        value = getattr(step, name)
        parts.append(
            "not antialiased" if name == "antialias" else f"{name} {value:g}" if name == "cubic" else f"{name} {value}"
        )
    if step.long_side != "down" and not step.size:
        parts.append(f"long side rounded {step.long_side}")
    return f"resize {to} ({', '.join(parts)})"


def describe_values(values: Values) -> str:
    parts = f"0..255 to {values.range[0]:g}..{values.range[1]:g}"
    for name, given in (("mean", values.mean), ("std", values.std)):
        parts += f", {name} " + " ".join(f"{each:g}" for each in given) if given else ""
    of_image = {
        "none": "",
        "standardise": ", each image standardised (mean 0, std 1)",
        "standardise-channels": ", each channel of each image standardised (mean 0, std 1)",
        "stretch": ", each image stretched to 0..1",
    }
    return parts + of_image[values.per_image]
