"""zygal inlet: work an inlet out, or look at what one does."""

from __future__ import annotations

from dataclasses import asdict

from zygal.cli.options import limit, new_command
from zygal.cli.output import (
    check_json,
    console,
    counted,
    progress_bar,
    short_number,
    show_facts,
    warn,
    write_json,
)

LARGEST_SCORE_DIFFERENCE = 0.05
"""Part of the spread up to which an inlet that was found by scores explains them."""


def register(commands) -> None:
    summary = "Works an inlet out from a recording (recover), or shows what one does to an image (draw)"
    group = commands.add_parser("inlet", help=summary[0].lower() + summary[1:], description=summary + ".")
    actions = group.add_subparsers(metavar="ACTION", required=True, parser_class=type(group))
    recover = new_command(
        actions,
        "recover",
        "Works the whole inlet out from what training made of some images: no hint is needed, and what the images cannot "
        "tell is said.",
        "zygal inlet recover --witness channel_marks.witness --images reference -o recovered.inlet.toml",
    )
    recover.add_argument("--witness", metavar="FILE", required=True, help="the recording of the training framework")
    recover.add_argument("--images", metavar="DIR", required=True, help="the folder of the recorded images")
    recover.add_argument("-o", "--output", metavar="FILE", required=True, help="the inlet to write (TOML)")
    recover.add_argument(
        "--artifact", metavar="FILE", help="for a recording of scores alone: the model, by whose scores the search goes"
    )
    recover.add_argument("--accept", metavar="LEVELS", type=limit, default=0.5,
                         help="largest difference in grey levels that an inlet may leave (0.5)")  # fmt: skip
    recover.set_defaults(run=run_recover)
    draw = new_command(
        actions,
        "draw",
        "Draws an image after each stage of an inlet, the last one as the network sees it, with its range of values.",
        "zygal inlet draw reference/mark-05.jpg --inlet channel_marks.inlet.toml -o strip.png",
    )
    draw.add_argument("image", metavar="IMAGE", help="the image file")
    draw.add_argument(
        "--inlet", metavar="FILE", required=True, help="the inlet (TOML), or an artifact that carries one"
    )
    draw.add_argument("-o", "--output", metavar="PNG", required=True, help="the picture to write")
    draw.set_defaults(run=run_draw)


def run_recover(options) -> int:
    from pathlib import Path

    from zygal.errors import InletError
    from zygal.evidence.images import check_images
    from zygal.evidence.witness import read_witness
    from zygal.files import check_writable, write_text
    from zygal.inlet import format_inlet
    from zygal.inlet.recovery import recover_inlet
    from zygal.inlet.description import describe_inlet

    check_writable(options.output)
    check_json(options.json)
    witness = read_witness(options.witness)
    for note in check_images(witness.images, options.images):
        warn(note)
    paths = [Path(options.images) / image.name for image in witness.images]
    if witness.tensors is None:
        return _recover_by_scores(options, witness, paths)
    with progress_bar("recovering") as progress:
        found = recover_inlet(paths, witness.tensors, progress)
    for path, reason in found.unreadable:
        warn(f"left out: {path}: {reason.rstrip('.')}")
    write_json(options.json, _document(options, found))
    if not found.residual <= options.accept:
        raise InletError(
            f"no inlet explains the tensors of {options.witness}: the best found leaves {short_number(found.residual)} grey "
            f"levels at most, {short_number(found.mean_residual)} in the mean ({describe_inlet(found.inlet)}); training did "
            "something else to the images, or they are not the ones that it saw."
        )
    write_text(options.output, format_inlet(found.inlet))
    _show(options, found)
    return 0


def _show(options, found) -> None:
    from zygal.inlet.description import describe_stages, describe_value

    out = console()
    rows = describe_stages(found.inlet)
    shape = found.inlet.tensor_shape()
    rows.append(("feeds", f"{found.inlet.tensor.dtype} {list(shape)}, {found.inlet.tensor.layout}"))
    rows.append(
        ("leaves", f"{short_number(found.residual)} grey levels at most, {short_number(found.mean_residual)} in the mean, "
         f"over {counted(found.images, 'image')} ({_verdict(found.residual)})")
    )  # fmt: skip
    if found.runner_up:
        field, value, left = found.runner_up
        rows.append(
            (
                "runner-up",
                f"{field} = {describe_value(value)} would leave {short_number(left)} grey level{'s' * (left != 1)}",
            )
        )
    rows.append(("tried", f"{found.tried} inlets in full"))
    show_facts(out, f"{options.witness} -> {options.output}", rows)
    if found.undecided:
        out.print()
        told = [
            (each.field, f"{describe_value(each.taken)} taken; as good: {', '.join(map(describe_value, each.others))}. "
                         f"To tell: {each.told_by}")
            for each in found.undecided
        ]  # fmt: skip
        show_facts(out, "These images cannot tell", told)


