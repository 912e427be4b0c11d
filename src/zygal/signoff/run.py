"""A plan carried out: everything measured, what fails soonest first."""

from __future__ import annotations

import os
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from functools import partial
from typing import TYPE_CHECKING, Any

from zygal.artifact.formats import ONNX, format_of
from zygal.errors import ImageError, PlanError
from zygal.listener import Listener
from zygal.machine.processor import allowed_cores, core_quota
from zygal.signoff.artifacts import Artifacts
from zygal.signoff.check import Check, Checks
from zygal.signoff.inputs import Input, hashes_of, inputs_of
from zygal.signoff.kept import Keeper, Result, Step, result_of
from zygal.signoff.page import MOST_IN_TABLE, SHOWN_IMAGES, SHOWN_WRONG
from zygal.signoff.pictures import drawn, thumbnails
from zygal.signoff.plan import Plan

if TYPE_CHECKING:
    from zygal.commands.bench.execute import BenchOutcome
    from zygal.inlet import Inlet

LONGEST_SECONDS = 180.0
"""For which is measured by itself so that a p99 has its runs."""
DEFAULT_BATCHES = (1, 8)


@dataclass
class Found:
    """Everything that a run of a plan found. artifact: the one that is signed off. not_checked: sentences on what the
    plan leaves open."""

    artifact: Input
    inputs: dict[str, Input]
    steps: dict[str, Step] = field(default_factory=dict)
    checks: list[Check] = field(default_factory=list)
    not_checked: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    unreadable: list[tuple[str, str]] = field(default_factory=list)


