"""zygal match: an artifact and our preprocessing against a recording."""

from __future__ import annotations

from dataclasses import asdict

from zygal.cli.options import limit, new_command
from zygal.cli.output import check_json, console, counted, progress_bar, short_number, show_table, warn, write_json


def register(commands) -> None:
    command = new_command(
        commands,
        "match",
        "Checks preprocessing and predictions against a witness, gate by gate: A our tensors, B the model, C both together.",
        "zygal match channel_marks.onnx --witness channel_marks.witness --images reference",
    )
    command.add_argument("artifact", metavar="ARTIFACT", help="the ONNX file to check")
    command.add_argument("--witness", metavar="FILE", required=True, help="the recording of the training framework")
    command.add_argument(
        "--images", metavar="DIR", help="the folder of the recorded images; without it only B is checked"
    )
    command.add_argument("--inlet", metavar="FILE", help="check this inlet instead of the one inside the artifact")
    command.add_argument("--tensor-limit", metavar="LEVELS", type=limit, default=0.5,
                         help="largest difference of tensors, in grey levels (0.5)")  # fmt: skip
    command.add_argument("--model-limit", metavar="PART", type=limit, default=1e-4,
                         help="largest score difference of the model, as a part of the recorded spread (0.0001)")  # fmt: skip
    command.add_argument("--end-limit", metavar="PART", type=limit, default=1e-2,
                         help="largest score difference end to end, as a part of the recorded spread (0.01)")  # fmt: skip
    command.add_argument(
        "--worst", metavar="COUNT", type=int, default=3, help="how many of the worst images to list (3)"
    )
    command.add_argument(
        "--write-inlet", metavar="FILE", help="write the corrected inlet there if the cause of a break of A is found"
    )
    command.add_argument(
        "--sheet", metavar="PNG", help="draw the images that differ most: both top threes and where the tensors differ"
    )
    command.set_defaults(run=run)


def run(options) -> int:
    from zygal.artifact import read_artifact
    from zygal.engines.runtime import RawPixelEngine, RuntimeEngine
    from zygal.evidence.match import Limits, match
    from zygal.evidence.witness import read_witness
    from zygal.files import check_writable, write_text
    from zygal.inlet import format_inlet, read_inlet

    for output in filter(None, (options.write_inlet, options.sheet)):
        check_writable(output)
    check_json(options.json)
    artifact = read_artifact(options.artifact)
    recorded = read_witness(options.witness)
    inside = artifact.metadata.inlet if artifact.metadata.tensor else None
    fed = ("N", *inside.tensor_shape()) if inside else next(iter(artifact.inputs.values()))[1]
    witness = recorded.fed_as(fed)
    if witness is not recorded:
        warn("the recorded tensors were turned to the layout that the artifact takes")
    inlet = read_inlet(options.inlet) if options.inlet else artifact.metadata.inlet
    limits = Limits(options.tensor_limit, options.model_limit, options.end_limit)
    if inside:
        engine = RawPixelEngine(options.artifact, artifact.metadata.tensor, fed[1:], inside.tensor.dtype)
    else:
        engine = RuntimeEngine(options.artifact)
    with progress_bar("comparing") as progress:
        result = match(engine, witness, inlet, options.images, limits, progress, artifact.metadata.labels)
    origin = artifact.metadata.origin
    if origin and origin.source_sha256 != witness.source_sha256:
        warn(f"the artifact was made from {origin.source}, but the witness recorded another file, {witness.source}")
    for note in result.notes:
        warn(note)
    for name, reason in result.unreadable:
        warn(f"unreadable here: {name}: {reason.rstrip('.')}")
    labels = artifact.metadata.labels
    if options.write_inlet and result.cause:
        write_text(options.write_inlet, format_inlet(result.cause.inlet))
    elif options.write_inlet:
        warn(f"{options.write_inlet} was not written: there is no corrected inlet")
    _show(result, options, witness, engine.name, labels)
    if options.sheet:
        _draw_sheet(result, options, witness, inlet, labels)
    write_json(options.json, _document(result, options, limits, labels))
    return 0 if result.passes else 1


