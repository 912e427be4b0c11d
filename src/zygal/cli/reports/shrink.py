"""The report of zygal shrink."""

from __future__ import annotations

import numpy as np

from zygal.cli.reports.verdict import FAILED, PASSED
from zygal.cli.tables import show_facts, show_sentence, show_table
from zygal.commands.shrink.outcome import ShrinkOutcome
from zygal.errors import some_of
from zygal.wording import counted, file_size, milliseconds, percent, points, short_number

LISTED_KEPT = 6


def show(out, outcome: ShrinkOutcome) -> None:
    """What was taken, what was tried, and which layers add most to the error."""
    if outcome.halved:
        _show_half(out, outcome)
        return
    request, found, final = outcome.request, outcome.found, outcome.final
    if final:
        show_facts(out, f"{request.artifact} -> {request.output}", _facts(outcome, final))
        out.print()
    _show_candidates(out, outcome)
    if request.listed:
        _show_layers(out, found, request.listed)
    if final:
        speed = f", {times(final.speed)}" if final.speed else ""
        style = PASSED if not final.speed or final.speed.value >= 1 else "bold yellow"
        show_sentence(
            out,
            f"{request.output}: top-1 equal on {percent(final.agreement.value)} of "
            f"{counted(len(outcome.given.tensors), 'image')}{speed}, "
            f"{short_number(final.size_bytes / found.float_bytes)} of the size.",
            style,
        )
        for sentence in outcome.conclusions:
            show_sentence(out, sentence, FAILED)


def times(speed) -> str:
    """A speed in words."""
    return (
        f"{short_number(speed.value)} times as fast (95 % CI {short_number(speed.low)} to {short_number(speed.high)})"
    )


def _facts(outcome: ShrinkOutcome, final) -> list[tuple[str, str]]:
    found, request = outcome.found, outcome.request
    form = found.form
    activations = (
        f"{'signed' if form.dtype == np.int8 else 'unsigned'} activations, {form.weight_bits}-bit "
        f"weights{', channels equalised across layers' if found.equalised else ''}"
    )
    processor = f"; this processor: {', '.join(outcome.instructions)}" if outcome.instructions else ""
    low, high = percent(final.agreement.low), percent(final.agreement.high)
    worst = max(found.clipped, key=found.clipped.get)
    middle = float(np.median(list(found.clipped.values())))
    settled = float(np.median(found.moved)) if found.moved else 0.0
    return [
        ("calibrated", outcome.given.where),
        ("size", f"{file_size(found.float_bytes)} -> {file_size(final.size_bytes)}"),
        *(
            [
                (
                    "speed",
                    f"{times(final.speed)}, batch {request.batch}, "
                    f"{counted(request.threads, 'core') if request.threads else 'all cores'}",
                )
            ]
            if final.speed
            else []
        ),
        (
            "agreement",
            f"top-1 equal on {percent(final.agreement.value)} of the images (95 % CI {low} to {high}); "
            f"{percent(final.expected.value)} expected by the margins ({percent(final.expected.low)} to "
            f"{percent(final.expected.high)})",
        ),
        ("scores", f"differ by {short_number(final.error)} of their spread (root mean square)"),
        *([("accuracy", f"{points(-final.lost)} points on {request.labelled}")] if final.lost is not None else []),
        ("in 8 bits", f"{counted(found.in_8_bits, 'operator')}: {activations}{processor}"),
        ("in float", some_of(list(found.kept), LISTED_KEPT) if found.kept else "no convolution and no matrix product"),
        (
            "clipped",
            f"{_small(middle)} of the values in the median of the layers, {_small(found.clipped[worst])} at "
            f"most ({worst})",
        ),
        (
            "ranges",
            f"would be up to {percent(max(found.moved, default=0.0))} different with half of the images "
            f"({percent(settled)} in the median)",
        ),
    ]


def _small(share: float) -> str:
    return "none" if share == 0 else f"{100 * share:.2g} %"


def _show_candidates(out, outcome: ShrinkOutcome) -> None:
    found, choice = outcome.found, outcome.found.choice
    with_loss = any(point.lost is not None for point in choice.points)
    columns = [
        "candidate",
        "",
        "top-1\nequal",
        "expected\nat least",
        "error:\nof spread",
        *(["points\nlost"] if with_loss else []),
        "times as\nfast",
        "size",
    ]
    rows = []
    for point in (*choice.points, *([choice.ends] if choice.ends and choice.ends not in choice.points else [])):
        mark = (
            "taken" if point is choice.final else "nearest" if choice.final is None and point is choice.nearest else ""
        )
        lost = [points(point.lost, signed=False)] if with_loss else []
        speed = short_number(point.speed.value) if point.speed else "-"
        name = f"{point.name.removesuffix(' kept')} in float"
        rows.append(
            [
                name,
                mark,
                percent(point.agreement.value),
                percent(point.expected_at_least),
                short_number(point.error),
                *lost,
                speed,
                short_number(point.size_bytes / found.float_bytes),
            ]
        )
    show_table(out, columns, rows, left=2, optional=("size", "expected\nat least"))


def _show_layers(out, found, listed: int) -> None:
    whole = sum(layer.damage**2 for layer in found.layers) or 1.0
    largest = sorted(found.layers, key=lambda layer: layer.damage, reverse=True)[:listed]
    rows = [
        [
            layer.name,
            layer.operator,
            short_number(layer.damage),
            percent(layer.damage**2 / whole),
            *(
                milliseconds(each) if each else "joined" if layer.result else "-"
                for each in (layer.float_seconds, layer.seconds)
            ),
        ]
        for layer in largest
    ]
    show_table(
        out,
        ["adds most to the error", "operator", "alone:\nof spread", "share of\nthe error", "float\nms", "8 bits\nms"],
        rows,
        left=2,
    )


def _show_half(out, outcome: ShrinkOutcome) -> None:
    half, request = outcome.halved, outcome.request
    low, high = percent(half.top_1_agreement.low), percent(half.top_1_agreement.high)
    show_facts(
        out,
        f"{request.artifact} -> {request.output}",
        [
            ("weights", "float16 in the file, float32 when it is loaded: no speed is gained"),
            (
                "size",
                f"{file_size(half.float_bytes)} -> {file_size(half.bytes)} "
                f"({short_number(half.bytes / half.float_bytes)})",
            ),
            ("compared", outcome.given.where),
            (
                "agreement",
                f"top-1 equal on {percent(half.top_1_agreement.value)} of the images (95 % CI {low} to {high})",
            ),
            (
                "scores",
                f"differ by {short_number(half.largest_difference_of_spread)} of their spread at the most, "
                f"{short_number(half.score_error_of_spread)} in the root mean square",
            ),
        ],
    )
