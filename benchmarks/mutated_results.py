"""Mutations of what Zygal itself wrote and reads again: plans, results that are kept between runs, results to compare
with, bundles.

Used by mutations.py. A forged or damaged one ends in a verdict or in one sentence, and never in a pass that nothing was
measured for.
"""

import hashlib
import io
import json
import random
import shutil
import zipfile
from pathlib import Path

KINDS = ("plan", "kept", "against", "bundle")
PLAN = """\
zygal_plan = 1
title = "Channel marks"
report_only = ["portability.opset_at_most"]

[model]
artifact = "channel_marks.onnx"
labels = "labels.txt"

[data]
witness = "short.witness"
reference = "reference"
labelled = "labelled.csv"
unreadable_at_most = 0

[portability]
size_at_most_mb = 1
opset_at_most = 17
runs_on = "1.16"

[agreement]
model_of_spread = 0.001

[accuracy]
at_least = 0.1
each_class_at_least = 0.0
calibration_error_at_most = 1.0
"""
IMAGES = 3


class Results:
    """One kind; `write` gives the command line to run, within the folder that holds everything."""

    def __init__(self, kind: str, demo: Path, folder: Path, changes):
        self.kind, self.changes = kind, changes
        self.base = folder / f"{kind}-base"
        if not self.base.exists():
            self._make(demo)
        self.kept = {path.name: path.read_bytes() for path in sorted((self.base / "out" / "kept").glob("*.json"))}
        self.result = (self.base / "out" / "result.json").read_bytes()
        self.bundle = (self.base / "marks.zip").read_bytes()

    def _make(self, demo: Path) -> None:
        import dataclasses

        from zygal.cli.main import main
        from zygal.evidence.witness import read_witness, write_witness

        (self.base / "reference").mkdir(parents=True)
        for name in ("channel_marks.onnx", "labels.txt"):
            shutil.copy(demo / name, self.base / name)
        whole = read_witness(demo / "channel_marks.witness")
        write_witness(
            dataclasses.replace(
                whole, images=whole.images[:IMAGES], tensors=whole.tensors[:IMAGES], scores=whole.scores[:IMAGES]
            ),
            self.base / "short.witness",
        )
        rows = ["path,label"]
        for image in whole.images[:IMAGES]:
            shutil.copy(demo / "reference" / image.name, self.base / "reference" / image.name)
            rows.append(f"reference/{image.name},{(demo / 'labels.txt').read_text().split()[0]}")
        (self.base / "labelled.csv").write_text("\n".join(rows) + "\n")
        (self.base / "plan.toml").write_text(PLAN)
        main(["signoff", str(self.base / "plan.toml"), "-o", str(self.base / "out"), "-q"])
        code = main(
            [
                "pack",
                str(self.base / "channel_marks.onnx"),
                "--images",
                str(self.base / "reference"),
                "-o",
                str(self.base / "marks.zip"),
                "-q",
            ]
        )
        assert code == 0 and list((self.base / "out" / "kept").glob("*.json")), "the demo's files cannot be signed off"

    def data_of(self, seed: int) -> bytes:
        chance = random.Random(f"{self.kind} {seed}")
        if self.kind == "plan":
            return self.changes.change_text(PLAN, chance)
        if self.kind == "bundle":
            return self._bundle(chance)
        data = self.kept[chance.choice(sorted(self.kept))] if self.kind == "kept" else self.result
        return self._document(data, chance)

    def _document(self, data: bytes, chance) -> bytes:
        if chance.random() < 0.15:
            return self.changes.change_bytes(data, chance)
        document = json.loads(data)
        try:
            for _ in range(chance.randrange(1, 4)):
                document = self.changes.change_document(document, chance)
        except RecursionError:  # A change made it too deep for the next one.
            pass
        return self.changes.dumped(document)

    def _bundle(self, chance) -> bytes:
        """A member changed, with its hash made right again or not; files that are added; forms that the archive must
        not have."""
        if chance.random() < 0.15:
            return self.changes.change_bytes(self.bundle, chance)
        with zipfile.ZipFile(io.BytesIO(self.bundle)) as archive:
            members = {name: archive.read(name) for name in archive.namelist()}
        name = chance.choice(["MANIFEST.json", "classifier.json", chance.choice(list(members))])
        members[name] = (
            self._document(members[name], chance)
            if name.endswith(".json")
            else self.changes.change_bytes(members[name], chance)
        )
        if chance.random() < 0.2:
            members[chance.choice(("numpy.py", "PIL/__init__.py", "../up", "/abs", "sitecustomize.py", "x" * 300))] = (
                b"raise SystemExit(0)\n"
            )
        if name != "MANIFEST.json" and chance.random() < 0.6:
            manifest = json.loads(members["MANIFEST.json"])
            manifest["files"] = {
                each: {"sha256": hashlib.sha256(content).hexdigest(), "bytes": len(content)}
                for each, content in members.items()
                if each != "MANIFEST.json"
            }
            members["MANIFEST.json"] = json.dumps(manifest).encode()
        made = io.BytesIO()
        with zipfile.ZipFile(
            made, "w", zipfile.ZIP_DEFLATED if chance.random() < 0.05 else zipfile.ZIP_STORED
        ) as archive:
            for each, content in members.items():
                archive.writestr(each, content)
        return made.getvalue()

    def write(self, seed: int, path: Path) -> list[str]:
        """The files as they are for this mutation, and the command line that reads it."""
        data, out = self.data_of(seed), self.base / "out"
        plan = self.base / "plan.toml"
        if self.kind == "plan":
            plan.write_bytes(data)
        elif self.kind == "kept":
            name = random.Random(f"{self.kind} {seed}").choice(sorted(self.kept))
            for each, content in self.kept.items():
                (out / "kept" / each).write_bytes(data if each == name else content)
        else:
            path.write_bytes(data)
        if self.kind == "bundle":
            return ["pack", "--check", str(path), "--json", "-"]
        return [
            "signoff",
            str(plan),
            "-o",
            str(out),
            "--json",
            "-",
            *(["--against", str(path)] if self.kind == "against" else []),
        ]
