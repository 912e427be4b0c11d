"""Arguments of PyTorch's operators, drawn from the framework's own samples: each must be right or refused with a
sentence.

For every operator of the framework's table of samples (its own tests draw from it) some samples are captured as models,
converted as they are captured, and run on ONNX Runtime. A result counts as right within 1e-5 of the spread of what the
framework computes, not-a-number where it is, and infinite where it is.

    python benchmarks/arguments_pytorch.py [MOST_SAMPLES_AN_OPERATOR] [PART_OF_A_NAME]
"""

import logging
import random
import sys
import tempfile
import warnings
from collections import Counter
from pathlib import Path

import numpy as np
import torch

from zygal.artifact.formats import write_artifact
from zygal.classifier.metadata import Metadata
from zygal.engines.session import open_session
from zygal.errors import UnknownOperators, ZygalError
from zygal.graph.passes import run_passes
from zygal.sources import read_source

WITHIN = 1e-5
LIKE_RANDOM = (
    "rand",
    "bernoulli",
    "normal",
    "multinomial",
    "dropout",
    "empty",
    "uniform",
    "poisson",
    "exponential",
    "cauchy",
    "geometric",
    "log_normal",
    "rrelu",
)


class Sample(torch.nn.Module):
    """One sample as a model: its first tensor is the image, other tensors are buffers."""

    def __init__(self, operator, arguments, named):
        super().__init__()
        self.operator, self.places, self.named = operator, [], {}
        for place, value in enumerate(arguments):
            self.places.append(self._keep(f"argument{place}", value))
        for name, value in named.items():
            self.named[name] = self._keep(f"named_{name}", value)

    def _keep(self, name, value):
        if isinstance(value, torch.Tensor):
            self.register_buffer(name, value.detach().clone())
            return lambda: getattr(self, name)
        if isinstance(value, (list, tuple)) and any(isinstance(each, torch.Tensor) for each in value):
            sustained = [self._keep(f"{name}_{at}", each) for at, each in enumerate(value)]
            return lambda: (
                type(value)(each() for each in sustained) if type(value) in (list, tuple) else [k() for k in sustained]
            )
        return lambda: value

    def forward(self, image):
        result = self.operator(
            image, *(each() for each in self.places), **{n: each() for n, each in self.named.items()}
        )
        return result if isinstance(result, torch.Tensor) else [r for r in result if isinstance(r, torch.Tensor)]


def outcome(model: torch.nn.Module, image: torch.Tensor, folder: Path) -> tuple[str, str]:
    """What became of one sample: ("right" | "wrong" | "refused" | "unknown" | "not captured", detail)."""
    try:
        with torch.no_grad():
            wanted = model(image)
            torch.export.save(torch.export.export(model, (image,)), folder / "sample.pt2")
    except Exception as fault:
        return "not captured", type(fault).__name__
    wanted = [wanted] if isinstance(wanted, torch.Tensor) else list(wanted)
    try:
        with read_source(folder / "sample.pt2") as source:
            names = source.output_names
        for name, tensor in zip(names, wanted):
            with read_source(folder / "sample.pt2", name) as source:
                graph = run_passes(source.graph)
                feed, fetch = graph.inputs[0], graph.outputs[0]
                if feed == fetch:
                    return "right", "identity"
                write_artifact(graph.renamed({feed: "image", fetch: "scores"}), folder / "sample.onnx", Metadata())
            try:
                found = open_session(folder / "sample.onnx").run(["scores"], {"image": image.numpy()})[0]
            except ZygalError:
                raise
            except Exception as fault:
                return "wrong", f"the runtime refuses it: {str(fault)[:120]}"
            fault = difference(found, tensor.detach().numpy())
            if fault:
                return "wrong", fault
    except UnknownOperators as fault:
        return "unknown", ", ".join(fault.layers)
    except ZygalError as fault:
        return "refused", str(fault).partition("layer")[2] or str(fault)
    except Exception as fault:
        return "wrong", f"a crash: {type(fault).__name__}: {str(fault)[:120]}"
    return "right", ""


def difference(found: np.ndarray, wanted: np.ndarray) -> str | None:
    if found.shape != wanted.shape:
        return f"shape {found.shape} for {wanted.shape}"
    if wanted.size == 0:
        return None
    found, wanted = found.astype(np.float64), wanted.astype(np.float64)
    finite = np.isfinite(wanted)
    if not np.array_equal(np.isnan(found), np.isnan(wanted)) or not np.array_equal(
        found[~finite & ~np.isnan(wanted)], wanted[~finite & ~np.isnan(wanted)]
    ):
        return "other places are not finite"
    spread = max(np.ptp(wanted[finite]), np.abs(wanted[finite]).max(), 1e-30) if finite.any() else 1
    worst = np.abs(found[finite] - wanted[finite]).max() / spread if finite.any() else 0.0
    return None if worst <= WITHIN else f"{worst:.1e} of the spread"


def main(most: int = 6, part: str = "") -> None:
    # It takes seconds to import, and most of this file is used without it.
    from torch.testing._internal.common_methods_invocations import op_db

    warnings.simplefilter("ignore")
    logging.disable(logging.CRITICAL)
    torch.manual_seed(0)
    chance, counts, wrong, refused = random.Random(0), Counter(), [], Counter()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for entry in op_db:
            if part not in entry.name or any(word in entry.name for word in LIKE_RANDOM):
                continue
            try:
                samples = [
                    s
                    for s in entry.sample_inputs("cpu", torch.float32, requires_grad=False)
                    if isinstance(s.input, torch.Tensor)
                    and s.input.layout == torch.strided
                    and s.input.dtype == torch.float32
                    and s.input.ndim
                ]
            except Exception:
                continue
            # What training does is converted to what is done at inference, and said.
            samples = [
                s
                for s in samples
                if not (s.kwargs.get("training") or s.kwargs.get("dropout_p") or "native_batch" in entry.name)
            ]
            for sample in chance.sample(samples, min(most, len(samples))):
                kind, detail = outcome(Sample(entry.op, sample.args, sample.kwargs), sample.input.contiguous(), folder)
                counts[kind] += 1
                if kind == "wrong":
                    said = [each if not isinstance(each, torch.Tensor) else list(each.shape) for each in sample.args]
                    wrong.append(f"{entry.name} {list(sample.input.shape)} {said} {sample.kwargs}: {detail}"[:300])
                    print("WRONG", wrong[-1], flush=True)
                elif kind == "refused":
                    refused[f"{entry.name}: {detail[-90:]}"] += 1
    for each, count in sorted(refused.items()):
        print(count, each)
    print(f"{sum(counts.values())} samples: " + ", ".join(f"{count} {kind}" for kind, count in counts.most_common()))


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 6, sys.argv[2] if len(sys.argv) > 2 else "")
