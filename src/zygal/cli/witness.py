"""zygal witness: record what the training framework does on reference images."""

from __future__ import annotations

from zygal.cli.options import add_source, new_command, opened_source
from zygal.cli.output import check_json, console, counted, file_size, progress_bar, show_facts, warn, write_json


def register(commands) -> None:
    command = new_command(
        commands,
        "witness",
        "Runs the training framework on reference images and records the tensors it was fed and the scores it gave.",
        "zygal witness channel_marks.pt2 --images reference -o mine.witness --training-code training_code.py:load_image",
    )
    add_source(command)
    command.add_argument("--images", metavar="DIR", required=True, help="the folder of reference images")
    command.add_argument("-o", "--output", metavar="FILE", required=True, help="the witness to write")
    how = command.add_mutually_exclusive_group(required=True)
    how.add_argument("--inlet", metavar="FILE", help="make the tensors by this inlet (TOML)")
    how.add_argument(
        "--training-code",
        metavar="FILE.py:FUNCTION",
        help="make the tensors by the training side's own function from an image path to an array (it is run)",
    )
    command.set_defaults(run=run)


def run(options) -> int:
    from pathlib import Path

    from zygal.engines.live import live_engine
    from zygal.evidence.images import list_images
    from zygal.evidence.record import inlet_preprocessing, record_witness, training_code_preprocessing
    from zygal.evidence.witness import write_witness
    from zygal.files import check_writable
    from zygal.inlet import read_inlet

    check_writable(options.output)
    check_json(options.json)
    list_images(options.images)
    inlet = read_inlet(options.inlet) if options.inlet else None
    if inlet:
        to_tensor, preprocessing = inlet_preprocessing(inlet)
    else:
        to_tensor, preprocessing = training_code_preprocessing(options.training_code)
    with progress_bar("recording") as progress, opened_source(options, inlet) as source:
        engine = live_engine(source)
        witness = record_witness(
            engine, options.images, to_tensor, preprocessing, lambda done, total: progress("recording", done / total)
        )
    write_witness(witness, options.output)
    for name, reason in witness.skipped:
        warn(f"skipped {name}: {reason.rstrip('.')}")
    size = Path(options.output).stat().st_size
    rows = [
        ("recorded by", f"{witness.framework} {witness.framework_version}"),
        ("images", f"{counted(len(witness.images), 'image')} of {options.images}"
         + (f", {len(witness.skipped)} could not be read" if witness.skipped else "")),
        ("tensors", f"{witness.tensors.dtype} {list(witness.tensors.shape)} by {preprocessing.kind}"),
        ("scores", f"{counted(witness.scores.shape[1], 'class')}, {witness.scores.min():.3f} to {witness.scores.max():.3f}"),
        ("size", file_size(size)),
    ]  # fmt: skip
    show_facts(console(), f"{options.source} -> {options.output}", rows)
    document = {
        "witness": options.output,
        "witness_bytes": size,
        "framework": witness.framework,
        "framework_version": witness.framework_version,
        "images": [image.name for image in witness.images],
        "skipped": [{"name": name, "reason": reason} for name, reason in witness.skipped],
        "tensor_shape": list(witness.tensors.shape),
        "classes": witness.scores.shape[1],
    }
    write_json(options.json, document)
    return 0
