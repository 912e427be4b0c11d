"""The report of zygal pack."""

from __future__ import annotations

from zygal.bundle.command import PackOutcome
from zygal.cli.reports.verdict import FAILED, show_gates, show_verdict
from zygal.cli.tables import show_facts, show_sentence
from zygal.wording import clean_sentence, counted, file_size


def show(out, outcome: PackOutcome) -> None:
    """What was packed, or what the check found."""
    signed = outcome.signoff
    facts = [
        ("SHA-256", outcome.bundle_sha256),
        ("size", f"{file_size(outcome.bundle_bytes)}, {counted(len(outcome.files), 'file')}"),
        (
            "sign-off",
            f"{signed['title']}, {signed['signed_at']}, artifact {signed['artifact_sha256'][:12]}"
            if signed
            else "none",
        ),
    ]
    if outcome.checked is None:
        facts[2:2] = [
            (
                "artifact",
                f"{each['file']}, SHA-256 {each['sha256'][:12]}, "
                f"{counted(len(each['references']), 'reference image')}, "
                f"{'' if signed and signed['artifact_sha256'] == each['sha256'] else 'not '}signed off",
            )
            for each in outcome.models
        ]
        facts.append(
            (
                "runners",
                ", ".join(
                    each
                    for each in outcome.files
                    if each.endswith((".py", ".mjs", ".html")) and each not in ("page.html", "classifier.mjs")
                )
                or "left out",
            )
        )
        show_facts(out, f"{outcome.bundle} is packed", facts)
        return
    show_facts(out, outcome.bundle, facts)
    out.print()
    for line in outcome.checked.said:
        show_sentence(out, f"  {line}")
    if outcome.checked.said:
        out.print()
    show_gates(out, outcome.gates)
    for sentence in outcome.checked.faults:
        show_sentence(out, clean_sentence(sentence), FAILED)
    for sentence in outcome.checked.not_checked:
        show_sentence(out, clean_sentence(f"Not checked: {sentence.replace(': not checked,', ',')}"), "yellow")
    show_verdict(out, outcome)
