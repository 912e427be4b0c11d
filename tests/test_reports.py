"""Reports and documents: what a hand-made outcome of every command looks like, at three widths and as JSON.

ZYGAL_ACCEPT=1 writes the golden texts anew; read them before you commit them.
"""

import io
import json
import os
import re
from pathlib import Path

import jsonschema
import pytest
from outcomes import ALL, match_fails, recover_fails

from zygal.cli.names import COMMANDS
from zygal.cli.reports import (
    bench,
    classify,
    convert,
    demo,
    inlet,
    inlet_draw,
    inlet_recipes,
    match,
    pack,
    shrink,
    signoff,
    survey,
    tally,
    witness,
)
from zygal.cli.terminal import console
from zygal.files.documents import json_value
from zygal.outcome import GATE_FAILED, INTERRUPTED, PASS, SOME_UNREADABLE, Gate, Outcome
from zygal.results.schema import RESULTS, schema_text

GOLDEN, SCHEMAS = Path(__file__).with_name("golden"), Path(__file__).parents[1] / "docs" / "schemas"
REPORTS = {
    "bench": bench,
    "classify": classify,
    "convert": convert,
    "demo": demo,
    "draw": inlet_draw,
    "match": match,
    "recipes": inlet_recipes,
    "pack": pack,
    "recover": inlet,
    "shrink": shrink,
    "signoff": signoff,
    "survey": survey,
    "tally": tally,
    "witness": witness,
}
OLD_WORDS = ("HOLDS", "BREAKS", "holds:", "breaks:", "answered otherwise", "afresh", "Doubt:")
"""Names that options, gates and sentences had once."""


def text(name, width):
    stream = io.StringIO()
    REPORTS[name.partition("_")[0]].show(console(stream, "never", width), ALL[name]())
    return "\n".join(line.rstrip() for line in stream.getvalue().splitlines()) + "\n"


@pytest.mark.parametrize("width", [80, 120, 200])
@pytest.mark.parametrize("name", ALL)
def test_every_report_is_the_golden_text(name, width):
    path, found = GOLDEN / f"{name}.{width}.txt", text(name, width)
    if os.environ.get("ZYGAL_ACCEPT"):
        path.parent.mkdir(exist_ok=True)
        path.write_text(found)
    assert found == path.read_text()
    # Only what is one word, or a command to paste, may be wider than the terminal.
    assert all(len(line) <= width or " " not in line.strip() for line in found.splitlines()), found


def test_no_report_and_no_help_uses_an_old_word(shipped):
    from conftest import called

    texts = {path.name: path.read_text() for path in GOLDEN.iterdir()}
    texts |= {name: called("help", name, cwd=shipped).stdout for name in COMMANDS}
    texts |= {
        f"inlet {name}": called("help", "inlet", name, cwd=shipped).stdout for name in ("recover", "draw", "recipes")
    }
    texts["zygal"] = called(cwd=shipped).stdout
    assert len(texts) >= 3 * len(ALL) + len(COMMANDS)
    for name, content in texts.items():
        assert not [
            word
            for word in OLD_WORDS
            if re.search(rf"(?<!\w){re.escape(word)}(?!\w)", content.replace("--weights-beside", ""))
        ], name


@pytest.mark.parametrize("kind", RESULTS)
def test_schemas_are_made_of_the_types(kind):
    path, made = SCHEMAS / f"{kind}.json", schema_text(kind)
    if os.environ.get("ZYGAL_ACCEPT"):
        path.write_text(made)
    assert path.read_text() == made
    jsonschema.Draft202012Validator.check_schema(json.loads(made))
    assert {each.stem for each in SCHEMAS.glob("*.json")} == set(RESULTS) == {make().kind for make in ALL.values()}


@pytest.mark.parametrize("name", ALL)
def test_every_document_follows_its_schema(name):
    outcome = ALL[name]()
    document = json.loads(json.dumps(json_value(outcome.document())))
    schema = json.loads((SCHEMAS / f"{outcome.kind}.json").read_text())
    jsonschema.Draft202012Validator(schema).validate(document)
    assert document["kind"] == outcome.kind and document["version"] == outcome.version
    # What a schema does not know is refused, or it would check nothing.
    assert not jsonschema.Draft202012Validator(schema).is_valid(document | {"unknown_field": 1})


def test_an_outcome_has_one_exit_code():
    class Plain(Outcome):
        kind = "zygal.plain"

        def result(self):
            return {}

    passed, failed = Gate("g", "x", 1.0, 1.0, "ms"), Gate("g", "x", 1.1, 1.0, "ms")
    assert Plain(gates=(passed,)).exit_code == PASS and Plain(gates=(passed, failed)).exit_code == GATE_FAILED
    assert Plain(unreadable=(("a", "b"),)).exit_code == SOME_UNREADABLE
    assert Plain(gates=(failed,), unreadable=(("a", "b"),)).exit_code == GATE_FAILED
    assert Plain(gates=(failed,), interrupted=True).exit_code == INTERRUPTED
    assert not Gate("g", "x", None, 1.0, "ms", "why").passes and Gate("g", "x", 0.9, 0.8, "share", at_least=True).passes
    assert not Gate("g", "x", float("nan"), 1.0, "ms").passes


def test_the_diagnosis_names_the_side_that_differs():
    assert "Both" in match_fails().diagnosis and recover_fails().exit_code == GATE_FAILED
