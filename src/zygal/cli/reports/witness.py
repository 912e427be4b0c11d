"""The report of zygal witness."""

from __future__ import annotations

from zygal.cli.tables import show_facts
from zygal.commands.witness import WitnessOutcome
from zygal.wording import counted, file_size


def show(out, outcome: WitnessOutcome) -> None:
    """What was recorded."""
    found, request = outcome.found, outcome.request
    images = f"{counted(len(found.images), 'image')} of {request.images}"
    if found.skipped:
        images += f"; {counted(len(found.skipped), 'file')} could not be read (exit code {outcome.exit_code})"
    tensors = "none"
    if found.tensors is not None:
        tensors = f"{found.tensors.dtype} {list(found.tensors.shape)}, from the {found.preprocessing.kind}"
    scores = f"{counted(found.scores.shape[1], 'class')}, from {found.scores.min():.3f} to {found.scores.max():.3f}"
    rows = [
        ("framework", f"{found.framework} {found.framework_version}".strip()),
        ("images", images),
        ("tensors", tensors),
        ("scores", scores),
        *(
            [
                (
                    "layers",
                    f"outputs of {len(found.layers.names)} layers for {counted(len(found.layers.quantiles), 'image')}",
                )
            ]
            if found.layers
            else []
        ),
        ("file size", file_size(outcome.size_bytes)),
    ]
    show_facts(out, f"{request.source or request.from_arrays} -> {request.output}", rows)
