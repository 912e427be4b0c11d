"""What a match found, in sentences."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zygal.wording import counted, percent, short_number

if TYPE_CHECKING:
    from zygal.evidence.rounding import OwnRounding

ILL_CONDITIONED = 1e-5
"""Of the spread: float32 keeps well-conditioned classifiers within some 1e-7."""


def shares_sentence(shrunk) -> str:
    """The layers that add most to the error."""
    largest = [f"{share.layer} {percent(share.share)}" for share in shrunk.shares[:5]]
    return f"Shares of the error, as they were measured when it was shrunk: {', '.join(largest)}."


def departure_sentence(departure) -> str:
    """The first layer whose output differs from the recorded one."""
    if departure.layer is None:
        return (
            f"Likely cause: the step behind layer {departure.before}. All "
            f"{counted(departure.compared, 'layer')} that were compared agree."
        )
    before = f" All layers up to {departure.before} agree." if departure.before else ""
    return (
        f"Likely cause: layer {departure.layer} is the first whose output differs, by "
        f"{short_number(departure.difference)} of its recorded range.{before} "
        f"{counted(departure.compared, 'layer')} compared."
    )


def rounding_sentence(rounding: OwnRounding) -> str:
    """What float64 says about the difference of the scores."""
    own, framework, runtime = (short_number(each) for each in (rounding.own, rounding.framework, rounding.runtime))
    images = counted(rounding.images, "recorded tensor")
    if rounding.by_conversion:
        return (
            f"On {images} the recorded scores are {framework} of the spread away from the artifact in float64, and "
            f"rounding moves this model by {own} only: the artifact is another model than the recorded one, or its "
            "conversion is wrong."
        )
    if rounding.by_runtime:
        return (
            f"On {images} the artifact in float64 gives the recorded scores within {framework} of the spread, but the "
            f"runtime is {runtime} away: the conversion is right, the runtime computes this model less exactly; try "
            "another release of it."
        )
    lead = (
        f"On {images} float32 differs from float64 by {own} of the spread for this model; the framework is "
        f"{framework} away from float64 and the runtime {runtime}: "
    )
    if rounding.own < ILL_CONDITIONED:
        return lead + "the conversion is right."
    return (
        lead + "the conversion is right, the model is ill-conditioned. Two scores that are closer than "
        f"{short_number(rounding.margin)} may come in another order on any machine; --model-limit "
        f"{short_number(4 * max(rounding.framework, rounding.runtime))} allows for it."
    )


def inlet_sentences(found) -> list[str]:
    """What should be otherwise in the inlet, and what that changes."""
    cause = found.cause
    lead = "Likely cause:" if len(cause.findings) == 1 else "Likely causes:"
    listed = (
        cause.findings if len(cause.findings) == 1 else [f"({n}) {each}" for n, each in enumerate(cause.findings, 1)]
    )
    after = f"{short_number(cause.residual_after)} grey levels"
    if cause.residual_before is None:
        effect = f"Then the tensors have the recorded shape, and the largest difference is {after}"
    else:
        effect = f"Fixing it lowers the largest difference from {short_number(cause.residual_before)} to {after}"
    if found.changed_top_1:
        effect += ", and the number of changed top-1 classes from {} to {}".format(*found.changed_top_1)
    return [f"{lead} {'; '.join(listed)}.", f"{effect}."]
