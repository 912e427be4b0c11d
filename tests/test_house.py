"""The house: which rooms there are, on which floors they stand, and that imports run one way only.

A room is a folder or a loose file of the package. Every import counts: at the top of a file, inside a function, and for
types alone. A room stands one floor above the highest that it imports.
"""

import ast
import re
import subprocess
import sys
from functools import cache
from pathlib import Path

import pytest

import zygal

ROOT = Path(zygal.__file__).parent
MOST_FLOORS, MOST_LOOSE = 14, 9
TEMPLATES = ("bundle/runners/", "demo/data/")
"""Files for others, which are no part of the package."""


@cache
def modules():
    """The paths of all modules by their names."""
    files = (path.relative_to(ROOT) for path in ROOT.rglob("*.py"))
    kept = (file for file in files if not file.as_posix().startswith(TEMPLATES))
    return {".".join(("zygal", *file.with_suffix("").parts)).removesuffix(".__init__"): file for file in kept}


@cache
def imports():
    """What each module imports of the package, by their names; its version and its public face left out."""
    found = {}
    for name, file in modules().items():
        wanted = set()
        for node in ast.walk(ast.parse((ROOT / file).read_text())):
            if isinstance(node, ast.Import):
                wanted |= {each.name for each in node.names}
            elif isinstance(node, ast.ImportFrom):
                assert not node.level, f"{file}: imports are absolute"
                wanted |= {
                    inner if (inner := f"{node.module}.{each.name}") in modules() else node.module
                    for each in node.names
                }
        found[name] = {each for each in wanted if each in modules()} - {name, "zygal"}
    return found


def room_of(name):
    return name.split(".")[1]


def circles(edges):
    """The sets of more than one that reach each other."""
    reached = {}
    for start in edges:
        seen, waiting = set(), [start]
        while waiting:
            for each in edges[waiting.pop()] - seen:
                seen.add(each)
                waiting.append(each)
        reached[start] = seen
    return {
        frozenset({one} | {two for two in seen if one in reached[two]}) for one, seen in reached.items() if one in seen
    }


@cache
def rooms():
    """The rooms that each room imports."""
    found = {room_of(name): set() for name in modules() if name != "zygal"}
    for name, wanted in imports().items():
        if name != "zygal":
            found[room_of(name)] |= {room_of(each) for each in wanted} - {room_of(name)}
    return found


@cache
def floor(room):
    return 1 + max((floor(each) for each in rooms()[room]), default=0)


def test_no_circles():
    assert not circles(rooms())
    assert not circles(imports())


def test_few_floors_and_few_loose_files():
    assert max(map(floor, rooms())) <= MOST_FLOORS
    assert len(list(ROOT.glob("*.py"))) <= MOST_LOOSE


def test_what_stands_where():
    """The core has no interface code; the graph knows no framework, no file and no format; formats know no sources."""
    assert [room for room, wanted in rooms().items() if "cli" in wanted] == ["__main__"]
    assert rooms()["graph"] == {"errors"}
    assert not rooms()["artifact"] & {"sources", "engines"}
    assert not rooms()["sources"] & {"artifact", "engines"}
    assert not rooms()["evidence"] & {"prediction", "bench", "tally"}
    outside = {"argparse", "rich"}
    for name, file in modules().items():
        if (name + ".").split(".")[1] not in ("cli", "__main__", "demo"):
            nodes = list(ast.walk(ast.parse((ROOT / file).read_text())))
            names = [each.name for node in nodes if isinstance(node, ast.Import) for each in node.names]
            names += [node.module for node in nodes if isinstance(node, ast.ImportFrom)]
            assert not outside & {each.partition(".")[0] for each in names}, name


def test_the_printed_house_is_the_real_one():
    """Every room of the picture in docs/contributing.md exists, and every folder stands there."""
    text = (Path(__file__).parents[1] / "docs" / "contributing.md").read_text()
    drawn = text[text.index("src/zygal/") : text.index("```", text.index("src/zygal/"))]
    folders = {path.name for path in ROOT.iterdir() if (path / "__init__.py").exists()}
    assert folders == set(re.findall(r"^  (\w+)/ ", drawn, re.MULTILINE))


@pytest.mark.parametrize("words", [("check",), ("format", "--check")], ids=" ".join)
def test_the_form_of_all_code(words):
    root = Path(__file__).parents[1]
    command = [sys.executable, "-m", "ruff", *words, "src", "tests", "benchmarks", "training"]
    done = subprocess.run(command, cwd=root, capture_output=True, text=True, timeout=120)
    assert done.returncode == 0, done.stdout + done.stderr


def test_few_tables_are_laid_out_by_hand():
    root = Path(__file__).parents[1]
    files = [path for folder in ("src", "tests", "benchmarks", "training") for path in (root / folder).rglob("*.py")]
    mark = "# fmt: " + "skip"
    assert sum(path.read_text().count(mark) for path in files) < 20
