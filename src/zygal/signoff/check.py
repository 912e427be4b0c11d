"""The gates of a plan, from the documents of the commands that measured."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, fields, replace
from typing import Any

from zygal.outcome import Gate
from zygal.signoff.plan import Plan, SpeedLimit
from zygal.tally.intervals import share_of
from zygal.wording import RELEASE, counted, percent, rate, release_number

Document = Mapping[str, Any]


@dataclass(frozen=True)
class Check:
    """name: of the key in the plan, such as "accuracy.at_least", or of a match gate, such as "agreement.B". required: whether it can fail
    the plan. detail: what helps to judge the figure, such as its interval."""

    name: str
    gate: Gate
    required: bool
    detail: str = ""

    def document(self) -> dict[str, Any]:
        return {**self.gate.document(), "name": self.name, "required": self.required, "detail": self.detail}


class Checks:
    """Makes the checks of one plan, table by table, each from the JSON document of the command that measures it. What could not be measured
    is a check that fails, with the reason."""

    def __init__(self, plan: Plan):
        self.plan = plan

    def _check(self, name: str, condition: str, measured: float | None, limit: float, unit: str, *, least: bool = False,
               explanation: str = "", detail: str = "") -> Check:  # fmt: skip
        """The gate is named by its key, without the table."""
        gate = Gate(name.partition(".")[2], condition, measured, limit, unit, explanation, least)
        return Check(name, gate, self.plan.required(name), detail)

    def portability(self, survey: Document) -> Iterator[Check]:
        """Size, opset and oldest runtime, from zygal survey."""
        wanted = self.plan.portability
        if wanted.size_at_most_mb is not None:
            yield self._check("portability.size_at_most_mb", "size of the artifact", survey["size_bytes"] / 1e6, wanted.size_at_most_mb, "MB")
        if wanted.opset_at_most is not None:
            none = f"{survey['format']} has no opset"
            yield self._check("portability.opset_at_most", "ONNX opset", survey["opset"], wanted.opset_at_most, "", explanation=none)
        if wanted.runs_on is not None:
            oldest = survey["oldest_runtime"]
            yield self._check("portability.runs_on", "oldest release of the runtime that loads it", oldest and release_number(oldest),
                              release_number(wanted.runs_on), RELEASE, explanation=f"not known for {survey['format']}")  # fmt: skip

    def agreement(self, match: Document, role: str = "") -> Iterator[Check]:
        """Every gate of zygal match. role: in words, where several artifacts are checked."""
        for each in match["gates"]:
            gate = Gate(**{field.name: each[field.name] for field in fields(Gate)})
            name = f"agreement.{gate.name}"
            yield Check(name, replace(gate, condition=f"{role}: {gate.condition}") if role else gate, self.plan.required(name))

    def accuracy(self, tally: Document) -> Iterator[Check]:
        """Accuracy over all, of classes and of groups, calibration, and what is lost to another model, from zygal tally."""
        wanted = self.plan.accuracy
        images = counted(tally["images"], "image")
        if wanted.at_least is not None:
            yield self._check("accuracy.at_least", "accuracy", tally["accuracy"]["value"], wanted.at_least, "share", least=True,
                              detail=f"{images}, {_interval(tally['accuracy'])}")  # fmt: skip
        recalls = _recalls(tally)
        yield from self._each("classes", "each_class_at_least", "recall", recalls)
        groups = {name: (each["accuracy"], each["images"]) for name, each in tally["groups"].items()}
        yield from self._each("groups", "each_group_at_least", "accuracy", groups)
        if wanted.calibration_error_at_most is not None:
            yield self._check("accuracy.calibration_error_at_most", "expected calibration error", tally["calibration"]["expected_calibration_error"],
                              wanted.calibration_error_at_most, "share", detail=images)  # fmt: skip
        if wanted.lost_at_most is not None:
            yield self._lost(tally)

    def _each(self, table: str, every: str, what: str, found: Mapping[str, tuple[Document | None, int]]) -> Iterator[Check]:
        """The lowest of all classes or groups, and single ones."""
        wanted, noun = self.plan.accuracy, {"classes": "class", "groups": "group"}[table]
        least = getattr(wanted, every)
        known = {name: each for name, each in found.items() if each[0] is not None}
        if least is not None:
            lowest = min(known, key=lambda name: known[name][0]["value"], default=None)
            estimate, images = known[lowest] if lowest is not None else (None, 0)
            absent = [name for name in found if name not in known]
            none = f"no {noun} has images" if table == "classes" else "the labelled images have no groups (a column group in the CSV)"
            detail = f"lowest: {lowest}, {counted(images, 'image')}, {_interval(estimate)}" if estimate else ""
            detail += f"; without images: {', '.join(absent)}" if absent else ""
            yield self._check(f"accuracy.{every}", f"lowest {what} of a {noun}", estimate and estimate["value"], least, "share", least=True,
                              explanation=none, detail=detail)  # fmt: skip
        for name, share in getattr(wanted, table).items():
            estimate, images = found.get(name, (None, 0))
            why = f"there are no images of this {noun}" if name in found else f"there is no such {noun}; there are {', '.join(list(found)[:6]) or 'none'}"
            yield self._check(f"accuracy.{table}", f"{what} of the {noun} {name}", estimate and estimate["value"], share, "share", least=True,
                              explanation=why, detail=f"{counted(images, 'image')}, {_interval(estimate)}" if estimate else "")  # fmt: skip

    def _lost(self, tally: Document) -> Check:
        paired, limit = tally["paired"], self.plan.accuracy.lost_at_most
        gained = paired["difference"]
        lost = {"value": 0.0 - gained["value"], "ci95_low": 0.0 - gained["ci95_high"], "ci95_high": 0.0 - gained["ci95_low"]}
        detail = f"{counted(paired['images'], 'image')}, {_interval(lost)}"
        if lost["value"] <= limit < lost["ci95_high"]:
            detail += "; the interval reaches beyond the limit: more images would tell"
        return self._check("accuracy.lost_at_most", f"accuracy lost to {tally['compared']}", lost["value"], limit, "share", detail=detail)

    def speed(self, bench: Document) -> Iterator[Check]:
        """Every limit of [[speed.limits]], and the slowdown since an earlier run, from zygal bench."""
        wanted = self.plan.speed
        for limit in wanted.limits:
            cell = next((each for each in bench["cells"] if (each["batch_images"], each["threads"]) == (limit.batch, limit.threads)), None)
            yield from self._at_setting(limit, cell)
        if wanted.slowdown_at_most is not None:
            gate = next((each for each in bench["gates"] if each["name"] == "baseline"), None)
            yield self._check("speed.slowdown_at_most", "significant slowdown since the earlier run", gate and gate["measured"], wanted.slowdown_at_most,
                              "share", explanation="the two runs could not be compared", detail=wanted.earlier)  # fmt: skip

    def _at_setting(self, limit: SpeedLimit, cell: Document | None) -> Iterator[Check]:
        where = f"batch {limit.batch}, {counted(limit.threads, 'thread')}"
        missing = "not measured"
        if limit.median_at_most_ms is not None:
            value, detail = cell and 1e3 * cell["latency_median_seconds"], ""
            if cell:
                low, high = (1e3 * each for each in cell["latency_ci95_seconds"])
                detail = f"95 % CI {low:.3g} to {high:.3g} ms" + _near(low, high, limit.median_at_most_ms)
            yield self._check("speed.median_at_most_ms", f"{where}: median time of a batch", value, limit.median_at_most_ms, "ms", explanation=missing, detail=detail)
        if limit.p99_at_most_ms is not None:
            p99 = cell and cell["latency_p99_seconds"]
            few = f"{cell['runs']} runs are too few for a p99; raise speed.seconds" if cell else missing
            yield self._check("speed.p99_at_most_ms", f"{where}: p99 of the time of a batch", None if p99 is None else 1e3 * p99, limit.p99_at_most_ms,
                              "ms", explanation=few, detail=f"{cell['runs']} runs" if cell else "")  # fmt: skip
        if limit.images_per_second_at_least is not None:
            detail = ""
            if cell:
                low, high = (limit.batch / each for each in reversed(cell["latency_ci95_seconds"]))
                detail = f"95 % CI {rate(low)} to {rate(high)} images/s" + _near(low, high, limit.images_per_second_at_least)
            yield self._check("speed.images_per_second_at_least", f"{where}: throughput", cell and cell["images_per_second"],
                              limit.images_per_second_at_least, "images/s", least=True, explanation=missing, detail=detail)  # fmt: skip

    def memory(self, bench: Document) -> Iterator[Check]:
        """The highest peak of all settings that zygal bench ran in processes of their own."""
        limit = self.plan.memory.peak_at_most_mb
        if limit is None:
            return
        peaks = {f"batch {each['batch_images']}, {counted(each['threads'], 'thread')}": each["peak_memory_bytes"] / 1e6
                 for each in bench["cells"] if each["peak_memory_bytes"]}  # fmt: skip
        highest = max(peaks, key=peaks.get, default=None)
        yield self._check("memory.peak_at_most_mb", "peak memory", peaks.get(highest), limit, "MB",
                          explanation="memory could not be measured on this system", detail=f"at {highest}" if highest else "")  # fmt: skip


def _near(low: float, high: float, limit: float) -> str:
    return "; the limit lies within it: the verdict can change from run to run" if low <= limit <= high else ""


def _interval(estimate: Document) -> str:
    return f"95 % CI {percent(estimate['ci95_low'])} to {percent(estimate['ci95_high'])}"


def _recalls(tally: Document) -> dict[str, tuple[Document | None, int]]:
    """The recall of each class with its interval, None without images, and how many images it has."""
    if tally["exclusive"]:
        return {each["name"]: (each["recall_interval"], each["support"]) for each in tally["exclusive"]["classes"]}
    return {each["name"]: (_share(each["correct"], each["support"]), each["support"]) for each in tally["multi_label"]["labels"]}


def _share(count: int, total: int) -> Document | None:
    if not total:
        return None
    share = share_of(count, total)
    return {"value": share.value, "ci95_low": share.low, "ci95_high": share.high}

