"""From a float artifact to one in 8 bits, and the measurements that say what it costs."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from zygal.classifier.metadata import EIGHT_BITS, Metadata, Share, Shrunk
from zygal.engines import run_in_batches
from zygal.engines.artifact import open_engine
from zygal.engines.graph import GraphEngine
from zygal.errors import ArtifactError
from zygal.files.writing import scratch_folder
from zygal.graph import Graph
from zygal.shrink.calibrate import Calibration, calibrate
from zygal.shrink.choose import Budget, Choice, Chooser, Layer, layers_of
from zygal.shrink.cost import unit_seconds
from zygal.shrink.damage import damages, score_error
from zygal.shrink.equalize import equalized
from zygal.shrink.form import Form
from zygal.shrink.given import Given
from zygal.shrink.network import Network
from zygal.shrink.observe import batches, observe
from zygal.shrink.opened import Opened
from zygal.shrink.prepare import prepared
from zygal.shrink.trial import Judged, Trials

TRIED_ON, WORTHWHILE = 16, 0.03
"""So many images tell whether equalisation helps; it is done if it takes this part of the error away."""
LISTED_SHARES = 20
"""So many layers' parts of the error are kept in the artifact."""
Progress = Callable[[str, float], None]


@dataclass(frozen=True)
class Settings:
    """budget: what must hold. threads: None for all cores. batch: at which the speed is measured."""

    budget: Budget
    threads: int | None = None
    batch: int = 1


@dataclass(frozen=True)
class Result:
    """choice: the candidates and the one that was taken. layers: every value that can be quantized, with the damage
    that it does and the time of what makes it. form: of the numbers. equalised: whether channels were. float_bytes:
    size of the float artifact. in_8_bits: how many operators are. kept: the convolutions and matrix products in float,
    by their layers. clipped: by layer, the share of the values that quantizing clips. moved: by how much half of the
    images would change each range. written: the file, if a candidate was taken."""

    choice: Choice
    layers: tuple[Layer, ...]
    form: Form
    equalised: bool
    float_bytes: int
    in_8_bits: int
    kept: tuple[str, ...]
    clipped: dict[str, float]
    moved: tuple[float, ...]
    written: Path | None


def shrink(
    opened: Opened,
    path: str | Path,
    given: Given,
    labelled: Given | None,
    settings: Settings,
    described: str,
    progress: Progress,
) -> Result:
    """Writes the artifact in 8 bits to `path`, if a candidate holds the budget. described: the settings in words, for
    its metadata.

    Raises ArtifactError if nothing can be in 8 bits, EngineError naming a layer whose values are not finite.
    """
    form = opened.form()
    network = Network(prepared(opened.graph, form, str(opened.facts.path)), form)
    if not network.units:
        raise ArtifactError(
            f"{opened.facts.path} has no convolution and no matrix product in float32 with constant weights, so "
            f"nothing of it can be in 8 bits."
        )
    tensors, threads = given.tensors, settings.threads
    total = len(tensors)
    network, equalised = _equalised_if_better(network, given, opened.facts.scores, threads, progress)
    observed = observe(
        network, tensors, list(given.names), threads, lambda done: progress("observing activations", done / total)
    )
    progress("finding ranges and weights", 0.0)
    calibration = calibrate(network, observed, tensors, threads)
    with scratch_folder() as folder:
        float_file = folder / f"float{opened.format.ending}"
        opened.format.write(opened.graph, float_file, Metadata(), opened.writing(opened.graph))
        judged = _judged(given, float_file, threads)
        found = damages(
            calibration,
            tensors,
            judged.float_scores,
            opened.facts.scores,
            threads,
            lambda part: progress("measuring the damage of each layer", part),
        )
        times = _seconds(
            network.graph,
            calibration,
            next(batches(np.take(tensors, range(settings.batch), axis=0, mode="wrap"), network.graph)),
            threads,
            progress,
        )
        layers = layers_of(network, found, *times)
        trials = Trials(
            calibration,
            opened.format,
            opened.writing(calibration.graph(network.possible(network.units))),
            folder,
            float_file,
            opened.facts.scores,
            judged,
            labelled and _judged(labelled, float_file, threads),
            threads,
            settings.batch,
        )
        chooser = Chooser(
            trials, layers, *times, settings.budget, lambda part: progress("trying which layers to keep in float", part)
        )
        choice = chooser.run()
    chosen = network.possible(set(network.units) - set(choice.kept)) if choice.final else set()
    kept = tuple(
        dict.fromkeys(
            f"{unit.layer} ({unit.node.operator})"
            for result, unit in network.units.items()
            if result not in chosen and (unit.weight or unit.node.operator == "MatMul")
        )
    )
    if choice.final is not None:
        shrunk = _record(opened, given, network, layers, chosen, kept, described)
        opened.write(calibration.graph(chosen), path, replace(opened.facts.metadata, shrunk=shrunk))
    clipped = {
        _layer_of(network, value): share for value, share in calibration.clipped.items() if value not in network.fixed
    }
    return Result(
        choice,
        tuple(layers),
        form,
        equalised,
        opened.facts.size_bytes,
        len(chosen),
        kept,
        clipped,
        tuple(calibration.moved.values()),
        Path(path) if choice.final else None,
    )


