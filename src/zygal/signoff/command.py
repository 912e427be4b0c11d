"""zygal signoff: everything that a plan says must hold, measured; one verdict, one page."""

from __future__ import annotations

import os
from contextlib import suppress
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from zygal.errors import OutputError, PlanError, ZygalError
from zygal.files.documents import json_text, json_value
from zygal.files.outputs import JSON, JUNIT, PAGE, Output, check_outputs
from zygal.listener import SILENT, Listener
from zygal.naming import command_line
from zygal.outcome import EXIT_CODES, INTERNAL, Outcome, Verdict, ended_document
from zygal.request import Request, option, paths_read, refuse_given

if TYPE_CHECKING:
    from zygal.signoff.check import Check
    from zygal.signoff.inputs import Input
    from zygal.signoff.kept import Step

PAGE_FILE, RESULT_FILE, JUNIT_FILE, KEPT_FOLDER = "page.html", "result.json", "junit.xml", "kept"
DEFAULT_PLAN = "signoff.toml"


@dataclass(frozen=True, kw_only=True)
class SignoffRequest(Request):
    """What zygal signoff is asked for."""

    plan: str = option(
        "the plan, a TOML file (default: {default})", DEFAULT_PLAN, positional=True, nargs="?", metavar="PLAN"
    )
    new: bool = option("write a commented plan there, from the files in its folder", False, configurable=False)
    output: str | None = option(
        "folder for page.html, result.json and junit.xml (default: PLAN.signoff, in the folder of the plan)",
        None,
        short="o",
        metavar="DIR",
        writes=True,
    )
    against: str | None = option(
        "the result.json of an earlier run: say what has changed since", None, metavar="FILE", reads=True
    )
    fresh: bool = option("compute everything again; otherwise what is unchanged is taken from the last run", False)
    reuse_speed: bool = option(
        "take the speed of the last run too, if artifact, settings, versions and machine are the same", False
    )
    allow_outside: bool = option("let the plan name files outside its folder", False, configurable=False)
    run_code: bool = option("let the plan name a source FILE.py:FUNCTION, which is run", False, configurable=False)

    @property
    def folder(self) -> Path:
        """Where page and results are written."""
        return Path(self.output) if self.output else Path(self.plan).with_suffix(".signoff")

    def results(self) -> list[Output]:
        """What is written. Its folder is made only when the plan has been read."""
        named = ((PAGE_FILE, PAGE), (RESULT_FILE, JSON), (JUNIT_FILE, JUNIT))
        return [Output(str(self.folder / name), kind, True) for name, kind in named]


@dataclass(frozen=True, kw_only=True)
class SignoffOutcome(Outcome):
    """steps: what was done, by name. checks: every gate, those that are only reported included. changes: since the run
    that it is held against. proposed: the text of a new plan, where that was asked for."""

    kind: ClassVar[str] = "zygal.signoff"

    request: SignoffRequest
    title: str
    plan_sha256: str | None = None
    signed_at: str | None = None
    artifact: Input | None = None
    inputs: tuple[Input, ...] = ()
    versions: dict[str, str] = field(default_factory=dict)
    machine: dict[str, Any] = field(default_factory=dict)
    checks: tuple[Check, ...] = ()
    not_checked: tuple[str, ...] = ()
    steps: dict[str, Step] = field(default_factory=dict)
    changes: tuple[dict[str, str], ...] | None = None
    proposed: str | None = None

    @property
    def verdict(self) -> Verdict:
        """A plan that requires nothing proves nothing."""
        found = super().verdict
        return Verdict.UNDECIDED if found is Verdict.PASSED and not self.gates and self.proposed is None else found

    @property
    def signed_off(self) -> bool:
        """Whether every gate that the plan requires passes, and there is one."""
        return self.verdict is Verdict.PASSED and self.proposed is None

    def result(self) -> dict[str, Any]:
        """See `Outcome.result`."""
        return {
            "title": self.title,
            "plan": self.request.plan,
            "plan_sha256": self.plan_sha256,
            "signed_off": self.signed_off,
            "signed_at": self.signed_at,
            "artifact": self.artifact and asdict(self.artifact),
            "inputs": [asdict(each) for each in self.inputs],
            "versions": self.versions,
            "machine": self.machine,
            "checks": [each.document() for each in self.checks],
            "not_checked": list(self.not_checked),
            "steps": {
                name: {
                    "seconds": step.seconds,
                    "measured_at": step.measured_at,
                    "reused": step.reused,
                    "document": step.document,
                }
                for name, step in self.steps.items()
            },
            "changes": None if self.changes is None else list(self.changes),
        }


def execute(request: SignoffRequest, listener: Listener = SILENT) -> SignoffOutcome:
    """Carries the plan out and writes page and results. Raises ZygalError; what was done until then is kept for the
    next run."""
    _check(request)
    if request.new:
        return _propose(request)
    try:
        return _carried_out(request, listener)
    except BaseException as fault:
        _end_earlier(request, fault)
        raise


