"""The artifacts of a plan: made from their source where they are missing or were made from other things."""

from __future__ import annotations

import os
from collections.abc import Mapping
from dataclasses import asdict
from functools import partial
from typing import Any

from zygal.artifact.formats import artifact_hash
from zygal.errors import PlanError
from zygal.listener import Listener
from zygal.signoff.inputs import Input, artifact_at, hashes_of
from zygal.signoff.kept import Keeper, Result, result_of
from zygal.signoff.plan import Plan


class Artifacts:
    """inputs: of the plan, by their roles."""

    def __init__(self, plan: Plan, keeper: Keeper, listener: Listener, inputs: Mapping[str, Input]):
        self.plan, self.keeper, self.listener, self.inputs = plan, keeper, listener, inputs

    def _hashes(self, *roles: str) -> dict[str, str]:
        return hashes_of(self.inputs, *roles)

    def made(self) -> tuple[Input, list[str]]:
        """The float artifact, made from its source if it has to be, and notes."""
        model = self.plan.model
        path, there = model.artifact, os.path.exists(model.artifact)
        if not model.source:
            if not there:
                raise PlanError(
                    f"{self.plan.path}: model.artifact {path} does not exist, and no model.source is named to "
                    f"make it from."
                )
            return artifact_at("model.artifact", path), []
        settings = {name: value for name, value in asdict(self.plan.convert).items() if value not in (None, False)}
        about = {
            "settings": settings,
            "scores": model.scores,
            "output": path,
            **self._hashes("model.source", "model.weights", "model.inlet", "model.labels"),
        }
        why = "" if there else "it is missing"
        if there:
            why = self._why_stale(path, about, settings)
        if why:
            self.keeper.take("convert", {**about, "why": why}, partial(self._convert, settings), reuse=False)
            self._remember("artifact", about, path)
        made = artifact_at("model.artifact", path)
        return made, [f"{path} was made from {model.source}, because {why}"] if why else []

    def _why_stale(self, path: str, about: Mapping[str, Any], settings: Mapping[str, Any]) -> str:
        """Why an artifact must be made again; empty if it need not be. What this plan made last is known by its hash;
        of another one its metadata are compared."""
        if self._knows("artifact", about, path):
            return ""
        from zygal.artifact.formats import read_artifact
        from zygal.classifier.labels import read_labels
        from zygal.inlet import read_inlet

        inside, model = read_artifact(path).metadata, self.plan.model
        if inside.origin is None or inside.origin.source_sha256 != self.inputs["model.source"].sha256:
            return "it was made from other bytes"
        if model.inlet and read_inlet(model.inlet) != inside.inlet:
            return f"it holds another inlet than {model.inlet}"
        if model.labels and tuple(read_labels(model.labels).names) != tuple(inside.labels or ()):
            return f"it holds other labels than {model.labels}"
        return "it may have been made with other settings than those of [convert]" if settings else ""

    def _knows(self, name: str, about: Mapping[str, Any], path: str) -> bool:
        """Whether a file is the one that this plan last made of these things."""
        return self.keeper.take(
            name, {**about, "sha256": artifact_hash(path)}, lambda: Result({"known": False})
        ).document["known"]

    def _remember(self, name: str, about: Mapping[str, Any], path: str) -> None:
        self.keeper.take(name, {**about, "sha256": artifact_hash(path)}, lambda: Result({"known": True}), reuse=False)

    def _convert(self, settings: Mapping[str, Any]) -> Result:
        from zygal.commands import convert

        model = self.plan.model
        request = convert.ConvertRequest(
            source=model.source,
            output=model.artifact,
            weights=model.weights,
            inlet=model.inlet,
            labels=model.labels,
            scores=model.scores,
            overwrite=False,
            **settings,
        )
        return result_of(convert.execute(request, self.listener))

    def shrunk(self, artifact: Input) -> Input:
        """The artifact to sign off: the float one, or the one that is shrunk from it."""
        wanted = self.plan.shrink
        if wanted is None:
            return artifact
        about = {
            "settings": asdict(wanted),
            "artifact": artifact.sha256,
            **self._hashes("shrink.images", "data.witness", "data.labelled"),
        }
        if not os.path.exists(wanted.output) or not self._knows("shrunk", about, wanted.output):
            self.listener.step("shrink")
            self.keeper.take("shrink", about, partial(self._shrink, artifact), reuse=False)
            self._remember("shrunk", about, wanted.output)
        return artifact_at("shrink.output", wanted.output)

    def _shrink(self, artifact: Input) -> Result:
        from zygal.commands.shrink import execute as shrink

        wanted, data = self.plan.shrink, self.plan.data
        request = shrink.ShrinkRequest(
            artifact=artifact.path,
            output=wanted.output,
            images=wanted.images,
            witness=None if wanted.images else data.witness,
            agree=wanted.agree,
            lose=wanted.lose,
            speed=wanted.speed,
            half=wanted.half,
            labelled=data.labelled if wanted.lose is not None else None,
        )
        outcome = shrink.execute(request, self.listener)
        if outcome.refusal is not None:
            raise outcome.refusal
        return result_of(outcome)
