"""zygal witness: record what the training framework does on reference images."""

from __future__ import annotations

from zygal.cli.options import add_source, new_command, opened_source
from zygal.cli.output import check_json, console, counted, file_size, progress_bar, show_facts, warn, write_json
from zygal.errors import WitnessError
from zygal.files import check_writable


def register(commands) -> None:
    command = new_command(
        commands,
        "witness",
        "Runs the training framework on reference images and records the tensors it was fed and the scores it gave.",
        "zygal witness channel_marks.pt2 --images reference -o mine.witness --training-code training_code.py:load_image",
    )
    add_source(command, optional=True)
    command.add_argument("--images", metavar="DIR", required=True, help="the folder of reference images")
    command.add_argument("-o", "--output", metavar="FILE", required=True, help="the witness to write")
    command.add_argument("--scores", metavar="NAME", help="which of several outputs to record (the first; see survey)")
    command.add_argument(
        "--layers",
        action="store_true",
        help="record outputs of layers too, so that match can name the first that departs",
    )
    how = command.add_mutually_exclusive_group(required=True)
    how.add_argument("--inlet", metavar="FILE", help="make the tensors by this inlet (TOML)")
    how.add_argument(
        "--training-code",
        metavar="FILE.py:FUNCTION",
        help="make the tensors by the training side's own function from an image path to an array (it is run)",
    )
    how.add_argument(
        "--from-arrays",
        metavar="SCORES",
        help="make the recording of what another framework left: scores [images, classes] as .npy or CSV",
    )
    command.add_argument("--tensors", metavar="FILE.npy", help="with --from-arrays: the tensors that the model was fed")
    command.add_argument(
        "--names",
        metavar="FILE",
        help="with --from-arrays: the images in the order of the rows, one name a line (if the CSV does not name them)",
    )
    command.set_defaults(run=run)


def run(options) -> int:
    check_writable(options.output)
    check_json(options.json)
    if options.from_arrays:
        witness = _from_arrays(options)
    elif options.source is None:
        raise WitnessError(
            "a model is needed to record from: name its file (SOURCE), or give what it left by --from-arrays."
        )
    elif options.tensors or options.names:
        raise WitnessError(
            "--tensors and --names go with --from-arrays; a live model is fed by the inlet or the training code."
        )
    else:
        witness = _recorded(options)
    witness.write(options.output)
    _report(options, witness)
    return 0


def _from_arrays(options):
    from zygal.evidence.arrays import read_array, read_names
    from zygal.evidence.witness import Witness

    if options.layers or options.scores:
        raise WitnessError("--layers and --scores go with a live model; arrays hold neither layers nor outputs.")
    scores, names = read_array(options.from_arrays)
    if options.names:
        names = read_names(options.names)
    if names is None:
        raise WitnessError(
            f"{options.from_arrays} does not say which image each row belongs to; give --names FILE, one name a line."
        )
    tensors = read_array(options.tensors)[0] if options.tensors else None
    return Witness.from_arrays(scores, names, options.images, tensors, "arrays", "", options.source)


def _recorded(options):

    from zygal.engines.live import open_live_engine
    from zygal.evidence.images import list_images
    from zygal.evidence.record import inlet_preprocessing, record_witness, training_code_preprocessing
    from zygal.inlet import read_inlet

    list_images(options.images)
    inlet = read_inlet(options.inlet) if options.inlet else None
    if inlet:
        to_tensor, preprocessing = inlet_preprocessing(inlet)
    else:
        to_tensor, preprocessing = training_code_preprocessing(options.training_code)
    with progress_bar("recording") as progress, opened_source(options, inlet) as source:
        engine = open_live_engine(source, options.scores)
        return record_witness(
            engine,
            options.images,
            to_tensor,
            preprocessing,
            lambda done, total: progress("recording", done / total),
            options.layers,
        )


def _report(options, witness) -> None:
    from pathlib import Path

    for name, reason in witness.skipped:
        warn(f"skipped {name}: {reason.rstrip('.')}")
    size = Path(options.output).stat().st_size
    rows = [
        ("recorded by", f"{witness.framework} {witness.framework_version}"),
        ("images", f"{counted(len(witness.images), 'image')} of {options.images}"
         + (f", {len(witness.skipped)} could not be read" if witness.skipped else "")),
        ("tensors", "none" if witness.tensors is None else
         f"{witness.tensors.dtype} {list(witness.tensors.shape)} by {witness.preprocessing.kind}"),
        ("scores", f"{counted(witness.scores.shape[1], 'class')}, {witness.scores.min():.3f} to {witness.scores.max():.3f}"),
        *([("layers", f"outputs of {len(witness.layers.names)} layers for {len(witness.layers.quantiles)} images")]
          if witness.layers else []),
        ("size", file_size(size)),
    ]  # fmt: skip
    show_facts(console(), f"{options.source or options.from_arrays} -> {options.output}", rows)
    document = {
        "witness": options.output,
        "witness_bytes": size,
        "framework": witness.framework,
        "framework_version": witness.framework_version,
        "images": [image.name for image in witness.images],
        "skipped": [{"name": name, "reason": reason} for name, reason in witness.skipped],
        "tensor_shape": None if witness.tensors is None else list(witness.tensors.shape),
        "layers": list(witness.layers.names) if witness.layers else None,
        "classes": witness.scores.shape[1],
    }
    write_json(options.json, document)
