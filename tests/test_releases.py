"""Files that releases of PyTorch since 2.1 wrote, with the scores that they gave: `benchmarks/release_files.py`."""

import json
import tarfile
from pathlib import Path

import numpy as np
import pytest
import torch

from zygal.conversion.convert import Choices, convert
from zygal.engines.artifact import RuntimeEngine
from zygal.engines.pytorch_calls import CalledProgram
from zygal.errors import EngineError, SourceError
from zygal.sources import Reading, source_facts
from zygal.sources.pytorch import open_program, read_program
from zygal.sources.pytorch.pickled import open_saved
from zygal.sources.pytorch.program import Call
from zygal.sources.pytorch.releases import in_todays_form, schema_number
from zygal.sources.pytorch.tensors import read_tensor

DATA = Path(__file__).parent / "data" / "releases"
RELEASES = sorted(
    (path.name.removesuffix(".tar.xz") for path in DATA.glob("*.tar.xz")), key=lambda each: each.split(".")
)
SHAPE = (3, 32, 32)


@pytest.fixture(scope="module")
def folders(tmp_path_factory):
    """The files of a release, by its name."""
    found = {}

    def folder(release):
        if release not in found:
            found[release] = tmp_path_factory.mktemp("release")
            with tarfile.open(DATA / f"{release}.tar.xz") as archive:
                archive.extractall(found[release], filter="data")
        return found[release]

    return folder


@pytest.mark.alike
@pytest.mark.parametrize("release", RELEASES)
def test_every_file_of_a_release_gives_its_scores(release, folders, tmp_path):
    folder = folders(release)
    sources = [path for path in folder.iterdir() if path.suffix in (".pt2", ".pt")]
    assert len(sources) >= 7
    for source in sources:
        recorded = np.load(folder / f"{source.name.partition('.')[0]}.npz")
        images = recorded["pixels"].astype(np.float32) / 255
        shape = None if source.suffix == ".pt2" else SHAPE
        convert(source, tmp_path / "m.onnx", choices=Choices(image_shape=shape))
        engine = RuntimeEngine(tmp_path / "m.onnx")
        for count in (1, 3):
            assert np.abs(engine.run(images[:count]) - recorded["scores"][:count]).max() < 1e-6, source.name


@pytest.mark.parametrize("release", RELEASES)
def test_a_captured_program_run_call_by_call_gives_its_scores(release, folders):
    ran = 0
    for source in folders(release).glob("*.pt2"):
        recorded = np.load(folders(release) / f"{source.name.partition('.')[0]}.npz")
        images = torch.from_numpy(recorded["pixels"].astype(np.float32) / 255)
        with open_program(source) as archive:
            called = CalledProgram(torch, archive, read_program(archive))
        for count in (1, 3) if "dynamic" in source.name else (1,):
            kept = {}
            try:
                (scores,) = called(images[:count], kept.__setitem__)
            except EngineError as fault:
                # Newer releases do not have this operator on the processor.
                assert release.startswith("2.2") and "_scaled_dot_product_flash_attention" in str(fault)
                continue
            ran += 1
            assert np.abs(scores.detach().numpy() - recorded["scores"][:count]).max() < 1e-6 and len(kept) > 10
    assert ran


def test_a_program_that_writes_into_its_weights_is_refused(folders):
    with open_program(folders(RELEASES[-1]) / "convolutions.fixed.pt2") as archive:
        program = read_program(archive)
        called = CalledProgram(torch, archive, program)
    weight, target = sorted(program.trained)[0], "torch.ops.aten.mul_.Scalar"
    arguments = {"self": ("tensor", {"name": weight}), "other": ("float", 1.0)}
    called._calls.append(Call(target, arguments, ("written",), ""))
    called._functions[target] = torch.ops.aten.mul_.Scalar
    with torch.inference_mode(), pytest.raises(EngineError, match="writes into its weights"):
        called(torch.zeros(1, *SHAPE))


def test_an_operator_that_this_release_lacks_is_named(folders):
    source = folders(RELEASES[-1]) / "convolutions.fixed.pt2"

    class Older:
        __version__ = "2.0"
        ops = type("Ops", (), {"aten": type("Aten", (), {})()})()

        def __getattr__(self, name):
            return getattr(torch, name)

    with (
        open_program(source) as archive,
        pytest.raises(EngineError, match=r"aten\..* which PyTorch 2\.0 does not have"),
    ):
        CalledProgram(Older(), archive, read_program(archive))


@pytest.mark.parametrize("release", RELEASES)
def test_what_a_release_wrote_is_said(release, folders):
    folder = folders(release)
    for path in folder.glob("*.pt2"):
        facts = source_facts(path)
        # Before 2.5 a program does not name the release, and the schema tells two of them not apart.
        assert any(each in release for each in facts.framework_version.replace("or", "").split()) or (
            facts.framework_version.startswith(release)
        )
        assert facts.mode == "evaluation" and not facts.unknown_operators
    for path in folder.glob("*.pt"):
        facts = source_facts(path, Reading(image_shape=SHAPE))
        assert not facts.unknown_operators and facts.parameters > 300


@pytest.mark.parametrize("release", RELEASES)
def test_both_forms_of_weights_hold_the_same_numbers(release, folders):
    for name in ("convolutions", "tokens"):
        newer, older = (folders(release) / f"{name}.{form}.pth" for form in ("weights", "oldest"))
        with open_saved(newer) as left, open_saved(older) as right:
            assert list(left.tensors) == list(right.tensors)
            for key, stored in left.tensors.items():
                np.testing.assert_array_equal(read_tensor(left, stored), read_tensor(right, right.tensors[key]))


@pytest.mark.parametrize(
    "version",
    [None, 3, 9, "8", {"major": 9, "minor": 1}, {"major": "8"}, {"minor": 1}, True, [8], {"major": 8, "minor": "x"}],
)
def test_another_schema_is_refused_by_its_number(version):
    with pytest.raises(SourceError, match="schema"):
        schema_number({"schema_version": version}, "it")


def test_nothing_but_what_is_known_is_brought_into_todays_form():
    graph = {"inputs": [], "tensor_values": {}}
    document = {"graph_module": {"graph": graph}, "range_constraints": {}, "surprise": {"as_int": None, "x": None}}
    found = in_todays_form(json.loads(json.dumps(document)), 5, 1)
    assert found["surprise"] == document["surprise"] and found["schema_version"] == {"major": 5, "minor": 1}
    full = {"graph_module": {"graph": {**graph, "custom_obj_values": {"a": 1}}}, "equality_constraints": [1]}
    kept = in_todays_form(json.loads(json.dumps(full)), 8, 2)
    assert kept["graph_module"]["graph"]["custom_obj_values"] and kept["equality_constraints"]