def _show(result, options, witness, runtime: str, labels) -> None:
    from rich.text import Text

    out = console()
    out.print(f"{options.artifact} on {runtime}, against {options.witness} "
              f"({counted(len(witness.images), 'image')}, {witness.framework} {witness.framework_version})")  # fmt: skip
    out.print()
    rows = []
    for gate in result.gates:
        measured = gate.explanation or "not measurable" if gate.measured is None else short_number(gate.measured)
        verdict = Text("holds", style="green") if gate.passes else Text("BREAKS", style="bold red")
        rows.append([gate.comparison, gate.asks, verdict, measured, f"{short_number(gate.limit)} {gate.unit}"])
    show_table(out, ["gate", "what is compared", "", "measured", "limit"], rows, left=3)
    worst = result.images[: max(options.worst, 0)]
    if worst:
        _show_worst(out, worst, labels)
    if result.ties:
        out.print(f"ties, where the recorded order is chance: {', '.join(result.ties)}")
    out.print(Text(verdict_sentence(result), style="bold green" if result.passes else "bold red"))
    for sentence in _causes(result, options):
        out.print(sentence)


def _draw_sheet(result, options, witness, inlet, labels) -> None:
    from pathlib import Path

    import numpy as np

    from zygal.errors import ImageError, WitnessError
    from zygal.evidence.compare import tensor_differences
    from zygal.figures.sheet import SheetRow, draw_sheet
    from zygal.inlet import apply_inlet
    from zygal.inlet.decode import open_image

    if options.images is None:
        raise WitnessError("--sheet shows the images, so it needs --images DIR.")
    place = {image.name: index for index, image in enumerate(witness.images)}
    rows = []
    for image in result.images[: max(options.worst, 1)]:
        path = Path(options.images) / image.name
        try:
            picture = np.asarray(open_image(path).convert("RGB"))
        except ImageError:
            continue
        difference = None
        if image.tensor_difference_grey_levels is not None:
            made = apply_inlet(path, inlet)
            levels = tensor_differences(made, witness.tensors[place[image.name]], inlet.tensor.layout)
            difference = levels.max(axis=0 if inlet.tensor.layout == "NCHW" else 2)
        rows.append(SheetRow(image.name, picture, _ranked(image.recorded_top, labels), _ranked(image.artifact_top, labels),
                             difference, image.score_difference))  # fmt: skip
    if rows:
        draw_sheet(rows, f"{options.artifact} against {options.witness}: the images that differ most", options.sheet)


def _show_worst(out, worst, labels) -> None:
    named = [(_ranked(image.recorded_top, labels), _ranked(image.artifact_top, labels)) for image in worst]
    widths = [max(len(label) for ranks in column for label, _ in ranks) for column in zip(*named)]
    rows = []
    for image, columns in zip(worst, named):
        grey, difference = image.tensor_difference_grey_levels, image.score_difference
        tops = [
            "\n".join(f"{label:<{width}} {score:7.3f}" for label, score in ranks)
            for ranks, width in zip(columns, widths)
        ]
        rows.append([image.name, *tops, "-" if grey is None else short_number(grey), short_number(difference)])
    columns = ["worst images", "recorded top three", "artifact's top three", "grey levels", "of the spread"]
    show_table(out, columns, rows, left=3)


def _ranked(top, labels) -> list[tuple[str, float]]:
    return [(_label(index, labels), score) for index, score in top]


def _label(index: int, labels) -> str:
    return labels[index] if labels and index < len(labels) else f"class {index}"


