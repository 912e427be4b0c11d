"""Whether all workers give the scores that this machine gives: test images and test tensors through every one of
them."""

from __future__ import annotations

import hashlib
import io
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from PIL import Image

from zygal.errors import ClusterError, ImageError
from zygal.evidence.result import elsewhere_limit
from zygal.inlet.sizes import fixed_size
from zygal.prediction.classifier import Classifier
from zygal.wording import counted

VERSIONS = ("onnxruntime", "ai-edge-litert", "pillow", "numpy")
"""Packages whose releases may change pixels or scores."""


@dataclass(frozen=True)
class Probed:
    """What one machine gives. scores: of each classifier, [N, ...]. pixels: a hash of the tensors of the test
    images."""

    versions: Mapping[str, str | None]
    instruction_sets: tuple[str, ...]
    scores: tuple[np.ndarray, ...]
    pixels: str

    def equals(self, other: Probed) -> bool:
        """Whether two machines gave the same numbers, to the last bit."""
        return self.pixels == other.pixels and all(map(np.array_equal, self.scores, other.scores))

    def largest_difference(self, other: Probed) -> float:
        """Of the spread of the scores; infinite where they are not of one shape."""
        found = 0.0
        for mine, theirs in zip(self.scores, other.scores):
            if mine.shape != theirs.shape or not np.isfinite(theirs).all():
                return float("inf")
            spread = float(mine.max() - mine.min()) or 1.0
            found = max(found, float(np.abs(mine.astype(np.float64) - theirs).max()) / spread)
        return found

    def difference_in_words(self, other: Probed) -> str:
        """What is another one there and here."""
        found = [
            f"{name} {other.versions[name]} there, {version} here"
            for name, version in self.versions.items()
            if other.versions[name] != version
        ]
        apart = sorted(set(self.instruction_sets) ^ set(other.instruction_sets))
        return (
            "; ".join(found + [f"instruction sets that only one of them has: {', '.join(apart)}"] * bool(apart))
            or "same versions and instruction sets"
        )


@dataclass(frozen=True)
class Probe:
    """Work without arguments: what the classifiers give on this machine. images: encoded test images."""

    classifiers: tuple[Classifier, ...]
    images: tuple[bytes, ...]

    def __call__(self) -> Probed:
        """Runs the test images on this machine."""
        from zygal.bench.machine import instruction_sets
        from zygal.machine.libraries import installed_version

        scores, digest = [], hashlib.sha256()
        for each in self.classifiers:
            scores.append(each.test_scores())
            for image in self.images:
                try:
                    tensor = each.read("the test image", image).tensor
                except ImageError as fault:  # An inlet may refuse what is not like its images.
                    digest.update(str(fault).encode())
                    continue
                digest.update(np.ascontiguousarray(tensor).tobytes())
                if each.raw or fixed_size(each.inlet) is not None:
                    scores.append(each.raw_output([tensor]))
        return Probed(
            {name: installed_version(name) for name in VERSIONS}, instruction_sets(), tuple(scores), digest.hexdigest()
        )


def make_probe(*classifiers: Classifier) -> Probe:
    """Test images that show differences of decoders, resizes and arithmetic."""
    rng = np.random.default_rng(0)
    smooth = Image.fromarray(rng.integers(0, 256, (30, 41, 3), np.uint8)).resize((643, 481), Image.Resampling.BICUBIC)
    images = []
    for form in ("JPEG", "PNG"):
        target = io.BytesIO()
        smooth.save(target, form)
        images.append(target.getvalue())
    return Probe(classifiers, tuple(images))


def judge(here: Probed, there: Mapping[str, Probed], in_8_bits: bool) -> list[str]:
    """Notes on workers that give other last digits. there: by the worker's address. Raises ClusterError for a worker
    whose scores differ by more than one artifact may differ on two machines."""
    limit, others = elsewhere_limit(in_8_bits), []
    for address, each in there.items():
        if here.equals(each):
            continue
        difference = here.largest_difference(each)
        if difference > limit:
            raise ClusterError(
                f"the worker {address} gives other scores than this machine (difference {difference:.2g} of the "
                f"spread, limit {limit:g}; {here.difference_in_words(each)}); use the same versions everywhere."
            )
        others.append((difference, address, each))
    if not others:
        return []
    difference, address, worst = max(others, key=lambda each: each[0])
    return [
        f"{counted(len(others), 'worker')} of {len(there)} give other last digits than this machine (at most "
        f"{difference:.2g} of the spread, at {address}: "
        f"{here.difference_in_words(worst)}); rows depend on where they are made by that much"
    ]