def _end_earlier(request: SignoffRequest, fault: BaseException) -> None:
    """Results of an earlier run, which would be taken for those of this one, are replaced by what ended this one."""
    from zygal.files.writing import write_text
    from zygal.signoff.junit import junit_text
    from zygal.signoff.page import ended_page

    interrupted = isinstance(fault, KeyboardInterrupt)
    verdict = Verdict.INTERRUPTED if interrupted else Verdict.REFUSED
    known = interrupted or isinstance(fault, (ZygalError, MemoryError))
    # The code that the process ends with: an interrupt by another signal brings its own.
    code = getattr(fault, "exit_code", EXIT_CODES[verdict]) if known else INTERNAL
    sentence = (
        "the run was interrupted before everything was measured"
        if interrupted
        else str(fault)
        if known
        else f"internal error: {type(fault).__name__}: {fault}"
    )
    document = {
        "title": Path(request.plan).stem,
        "plan": request.plan,
        "signed_off": False,
        "checks": [],
        "steps": {},
        **ended_document(SignoffOutcome.kind, verdict, code, sentence),
    }
    texts = {PAGE: ended_page, JSON: json_text, JUNIT: junit_text}
    with suppress(ZygalError):
        for output in request.results():
            if os.path.lexists(output.path):
                check_outputs([output], False, paths_read(request))
                write_text(output.path, texts[output.kind](document))


def _carried_out(request: SignoffRequest, listener: Listener) -> SignoffOutcome:
    """Raises ZygalError."""
    from datetime import datetime, timezone

    from zygal.bench.machine import describe_machine
    from zygal.evidence.signoff_result import changes_since, read_signoff
    from zygal.signoff.kept import Keeper
    from zygal.signoff.read import read_plan
    from zygal.signoff.run import Run

    plan = read_plan(request.plan, request.allow_outside, request.run_code)
    earlier = read_signoff(request.against) if request.against else None
    check_outputs(request.results(), request.overwrite, paths_read(request))
    keeper = Keeper(request.folder / KEPT_FOLDER, request.fresh)
    try:
        found = Run(plan, keeper, listener, request.reuse_speed).all()
    except KeyboardInterrupt:
        listener.note("what was finished is kept; run the same command again to go on")
        raise
    outcome = SignoffOutcome(
        request=request,
        title=plan.title,
        plan_sha256=plan.sha256,
        artifact=found.artifact,
        signed_at=datetime.now(timezone.utc).isoformat(timespec="seconds"),
        inputs=tuple(found.inputs.values()),
        versions=keeper.about["versions"],
        machine=json_value(asdict(describe_machine())),
        checks=tuple(found.checks),
        not_checked=tuple(found.not_checked),
        steps=found.steps,
        gates=tuple(each.gate for each in found.checks if each.required),
        notes=(*found.notes, *keeper.notes),
        unreadable=tuple(found.unreadable),
        written=tuple(output.path for output in request.results()),
    )
    if earlier is not None:
        outcome = replace(outcome, changes=tuple(changes_since(earlier, json_value(outcome.document()))))
    listener.step("page")
    _write(outcome, found.steps)
    return outcome


def _write(outcome: SignoffOutcome, steps: dict[str, Step]) -> None:
    """The page, the JUnit file, and last the result, which says that all is there."""
    from zygal.files.writing import write_text
    from zygal.signoff.junit import junit_text
    from zygal.signoff.page import page_text

    page, result, junit = outcome.written
    document = json_value(outcome.document())
    write_text(page, page_text(document, {name: step.result.pictures for name, step in steps.items()}))
    write_text(junit, junit_text(document))
    write_text(result, json_text(document))


def _check(request: SignoffRequest) -> None:
    if request.new:
        refuse_given(
            request, ("output", "against", "fresh", "reuse_speed"), "--new, which only writes a plan", OutputError
        )
    elif not Path(request.plan).exists():
        raise PlanError(
            f"{request.plan} does not exist; write a plan with: "
            f"{command_line('zygal', 'signoff', '--new', request.plan)}"
        )
    if request.against and Path(request.against).resolve() == (request.folder / RESULT_FILE).resolve():
        raise OutputError(
            f"{request.against} is the result that this run replaces; copy it to another name first, or give -o DIR."
        )


def _propose(request: SignoffRequest) -> SignoffOutcome:
    """Writes a new plan."""
    from zygal.files.writing import check_writable, write_text
    from zygal.signoff.propose import proposed_plan

    if Path(request.plan).exists() and not request.overwrite:
        raise OutputError(f"{request.plan} exists; give another name, or add --overwrite to replace it.")
    check_writable(request.plan)
    text, notes = proposed_plan(Path(request.plan))
    write_text(request.plan, text)
    return SignoffOutcome(
        request=request,
        title=Path(request.plan).stem,
        proposed=text,
        notes=tuple(notes),
        written=(request.plan,),
        next_step=command_line("zygal", "signoff", request.plan),
    )