class Run:
    """reuse_speed: figures that were measured in an earlier run on the same things are used again."""

    def __init__(self, plan: Plan, keeper: Keeper, listener: Listener, reuse_speed: bool = False):
        self.plan, self.keeper, self.listener, self.reuse_speed = plan, keeper, listener, reuse_speed
        self.checks = Checks(plan)

    def all(self) -> Found:
        """Raises any ZygalError; what was done until then is kept."""
        self.listener.step("files")
        self.inputs = inputs_of(self.plan)
        artifacts = Artifacts(self.plan, self.keeper, self.listener, self.inputs)
        float_artifact, notes = artifacts.made()
        signed = artifacts.shrunk(float_artifact)
        self.found = Found(signed, self.inputs, notes=notes)
        if signed is not float_artifact:
            self.inputs["model.artifact"] = float_artifact
        self._survey()
        self._agreement(float_artifact, signed)
        self._accuracy(float_artifact)
        self._speed()
        self.found.unreadable = list(dict.fromkeys(self.found.unreadable))
        if self.plan.data.reference or self.plan.data.labelled:
            tallied = self.found.steps.get("accuracy")
            left_out = tallied.document["images_left_out"] if tallied else 0
            self.found.checks += self.checks.unreadable(len(self.found.unreadable) + left_out)
        return self.found

    def _take(self, name: str, about: Mapping[str, Any], make, reuse: bool = True) -> Step:
        self.listener.step(name)
        step = self.keeper.take(name, about, make, reuse)
        self.listener.detail(f"{name}: {'unchanged since an earlier run' if step.reused else f'{step.seconds:.1f} s'}")
        if hasattr(self, "found"):
            self.found.steps[name] = step
            self.found.unreadable += [(each["file"], each["reason"]) for each in step.document.get("unreadable", [])]
            self.found.notes += [each for each in step.document.get("notes", []) if each not in self.found.notes]
        return step

    def _hashes(self, *roles: str) -> dict[str, str]:
        return hashes_of(self.inputs, *roles)

    def _survey(self) -> None:
        from zygal.commands.survey import execute as survey

        found = self.found
        step = self._take(
            "survey",
            {"artifact": found.artifact.sha256, "path": found.artifact.path},
            lambda: result_of(survey.execute(survey.SurveyRequest(file=found.artifact.path), self.listener)),
        )
        found.checks += self.checks.portability(step.document)

    def _agreement(self, float_artifact: Input, signed: Input) -> None:
        data, found = self.plan.data, self.found
        if not data.witness:
            found.not_checked.append("agreement: not checked, because the plan names no witness (data.witness)")
            return
        both = [("agreement", signed, "")]
        if signed is not float_artifact:
            both = [("agreement_float", float_artifact, "float artifact"), ("agreement", signed, "shrunk artifact")]
        for name, artifact, role in both:
            about = {
                "artifact": artifact.sha256,
                "path": artifact.path,
                "limits": asdict(self.plan.agreement),
                "inlet": self._own_inlet(),
                "scores": self.plan.model.scores,
                **self._hashes("data.witness", "data.reference", "model.inlet"),
            }
            step = self._take(name, about, partial(self._match, artifact))
            found.checks += self.checks.agreement(step.document, role)
            found.not_checked += [each for each in step.document["not_checked"] if each not in found.not_checked]
        self._strip(signed)

    def _own_inlet(self) -> str | None:
        """The inlet to use instead of the one inside, where nothing was converted and the plan names one."""
        return self.plan.model.inlet if self.plan.model.source is None else None

    def _match(self, artifact: Input) -> Result:
        from zygal.commands.match import execute as match

        limits, data = self.plan.agreement, self.plan.data
        request = match.MatchRequest(
            artifact=artifact.path,
            witness=data.witness,
            images=data.reference,
            inlet=self._own_inlet() if data.reference else None,
            scores=self.plan.model.scores,
            tensor_limit=limits.tensor_grey_levels,
            model_limit=limits.model_of_spread,
            end_limit=limits.end_to_end_of_spread,
            agree_limit=limits.shrunk_top_1,
            order_limit=limits.shrunk_order,
            # A plan states the limits of all artifacts; those that do not concern this one wait for another.
            configured=frozenset(("tensor_limit", "model_limit", "end_limit", "agree_limit", "order_limit")),
        )
        outcome = match.execute(request, self.listener)
        shown = [each.name for each in outcome.found.images[:SHOWN_IMAGES]] if data.reference else []
        return result_of(outcome, thumbnails(data.reference, shown) if shown else {})

    def _strip(self, artifact: Input) -> None:
        """The inlet as a strip of pictures of the first reference image that can be read."""
        from zygal.artifact.formats import read_artifact
        from zygal.inlet import read_inlet
        from zygal.inlet.images import list_images

        folder, own = self.plan.data.reference, self._own_inlet()
        if folder is None:
            return
        inlet = read_inlet(own) if own else read_artifact(artifact.path).metadata.inlet
        if inlet is None:
            return
        about = {"inlet": asdict(inlet), **self._hashes("data.reference")}
        self._take(
            "inlet", about, lambda: _strip_of(inlet, [os.path.join(folder, name) for name in list_images(folder)])
        )

    def _accuracy(self, float_artifact: Input) -> None:
        data, found, wanted = self.plan.data, self.found, self.plan.accuracy
        if not data.labelled:
            found.not_checked.append("accuracy: not checked, because the plan names no labelled images (data.labelled)")
            return
        compare = {"source": self.plan.model.source, "float": float_artifact.path}.get(wanted.compare, wanted.compare)
        about = {
            "artifact": found.artifact.sha256,
            "path": found.artifact.path,
            "compare": compare,
            "float": float_artifact.sha256,
            "model": asdict(self.plan.model),
            **self._hashes(
                "data.labelled",
                "data.training",
                "model.source",
                "model.weights",
                "model.inlet",
                "model.labels",
                "accuracy.compare",
            ),
        }
        step = self._take("accuracy", about, partial(self._tally, found.artifact, compare))
        found.checks += self.checks.accuracy(step.document)

    def _tally(self, artifact: Input, compare: str | None) -> Result:
        from zygal.commands.tally import execute as tally
        from zygal.tally.figure_reliability import draw_reliability

        model, data = self.plan.model, self.plan.data
        own_labels = model.labels if model.source is None else None
        request = tally.TallyRequest(
            artifact=artifact.path,
            images=data.labelled,
            compare=compare,
            inlet=self._own_inlet(),
            labels=own_labels,
            weights=model.weights if compare == model.source else None,
            scores=model.scores,
            multi_label=model.multi_label,
            trained_on=(data.training,) if data.training else (),
        )
        outcome = tally.execute(request, self.listener)
        found = outcome.found
        pictures = thumbnails("", [each.path for each in found.misclassified[:SHOWN_WRONG]])
        title = f"confidence and accuracy, {found.images} images"
        pictures["reliability.svg"] = drawn(partial(draw_reliability, found.calibration, title), ".svg")
        if found.exclusive and len(found.exclusive.classes) > MOST_IN_TABLE:
            from zygal.tally.figure_confusion import draw_confusion

            pictures["confusion.png"] = drawn(
                partial(draw_confusion, found.exclusive, f"confusion matrix, {found.images} images"), ".png"
            )
        return result_of(outcome, pictures)

    def _speed(self) -> None:
        found, wanted = self.found, self.plan.speed
        if wanted is None:
            found.not_checked.append("speed and memory: not checked, because the plan has no table [speed]")
            return
        about = {
            "artifact": found.artifact.sha256,
            "path": found.artifact.path,
            "settings": asdict(wanted),
            "cores": [allowed_cores(), core_quota()],
            **self._hashes("data.witness", "speed.earlier"),
        }
        step = self._take("speed", about, self._bench, self.reuse_speed)
        found.checks += [*self.checks.speed(step.document), *self.checks.memory(step.document)]

    def _bench(self) -> Result:
        """Measured for as long as the plan says; again for longer where a p99 that it limits has too few runs."""
        seconds = self.plan.speed.seconds
        while True:
            outcome = self._measured(seconds)
            longer = seconds_for_p99(self.plan, outcome, seconds)
            if longer is None:
                return result_of(outcome)
            self.listener.note(f"too few runs for a p99 in {seconds:.0f} s; measuring again for {longer:.0f} s")
            seconds = longer

    def _measured(self, seconds: float) -> BenchOutcome:
        from zygal.artifact.formats import read_artifact
        from zygal.commands.bench import execute as bench
        from zygal.evidence.witness import read_witness

        wanted, witness, path = self.plan.speed, self.plan.data.witness, self.found.artifact.path
        batches = {*(wanted.batches or ()), *(limit.batch for limit in wanted.limits)}
        threads = {*(wanted.threads or ()), *(limit.threads for limit in wanted.limits)}
        metadata = read_artifact(path).metadata
        if metadata.tensor is not None and wanted.image_size is None:
            raise PlanError(
                f"{self.plan.path}: speed.image_size is missing: {path} takes raw pixels of any size, so say "
                f"which [height, width] is measured."
            )
        if witness and (metadata.tensor is not None or read_witness(witness).tensors is None):
            witness = None
        baseline = (
            {} if wanted.earlier is None else {"baseline": wanted.earlier, "max_slowdown": wanted.slowdown_at_most}
        )
        request = bench.BenchRequest(
            artifact=path,
            batches=tuple(sorted(batches)) or DEFAULT_BATCHES,
            threads=tuple(sorted(threads)) or None,
            seconds=seconds,
            witness=witness,
            image_size=wanted.image_size,
            layers=wanted.layers and format_of(path) is ONNX,
            **baseline,
        )
        outcome = bench.execute(request, self.listener)
        if outcome.interrupted:
            raise KeyboardInterrupt
        if outcome.refusal is not None:
            raise outcome.refusal
        return outcome


