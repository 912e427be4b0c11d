"""The report of zygal inlet recover."""

from __future__ import annotations

from zygal.cli.reports.verdict import show_gates, show_verdict
from zygal.cli.tables import show_facts
from zygal.commands.recover.outcome import RecoverOutcome
from zygal.inlet.description import describe_inlet, describe_stages, describe_value
from zygal.inlet.sizes import tensor_shape
from zygal.wording import counted, short_number

_LISTED = 6


def show(out, outcome: RecoverOutcome) -> None:
    """The inlet, how well it fits, what is not determined, and the gate."""
    request, inlet = outcome.request, outcome.inlet
    rows = list(describe_stages(inlet))
    shape = tensor_shape(inlet)
    size = list(shape) if shape else "of the size of each image"
    rows.append(("tensor", f"{inlet.tensor.dtype} {size}, {inlet.tensor.layout}"))
    rows += _by_tensors(outcome) if outcome.by_tensors else _by_scores(outcome.by_scores)
    target = request.output if not outcome.failed_gates else f"best inlet found ({request.output} is not written)"
    if outcome.found_nothing:
        target = f"no inlet found ({request.output} is not written)"
        rows = [
            ("nearest tried", describe_stages(inlet)[1][1]),
            *(row for row in rows if row[0] in ("max error", "inlets tried")),
        ]
    show_facts(out, f"{request.witness} -> {target}", rows)
    out.print()
    if outcome.failed_gates and outcome.by_tensors:
        _show_images(out, outcome.by_tensors)
    undecided = outcome.by_tensors.undecided if outcome.by_tensors else ()
    if undecided and not outcome.failed_gates:
        facts = [
            (
                each.field,
                f"{describe_value(each.chosen)} is written; these fit as well: "
                f"{', '.join(map(describe_value, each.others))}. To decide, add {each.decided_by}.",
            )
            for each in undecided
        ]
        show_facts(out, "Not determined by these images", facts)
        out.print()
    if outcome.failed_gates or outcome.undecided_gates:
        show_gates(out, outcome.gates)
    found = outcome.by_tensors or outcome.by_scores
    held = found.held if outcome.by_scores else len(found.held)
    searched = f"{counted(found.images - held, 'image')}"
    show_verdict(
        out, outcome, f" ({searched} searched with, {counted(held, 'image')} held back)" if held else f" on {searched}"
    )


def _levels(value: float) -> str:
    number = short_number(value)
    return f"{number} grey {'level' if number == '1' else 'levels'}"


def _by_tensors(outcome: RecoverOutcome) -> list[tuple[str, str]]:
    found = outcome.by_tensors
    rows = [
        (
            "max error",
            f"{_levels(found.residual)} ({outcome.match_quality}); mean {short_number(found.mean_residual)}; "
            f"99.9 % of the values within {_levels(found.nearly_all)}",
        ),
    ]
    if found.held:
        largest = max(each.largest for each in found.held)
        rows.append(
            (
                "held back",
                f"{counted(len(found.held), 'image')} that the search did not see: max error {_levels(largest)}",
            )
        )
    if found.runner_up:
        field, value, residual = found.runner_up
        rows.append(("second best", f"{field} = {describe_value(value)}: max error {_levels(residual)}"))
    if found.library:
        rows.append(("resize", f"{found.library}'s"))
    return [*rows, ("inlets tried", str(found.tried))]


def _show_images(out, found) -> None:
    """Which images are exact and which are off, by how much and where."""
    off = [each for each in found.per_image if not each.explained]
    exact = len(found.per_image) - len(off)
    facts = []
    by_kind: dict[str, list] = {}
    for each in found.per_image:
        by_kind.setdefault(each.kind.partition(" ")[0], []).append(each)
    for kind, images in sorted(by_kind.items()):
        good = sum(each.explained for each in images)
        facts.append((f"{kind} files", f"{good} of {len(images)} explained"))
    for each in sorted(off, key=lambda each: -each.largest)[:_LISTED]:
        if each.largest > 1e6:
            facts.append((each.image, f"{each.kind}: the inlet cannot be applied, or makes another size"))
        else:
            facts.append(
                (
                    each.image,
                    f"{each.kind}: {each.share:.3%} of the values off, by up to {_levels(each.largest)}, {each.where}",
                )
            )
    if len(off) > _LISTED:
        facts.append(("", f"and {len(off) - _LISTED} more"))
    show_facts(out, f"{exact} of {counted(len(found.per_image), 'image')} explained", facts)
    out.print()


def _by_scores(found) -> list[tuple[str, str]]:
    rows = [
        ("max error", f"{short_number(found.largest)} of the spread of the scores; mean {short_number(found.mean)}"),
        ("changed top-1", f"{found.changed_top_1} of {counted(found.images - found.held, 'image')}"),
    ]
    if found.held:
        rows.append(
            (
                "held back",
                f"{counted(found.held, 'image')} that the search did not see: max error "
                f"{short_number(found.held_largest)} of the spread",
            )
        )
    if found.runner_up:
        second, mean = found.runner_up
        rows.append(("second best", f"mean error {short_number(mean)}: {describe_inlet(second)}"))
    return [*rows, ("inlets tried", f"{found.tried}, by their scores")]
