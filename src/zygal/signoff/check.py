"""The gates of a plan, from the documents of the commands that measured."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, fields, replace
from typing import Any

from zygal.outcome import WORST_FIRST, Gate
from zygal.signoff.plan import Plan, SpeedLimit
from zygal.statistics.intervals import Estimate, share_of
from zygal.tally.calibration import Calibration
from zygal.tally.gates import calibration_gate, lost_gate, share_gate
from zygal.wording import RELEASE, counted, percent, rate, release_number

Document = Mapping[str, Any]


@dataclass(frozen=True)
class Check:
    """name: of the key in the plan, such as "accuracy.at_least", or of a match gate, such as "agreement.B". required:
    whether it can fail the plan. detail: what helps to judge the figure, such as its interval."""

    name: str
    gate: Gate
    required: bool
    detail: str = ""

    def document(self) -> dict[str, Any]:
        """The gate as JSON data, with its place in the plan."""
        return {**self.gate.document(), "name": self.name, "required": self.required, "detail": self.detail}


class Checks:
    """Makes the checks of one plan, table by table, each from the JSON document of the command that measures it. What
    could not be measured is a check that fails, with the reason."""

    def __init__(self, plan: Plan):
        self.plan = plan

    def _check(
        self,
        name: str,
        condition: str,
        measured: float | None,
        limit: float,
        unit: str,
        *,
        least: bool = False,
        explanation: str = "",
        detail: str = "",
        ends: Sequence[float | None] = (None, None),
    ) -> Check:
        """The gate is named by its key, without the table. ends: of the 95 % interval, where the figure has one."""
        gate = Gate(
            name.partition(".")[2],
            condition,
            measured,
            limit,
            unit,
            explanation,
            least,
            *ends,
            "raise speed.seconds, or measure on a quieter machine",
        )
        return self._from(name, gate, detail)

    def _from(self, name: str, gate: Gate, detail: str = "") -> Check:
        return Check(name, gate, self.plan.required(name), detail)

    def unreadable(self, count: int) -> Iterator[Check]:
        """Inputs of all steps that could not be read."""
        yield self._check(
            "data.unreadable_at_most",
            "images that could not be read, or whose label is no class",
            count,
            self.plan.data.unreadable_at_most,
            "images",
        )

    def portability(self, survey: Document) -> Iterator[Check]:
        """Size, opset and oldest runtime, from zygal survey."""
        wanted = self.plan.portability
        if wanted.size_at_most_mb is not None:
            yield self._check(
                "portability.size_at_most_mb",
                "size of the artifact",
                survey["size_bytes"] / 1e6,
                wanted.size_at_most_mb,
                "MB",
            )
        if wanted.opset_at_most is not None:
            none = f"{survey['format']} has no opset"
            yield self._check(
                "portability.opset_at_most", "ONNX opset", survey["opset"], wanted.opset_at_most, "", explanation=none
            )
        if wanted.runs_on is not None:
            oldest = survey["oldest_runtime"]
            yield self._check(
                "portability.runs_on",
                "oldest release of the runtime that loads it",
                oldest and release_number(oldest),
                release_number(wanted.runs_on),
                RELEASE,
                explanation=f"not known for {survey['format']}",
            )

    def agreement(self, match: Document, role: str = "") -> Iterator[Check]:
        """Every gate of zygal match. role: in words, where several artifacts are checked."""
        for each in match["gates"]:
            gate = gate_of(each)
            name = f"agreement.{gate.name}"
            yield Check(
                name, replace(gate, condition=f"{role}: {gate.condition}") if role else gate, self.plan.required(name)
            )

    def accuracy(self, tally: Document) -> Iterator[Check]:
        """Accuracy over all, of classes and of groups, calibration, and what is lost to another model, from zygal
        tally."""
        wanted = self.plan.accuracy
        images = counted(tally["images"], "image")
        if wanted.at_least is not None:
            yield self._share(
                "accuracy.at_least", "accuracy", tally["accuracy"], wanted.at_least, tally["images"], images
            )
        recalls = _recalls(tally)
        yield from self._each("classes", "each_class_at_least", "recall", recalls)
        groups = {name: (each["accuracy"], each["images"]) for name, each in tally["groups"].items()}
        yield from self._each("groups", "each_group_at_least", "accuracy", groups)
        if wanted.calibration_error_at_most is not None:
            yield self._calibration(tally["calibration"], wanted.calibration_error_at_most)
        if wanted.lost_at_most is not None:
            yield self._lost(tally)

    def _each(
        self, table: str, every: str, what: str, found: Mapping[str, tuple[Document | None, int]]
    ) -> Iterator[Check]:
        """The lowest of all classes or groups, and single ones."""
        wanted, noun = self.plan.accuracy, {"classes": "class", "groups": "group"}[table]
        least = getattr(wanted, every)
        known = {name: each for name, each in found.items() if each[0] is not None}
        if least is not None:
            # One that fails comes first, then one that is not known, which may be another than the one with the lowest
            # figure.
            gates = {name: share_gate("", "", _estimate(estimate), least, 1) for name, (estimate, _) in known.items()}
            lowest = min(
                known, key=lambda name: (WORST_FIRST.index(gates[name].verdict), known[name][0]["value"]), default=None
            )
            estimate, images = known[lowest] if lowest is not None else (None, 0)
            absent = [name for name in found if name not in known]
            none = (
                f"no {noun} has images"
                if table == "classes"
                else "the labelled images have no groups (a column group in the CSV)"
            )
            detail = f"{lowest}, {counted(images, 'image')}" if estimate else ""
            detail += f"; without images: {', '.join(absent)}" if absent else ""
            yield self._share(f"accuracy.{every}", f"{what} of every {noun}", estimate, least, images, detail, none)
        for name, share in getattr(wanted, table).items():
            estimate, images = found.get(name, (None, 0))
            why = (
                f"there are no images of this {noun}"
                if name in found
                else f"there is no such {noun}; there are {', '.join(list(found)[:6]) or 'none'}"
            )
            yield self._share(
                f"accuracy.{table}",
                f"{what} of the {noun} {name}",
                estimate,
                share,
                images,
                counted(images, "image"),
                why,
            )

    def _lost(self, tally: Document) -> Check:
        paired, limit = tally["paired"], self.plan.accuracy.lost_at_most
        lost = _estimate(paired["difference"]).negated()
        gate = lost_gate("lost_at_most", f"accuracy lost to {tally['compared']}", lost, limit, paired["images"])
        return self._from(
            "accuracy.lost_at_most",
            gate,
            f"{counted(paired['images'], 'image')}, {_interval(paired['difference'], -1)}",
        )

    def _share(
        self,
        name: str,
        condition: str,
        estimate: Document | None,
        limit: float,
        images: int,
        detail: str,
        explanation: str = "",
    ) -> Check:
        """A share that must be at least `limit`. images: that it was estimated on."""
        if estimate is None:
            return self._check(
                name, condition, None, limit, "share", least=True, explanation=explanation, detail=detail
            )
        gate = share_gate(name.partition(".")[2], condition, _estimate(estimate), limit, images)
        return self._from(name, gate, f"{detail}, {_interval(estimate)}")

    def _calibration(self, found: Document, limit: float) -> Check:
        calibration = Calibration(
            found["expected_calibration_error"],
            found["corrected_calibration_error"],
            found["ci95_low"],
            found["ci95_high"],
            found["error_by_chance"],
            found["p_value_of_perfect_calibration"],
            found["predictions"],
            found["mean_confidence"],
            _estimate(found["accuracy"]),
            (),
        )
        detail = (
            f"{counted(calibration.images, 'prediction')}, {percent(calibration.expected_error)} before the "
            f"correction, 95 % CI {percent(calibration.low)} to {percent(calibration.high)}, p = "
            f"{calibration.p_value:.2g} for a perfectly calibrated model"
        )
        return self._from(
            "accuracy.calibration_error_at_most",
            calibration_gate("calibration_error_at_most", calibration, limit),
            detail,
        )

    def speed(self, bench: Document) -> Iterator[Check]:
        """Every limit of [[speed.limits]], and the slowdown since an earlier run, from zygal bench."""
        wanted = self.plan.speed
        for limit in wanted.limits:
            cell = next(
                (
                    each
                    for each in bench["cells"]
                    if (each["batch_images"], each["threads"]) == (limit.batch, limit.threads)
                ),
                None,
            )
            yield from self._at_setting(limit, cell)
        if wanted.slowdown_at_most is not None:
            found = [gate_of(each) for each in bench["gates"] if each["name"] == "baseline"]
            missing = Gate(
                "baseline",
                "slowdown since the earlier run",
                None,
                wanted.slowdown_at_most,
                "share",
                "the two runs could not be compared",
            )
            for gate in found or [missing]:
                yield self._from("speed.slowdown_at_most", replace(gate, name="slowdown_at_most"), wanted.earlier)

    def _at_setting(self, limit: SpeedLimit, cell: Document | None) -> Iterator[Check]:
        where = f"batch {limit.batch}, {counted(limit.threads, 'thread')}"
        missing = "not measured"
        if limit.median_at_most_ms is not None:
            value, detail, ends = cell and 1e3 * cell["latency_median_seconds"], "", (None, None)
            if cell:
                low, high = ends = [1e3 * each for each in cell["latency_ci95_seconds"]]
                detail = f"95 % CI {low:.3g} to {high:.3g} ms"
            yield self._check(
                "speed.median_at_most_ms",
                f"{where}: median time of a batch",
                value,
                limit.median_at_most_ms,
                "ms",
                explanation=missing,
                detail=detail,
                ends=ends,
            )
        if limit.p99_at_most_ms is not None:
            p99 = cell and cell["latency_p99_seconds"]
            few = f"{cell['runs']} runs are too few for a p99; raise speed.seconds" if cell else missing
            ends = (
                [None if each is None else 1e3 * each for each in cell["latency_p99_ci95_seconds"] or (None, None)]
                if cell
                else (None, None)
            )
            detail = (
                f"{cell['runs']} runs" + (f", 95 % CI {ends[0]:.3g} to {ends[1]:.3g} ms" if ends[0] is not None else "")
                if cell
                else ""
            )
            yield self._check(
                "speed.p99_at_most_ms",
                f"{where}: p99 of the time of a batch",
                None if p99 is None else 1e3 * p99,
                limit.p99_at_most_ms,
                "ms",
                explanation=few,
                detail=detail,
                ends=ends,
            )
        if limit.images_per_second_at_least is not None:
            detail, ends = "", (None, None)
            if cell:
                low, high = ends = [limit.batch / each for each in reversed(cell["latency_ci95_seconds"])]
                detail = f"95 % CI {rate(low)} to {rate(high)} images/s"
            yield self._check(
                "speed.images_per_second_at_least",
                f"{where}: throughput",
                cell and cell["images_per_second"],
                limit.images_per_second_at_least,
                "images/s",
                least=True,
                explanation=missing,
                detail=detail,
                ends=ends,
            )

    def memory(self, bench: Document) -> Iterator[Check]:
        """The highest peak of all settings that zygal bench ran in processes of their own."""
        limit = self.plan.memory.peak_at_most_mb
        if limit is None:
            return
        peaks = {
            f"batch {each['batch_images']}, {counted(each['threads'], 'thread')}": each["peak_memory_bytes"] / 1e6
            for each in bench["cells"]
            if each["peak_memory_bytes"]
        }
        highest = max(peaks, key=peaks.get, default=None)
        yield self._check(
            "memory.peak_at_most_mb",
            "peak memory",
            peaks.get(highest),
            limit,
            "MB",
            explanation="memory could not be measured on this system",
            detail=f"at {highest}" if highest else "",
        )


def gate_of(document: Document) -> Gate:
    """A gate from the JSON result of its command."""
    return Gate(**{field.name: document[field.name] for field in fields(Gate)})


def _estimate(document: Document) -> Estimate:
    return Estimate(document["value"], document["ci95_low"], document["ci95_high"])


def _interval(estimate: Document, sign: int = 1) -> str:
    low, high = sorted(sign * estimate[end] for end in ("ci95_low", "ci95_high"))
    return f"95 % CI {percent(low)} to {percent(high)}"


def _recalls(tally: Document) -> dict[str, tuple[Document | None, int]]:
    """The recall of each class with its interval, None without images, and how many images it has."""
    if tally["exclusive"]:
        return {each["name"]: (each["recall_interval"], each["support"]) for each in tally["exclusive"]["classes"]}
    return {
        each["name"]: (_share(each["correct"], each["support"]), each["support"])
        for each in tally["multi_label"]["labels"]
    }


def _share(count: int, total: int) -> Document | None:
    if not total:
        return None
    share = share_of(count, total)
    return {"value": share.value, "ci95_low": share.low, "ci95_high": share.high}