def _recover_by_scores(options, witness, paths) -> int:
    """By the model's scores: for recordings without tensors."""
    import numpy as np

    from zygal.engines import run_in_batches
    from zygal.engines.runtime import RuntimeEngine
    from zygal.errors import InletError, WitnessError
    from zygal.files import write_text
    from zygal.inlet import format_inlet
    from zygal.inlet.recovery import recover_by_scores
    from zygal.inlet.description import describe_inlet, describe_stages

    if not options.artifact:
        raise WitnessError(
            f"{options.witness} holds scores but no tensors; give the model by --artifact, so that inlets can be tried by "
            "its scores."
        )
    engine = RuntimeEngine(options.artifact)
    shape = tuple(engine.input_shape[1:])
    if len(shape) != 3 or not all(isinstance(size, int) for size in shape):
        raise WitnessError(f"{options.artifact} takes {list(engine.input_shape)}, not images of one size.")

    def scores(tensors):
        return np.concatenate(list(run_in_batches(engine, tensors)))

    with progress_bar("recovering") as progress:
        found = recover_by_scores(paths, witness.scores, scores, shape, engine.input_dtype, progress)
    document = {
        "witness": options.witness,
        "inlet": asdict(found.inlet),
        "mean_difference_of_spread": found.mean,
        "largest_difference_of_spread": found.largest,
        "other_top_1": found.other_top,
        "images": found.images,
        "inlets_tried": found.tried,
        "runner_up": found.runner_up and {"inlet": asdict(found.runner_up[0]), "mean_difference_of_spread": found.runner_up[1]},
    }  # fmt: skip
    write_json(options.json, document)
    if found.largest > LARGEST_SCORE_DIFFERENCE:
        raise InletError(
            f"no inlet gives the scores of {options.witness}: the closest is off by {short_number(found.largest)} of the spread "
            f"at most, {short_number(found.mean)} in the mean ({describe_inlet(found.inlet)}); the model may be another one, or "
            "training did something else to the images."
        )
    write_text(options.output, format_inlet(found.inlet))
    rows = describe_stages(found.inlet)
    rows.append(
        ("leaves", f"{short_number(found.largest)} of the spread of the scores at most, {short_number(found.mean)} in the mean; "
         f"{counted(found.other_top, 'image')} of {found.images} with another best class")
    )  # fmt: skip
    if found.runner_up:
        rows.append(("runner-up", f"{short_number(found.runner_up[1])} in the mean: {describe_inlet(found.runner_up[0])}"))
    rows.append(("tried", f"{found.tried} inlets by their scores"))
    show_facts(console(), f"{options.witness} -> {options.output}", rows)
    return 0


def _verdict(residual: float) -> str:
    if residual < 0.02:
        return "exact"
    return "within rounding" if residual <= 0.5 else "not exact"


def _document(options, found) -> dict:
    return {
        "witness": options.witness,
        "inlet": asdict(found.inlet),
        "residual_grey_levels": found.residual,
        "mean_residual_grey_levels": found.mean_residual,
        "images": found.images,
        "inlets_tried": found.tried,
        "runner_up": found.runner_up and dict(zip(("field", "value", "residual_grey_levels"), found.runner_up)),
        "undecided": [asdict(each) for each in found.undecided],
        "unreadable": [{"name": name, "reason": reason} for name, reason in found.unreadable],
    }


def run_draw(options) -> int:
    from zygal.artifact import read_artifact
    from zygal.errors import InletError
    from zygal.figures.strip import draw_strip
    from zygal.files import check_writable, existing_file
    from zygal.inlet import read_inlet
    from zygal.inlet.stages import stages_of
    from zygal.kinds import ARTIFACT, kind_of

    check_writable(options.output)
    check_json(options.json)
    inlet = (
        read_artifact(options.inlet).metadata.inlet if kind_of(options.inlet) == ARTIFACT else read_inlet(options.inlet)
    )
    if inlet is None:
        raise InletError(f"{options.inlet} carries no inlet; name the TOML file.")
    stages = stages_of(existing_file(options.image), inlet)
    draw_strip(stages, f"{options.image} through {options.inlet}", options.output)
    rows = [
        (stage.name, f"{stage.does}: {stage.picture.shape[1]} wide, {stage.picture.shape[0]} high, {stage.low:.4g} to {stage.high:.4g}")
        for stage in stages
    ]  # fmt: skip
    show_facts(console(), f"{options.image} -> {options.output}", rows)
    document = {
        "image": options.image,
        "inlet": asdict(inlet),
        "stages": [
            {"stage": stage.name, "does": stage.does, "height_pixels": stage.picture.shape[0],
             "width_pixels": stage.picture.shape[1], "low": stage.low, "high": stage.high}
            for stage in stages
        ],
    }  # fmt: skip
    write_json(options.json, document)
    return 0