def _layer_of(network: Network, value: str) -> str:
    node = network.made_by.get(value)
    return "the input" if node is None else node.layer or value


def _equalised_if_better(
    network: Network, given: Given, kind: str, threads: int | None, progress: Progress
) -> tuple[Network, bool]:
    """The network with its channels equalised, if its scores are closer to the float ones then, all in 8 bits, on a few
    images; and whether it was."""
    tensors = given.tensors[:TRIED_ON]
    names, chosen = list(given.names[:TRIED_ON]), network.possible(network.units)
    float_scores = _scores(network.graph, tensors, threads)
    progress("equalising channels", 0.0)
    observed = observe(network, tensors, names, threads, lambda done: None)
    other = Network(equalized(network, observed.channels), network.form)
    if other.graph is network.graph:
        return network, False
    usual = calibrate(network, observed, tensors, threads)
    equal = calibrate(other, observe(other, tensors, names, threads, lambda done: None), tensors, threads)
    progress("equalising channels", 0.5)
    errors = [score_error(_scores(each.graph(chosen), tensors, threads), float_scores, kind) for each in (usual, equal)]
    better = errors[1] < (1 - WORTHWHILE) * errors[0]
    return (other, True) if better else (network, False)


def _scores(graph: Graph, tensors: np.ndarray, threads: int | None) -> np.ndarray:
    engine = GraphEngine(graph, None, threads)
    return np.concatenate([engine.run(batch) for batch in batches(tensors, graph)])[: len(tensors)]


def _judged(given: Given, float_file: Path, threads: int | None) -> Judged:
    engine = open_engine(float_file, threads)
    return Judged(given.tensors, np.concatenate(list(run_in_batches(engine, given.tensors))), given.labels)


def _seconds(
    graph: Graph, calibration: Calibration, batch: np.ndarray, threads: int | None, progress: Progress
) -> tuple[dict[str, float], dict[str, float]]:
    """Seconds of each unit in 8 bits, and in float, by the profile of ONNX Runtime."""
    progress("measuring the time of each layer", 0.0)
    units = calibration.network.units
    names = {result: result for result in units}
    in_float, _ = unit_seconds(graph, names, batch, threads)
    progress("measuring the time of each layer", 0.5)
    chosen = calibration.network.possible(units)
    eight, _ = unit_seconds(
        calibration.graph(chosen), names | {f"{result}.exact": result for result in units}, batch, threads
    )
    return eight, in_float


def _record(
    opened: Opened,
    given: Given,
    network: Network,
    layers: list[Layer],
    chosen: set[str],
    kept: tuple[str, ...],
    described: str,
) -> Shrunk:
    facts = opened.facts
    quantized = network.quantized(chosen)
    whole = sum(layer.damage**2 for layer in layers if layer.value in quantized) or 1.0
    parts: dict[str, float] = {}
    for layer in layers:
        if layer.value in quantized:
            parts[layer.name] = parts.get(layer.name, 0.0) + layer.damage**2 / whole
    largest = sorted(parts.items(), key=lambda each: each[1], reverse=True)[:LISTED_SHARES]
    return Shrunk(
        facts.path.name,
        facts.sha256,
        EIGHT_BITS,
        described,
        len(given.tensors),
        given.where,
        len(chosen),
        kept,
        tuple(Share(name, round(part, 6)) for name, part in largest),
    )
