"""Where the time goes: the runtime's own profile, told by the layers of the training code.

The runtime joins operators and renames them. Each operator of its profile is traced to the operator of the artifact
that does the arithmetic, whose name begins with its layer's. What the runtime adds of its own stands under its own
name.
"""

from __future__ import annotations

import json
import re
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import onnx

from zygal.artifact.formats import MOBILE, format_of
from zygal.bench.arithmetic import multiply_adds
from zygal.bench.feeds import Feeds
from zygal.bench.measure import Effort, measure_whole, warm_up
from zygal.bench.reference_workload import matrix_product
from zygal.bench.settings import Setting
from zygal.engines.session import SessionSettings, open_session
from zygal.errors import BenchError
from zygal.files.writing import scratch_folder
from zygal.onnx.read import load_model

FEWEST_RUNS, MOST_RUNS, MOST_EVENTS = 10, 300, 400_000


@dataclass(frozen=True)
class LayerTime:
    """seconds: of one run, the medians of its operators' times. share: of all layers' time. multiply_adds: for a batch.
    operators: the runtime's, in the order in which they run."""

    layer: str
    seconds: float
    share: float
    multiply_adds: int
    operators: tuple[str, ...]


@dataclass(frozen=True)
class LayerTimes:
    """layers: the slowest first. run_seconds: the median of whole runs while the profile was taken.
    product_seconds: the least that a matrix product took, between these runs and right before and after."""

    setting: Setting
    layers: tuple[LayerTime, ...]
    run_seconds: float
    runs: int
    product_seconds: float

    @property
    def outside_seconds(self) -> float:
        """What a run takes beyond its operators."""
        return max(0.0, self.run_seconds - sum(layer.seconds for layer in self.layers))


def refuse_without_layers(artifact: str | Path) -> None:
    """Raises BenchError where the runtime tells no times of layers."""
    if format_of(artifact) is MOBILE:
        raise BenchError(
            f"{artifact} is a mobile flatbuffer, and the mobile runtime tells no times of layers through its "
            f"interpreter; leave out --layers."
        )


@dataclass(frozen=True)
class Profile:
    """What the runtime's operators took. kernels: the seconds of each run by the name that the runtime gives an
    operator and by its kind. joined: the operators of the graph that the runtime made of the artifact's. run_seconds:
    of whole runs."""

    kernels: dict[tuple[str, str], list[float]]
    joined: tuple[onnx.NodeProto, ...]
    run_seconds: tuple[float, ...]


def profile(
    artifact: str | Path | bytes,
    feed: Mapping[str, np.ndarray],
    settings: SessionSettings,
    nodes: int,
    seconds: float,
    between: Callable[[], object] | None = None,
) -> Profile:
    """Profiles runs on what is fed. nodes: about how many the artifact has. between: is called after every tenth run.
    Raises ArtifactError or BenchError."""
    took = []
    with scratch_folder() as folder:
        rewritten = Path(folder) / "rewritten.onnx"
        session = open_session(
            artifact, replace(settings, profile=str(Path(folder) / "profile"), rewritten=str(rewritten))
        )
        warm_up(lambda: session.run(None, feed))
        started = time.perf_counter()
        while len(took) < FEWEST_RUNS or time.perf_counter() - started < seconds:
            began = time.perf_counter()
            session.run(None, feed)
            took.append(time.perf_counter() - began)
            if between is not None and len(took) % 10 == 0:
                between()
            if len(took) >= MOST_RUNS or len(took) * nodes > MOST_EVENTS:
                break
        try:
            events = json.loads(Path(session.end_profiling()).read_text())
        except (OSError, ValueError) as fault:
            raise BenchError(f"the runtime's profile cannot be read ({fault}).") from fault
        joined = onnx.load(rewritten, load_external_data=False).graph.node if rewritten.is_file() else ()
    durations: dict[tuple[str, str], list[float]] = {}
    for event in events:
        name = event.get("name", "")
        if event.get("cat") == "Node" and name.endswith("_kernel_time"):
            key = name.removesuffix("_kernel_time"), event["args"]["op_name"]
            durations.setdefault(key, []).append(event["dur"] * 1e-6)
    # The first runs, which warmed the session up, are in the profile too.
    return Profile({key: each[-len(took) :] for key, each in durations.items()}, tuple(joined), tuple(took))