def seconds_for_p99(plan: Plan, outcome: BenchOutcome, seconds: float) -> float | None:
    """For how long to measure so that every p99 with a limit has its runs; None if they have, or cannot in
    LONGEST_SECONDS."""
    from zygal.bench.result import READINGS_FOR_P99

    settings = {(limit.batch, limit.threads) for limit in plan.speed.limits if limit.p99_at_most_ms is not None}
    few = [
        cell.latency.count
        for cell in outcome.bench.cells
        if (cell.setting.batch, cell.setting.threads) in settings and cell.quantile(0.99) is None
    ]
    if not few:
        return None
    needed = 1.3 * seconds * READINGS_FOR_P99 / max(min(few), 1)
    return needed if seconds < needed <= LONGEST_SECONDS else None


def _strip_of(inlet: Inlet, paths: list[str]) -> Result:
    from zygal.inlet.description import describe_inlet
    from zygal.inlet.figure import draw_strip
    from zygal.inlet.stages import stages_of

    for path in paths:
        try:
            stages = stages_of(path, inlet)
        except ImageError:
            continue
        picture = drawn(partial(draw_strip, stages, os.path.basename(path)), ".png")
        return Result(
            {
                "image": os.path.basename(path),
                "inlet": describe_inlet(inlet),
                "stages": [f"{each.name}: {each.does}" for each in stages],
            },
            {"strip.png": picture},
        )
    return Result({"image": None, "inlet": describe_inlet(inlet), "stages": []})
