"""The report of zygal convert."""

from __future__ import annotations

from zygal.cli.tables import show_facts
from zygal.commands.convert import ConvertOutcome
from zygal.wording import file_size

RAW_INPUT = "uint8 [N, H, W, 3]   raw pixels, RGB, all images of a batch of one size"


def show(out, outcome: ConvertOutcome) -> None:
    """What the artifact takes and returns, and what is inside."""
    found, request = outcome.found, outcome.request
    stored = ["inlet" if request.inlet else "inlet (that of the source)"] if found.inlet else []
    stored += [f"{outcome.classes_named} labels ({outcome.labels_order})"] if outcome.classes_named else []
    missing = [option for option, value in (("--inlet", found.inlet), ("--labels", outcome.classes_named)) if not value]
    rows = [
        ("input", f"{found.input_name}   " + (RAW_INPUT if found.raw_pixels else str(found.input_type))),
        ("output", f"{found.output_name}   {found.output_type}"),
        (
            "nodes",
            f"{found.nodes_before}, as they came"
            if request.as_it_is
            else f"{found.nodes_before} in the source, {found.nodes_after} in the artifact",
        ),
        ("stored inside", ", ".join([*stored, "origin"])),
        *(
            [
                (
                    "not inside",
                    f"{' and '.join(each.removeprefix('--') for each in missing)} (add {' and '.join(missing)})",
                )
            ]
            if missing
            else []
        ),
        (
            "format",
            f"{found.format}{f' opset {found.opset}' if found.opset else ''}, {file_size(found.artifact_bytes)}",
        ),
        *(
            [("weights", f"{found.weights}   keep it in the folder of the artifact; processes can share it in memory")]
            if found.weights
            else []
        ),
    ]
    show_facts(out, f"{request.source} -> {found.artifact}", rows)