def layer_times(feeds: Feeds, setting: Setting, seconds: float = 2.0) -> LayerTimes:
    """Profiles runs at one setting. Raises ArtifactError or BenchError."""
    product = matrix_product(setting.threads)
    before = measure_whole({0: {0: product}}, Effort(0.2))
    nodes = len(load_model(feeds.artifact).graph.node)
    inside: list[float] = []

    def timed_product() -> None:
        began = time.perf_counter()
        product()
        inside.append(time.perf_counter() - began)

    found = profile(
        feeds.artifact,
        feeds.of(setting.batch),
        SessionSettings(setting.threads, setting.level, setting.execution),
        nodes,
        seconds,
        timed_product,
    )
    after = measure_whole({0: {0: product}}, Effort(0.2))
    products = np.concatenate([*(each.readings[0, 0].seconds() for each in (before, after)), inside])
    layers = _told_by_layer(found, feeds, setting)
    return LayerTimes(
        setting, tuple(layers), float(np.median(found.run_seconds)), len(found.run_seconds), float(products.min())
    )


def _told_by_layer(profiled: Profile, feeds: Feeds, setting: Setting) -> list[LayerTime]:
    """The layers, the slowest first."""
    model = load_model(feeds.artifact)
    count = multiply_adds(feeds.artifact, feeds)
    owners = Owners(model.graph.node, profiled.joined, count.by_node)
    found: dict[str, tuple[float, list[str]]] = {}
    for (name, operator), each in profiled.kernels.items():
        layer = owners.layer_of(name, operator)
        so_far, operators = found.setdefault(layer, (0.0, []))
        found[layer] = so_far + float(np.median(each)), [*operators, operator]
    by_layer: dict[str, int] = {}
    for index, multiplied in count.by_node.items():
        layer = layer_of_node(model.graph.node[index].name)
        by_layer[layer] = by_layer.get(layer, 0) + multiplied * setting.batch
    whole = sum(seconds for seconds, _ in found.values()) or 1.0
    layers = [
        LayerTime(layer, seconds, seconds / whole, by_layer.get(layer, 0), tuple(operators))
        for layer, (seconds, operators) in found.items()
    ]
    return sorted(layers, key=lambda layer: layer.seconds, reverse=True)


def layer_of_node(name: str) -> str:
    """The layer that a node of an artifact belongs to: its name without the operator."""
    return name.rpartition("/")[0] or name or "(without a name)"


def _with_inner(nodes: Iterable) -> Iterator:
    """The nodes and those of their branches."""
    for node in nodes:
        yield node
        for attribute in node.attribute:
            yield from _with_inner(attribute.g.node)


class Owners:
    """Which operator of the artifact does the work of one of the runtime's."""

    def __init__(self, nodes: Iterable, joined: Iterable = (), multiply_adds: Mapping[int, int] = {}):
        main = list(nodes)
        nodes = list(_with_inner(main))
        self.by_name = {node.name: node for node in nodes if node.name}
        self.maker = {output: node for node in nodes for output in node.output}
        self.joined = {node.name: node for node in joined if node.name}
        self.work = {main[index].name: count for index, count in multiply_adds.items()}

    def owner_of(self, name: str, operator: str) -> onnx.NodeProto | None:
        """The node of the artifact that an operator of the runtime came from, if it is known."""
        # The runtime names what it makes of an operator with 8-bit numbers after it, with a number of its own behind.
        return (
            self.by_name.get(name)
            or self.by_name.get(re.sub(r"_token_\d+$", "", name))
            or self._by_value(name, operator)
            or self._by_region(name)
            or self._by_beginning(name)
        )

    def layer_of(self, name: str, operator: str) -> str:
        """The layer of the training code that an operator of the runtime belongs to."""
        node = self.owner_of(name, operator)
        return f"(added by the runtime: {operator})" if node is None else layer_of_node(node.name)

    def _by_region(self, name: str):
        """What was joined stands for the operators between its inputs and its outputs: of them the one with the most
        multiply-adds, else the last."""
        joined = self.joined.get(name)
        if joined is None:
            return None
        outputs = [self.maker[output] for output in joined.output if output in self.maker]
        waiting, region, entered = list(outputs), [], set(joined.input)
        while waiting and len(region) < 64:
            node = waiting.pop()
            if node in region:
                continue
            region.append(node)
            waiting += [self.maker[value] for value in node.input if value in self.maker and value not in entered]
        return max(region, key=lambda node: self.work.get(node.name, 0), default=None)

    def _by_value(self, name: str, operator: str):
        """A kernel in blocks of channels is named after the value that it makes."""
        node = self.maker.get(name.removesuffix("_nchwc"))
        # What makes that value may be an activation or a sum that was joined to it.
        waiting, seen = [node], 0
        while waiting and seen < 8:
            node = waiting.pop(0)
            seen += 1
            if node is None or node.op_type == operator:
                return node
            waiting += [self.maker.get(value) for value in node.input if value in self.maker]
        return None

    def _by_beginning(self, name: str):
        """What was joined is named after the first of its operators, with something behind it."""
        while "/" in name:
            name = name.rpartition("/")[0]
            if name in self.by_name:
                return self.by_name[name]
        return None