def verdict_sentence(result) -> str:
    """The whole result in one line."""
    compared = len(result.images) - len(result.unreadable)
    broken = list(dict.fromkeys(gate.comparison for gate in result.gates if not gate.passes))
    letters = broken or list(dict.fromkeys(gate.comparison for gate in result.gates))
    first = f"{'BREAKS' if broken else 'HOLDS'}: {', '.join(letters)}; on {counted(compared, 'image')}"
    unreadable = f", {len(result.unreadable)} could not be read" if result.unreadable else ""
    culprit = _culprit(result, broken)
    return "; ".join([first + unreadable, *([culprit] if culprit else []), *result.not_checked]) + "."


def _culprit(result, broken: list[str]) -> str:
    """Where to look, by which of the comparisons broke."""
    if "A" in broken and "B" in broken:
        return "both the inlet and the artifact differ from the training side"
    if "A" in broken:
        return "the inlet differs from the training side's preprocessing, the artifact is right"
    if "B" in broken:
        return "the artifact is not the recorded model, or its conversion is wrong"
    return ""


def _causes(result, options) -> list[str]:
    """Sentences on the causes of what broke."""
    said = []
    if result.cause:
        said.append(_inlet_cause(result))
        if not options.write_inlet:
            said.append("Add --write-inlet FILE to have the corrected inlet written.")
        else:
            said.append(f"The corrected inlet is in {options.write_inlet}.")
    elif any(gate.comparison == "A" and not gate.passes for gate in result.gates):
        said.append("Cause: not found; no inlet that was tried makes the recorded tensors.")
    if result.score_cause:
        said.append(f"Cause: {result.score_cause}.")
    if result.departure:
        departure = result.departure
        before = f"; up to {departure.before} all agree" if departure.before else ""
        said.append(
            f"Cause: layer {departure.layer} is the first whose output departs, by {short_number(departure.difference)} of its "
            f"recorded range{before} ({counted(departure.compared, 'layer')} compared)."
        )
    return said


def _inlet_cause(result) -> str:
    cause = result.cause
    before = "that cannot be compared" if cause.residual_before is None else f"{short_number(cause.residual_before)}"
    evidence = [f"largest difference {before} -> {short_number(cause.residual_after)} grey levels"]
    if result.other_top_1:
        evidence.append("other top-1 than recorded on {} -> {} images".format(*result.other_top_1))
    first, *more = cause.findings
    also = "".join(f"; and {each}" for each in more)
    return f"Cause: the tensors are the recorded ones if {first}{also} ({'; '.join(evidence)})."


def _document(result, options, limits, labels) -> dict:
    return {
        "artifact": options.artifact,
        "witness": options.witness,
        "holds": result.passes,
        "verdict": verdict_sentence(result),
        "spread_of_recorded_scores": result.spread,
        "limits": {
            "tensor_grey_levels": limits.tensor,
            "model_of_spread": limits.model,
            "end_to_end_of_spread": limits.end_to_end,
        },
        "gates": [asdict(gate) | {"holds": gate.passes} for gate in result.gates],
        "images": [
            asdict(image)
            | {
                "recorded_top": [_top_json(each, labels) for each in image.recorded_top],
                "artifact_top": [_top_json(each, labels) for each in image.artifact_top],
            }
            for image in result.images
        ],
        "cause": _cause_json(result),
        "score_cause": result.score_cause,
        "first_departing_layer": asdict(result.departure) if result.departure else None,
        "ties": result.ties,
        "unreadable": [{"name": name, "reason": reason} for name, reason in result.unreadable],
        "not_checked": result.not_checked,
        "notes": result.notes,
    }


def _top_json(entry, labels) -> dict:
    index, score = entry
    return {"class": index, "label": _label(index, labels), "score": score}


def _cause_json(result) -> dict | None:
    cause = result.cause
    if cause is None:
        return None
    before, after = result.other_top_1 or (None, None)
    return {
        "finding": "; and ".join(cause.findings),
        "findings": cause.findings,
        "residual_before_grey_levels": cause.residual_before,
        "residual_after_grey_levels": cause.residual_after,
        "other_top_1_before": before,
        "other_top_1_after": after,
        "corrected_inlet": asdict(cause.inlet),
    }
