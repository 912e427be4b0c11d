"""Modules that a Python function builds, with weights in the files that people have."""

import numpy as np
import pytest
import torch
from conftest import called, refused
from safetensors.torch import save_file

from zygal.engines.artifact import RuntimeEngine

CODE = """
import torch
from torch import nn

class Net(nn.Module):
    def __init__(self):
        super().__init__()
        self.features = nn.Sequential(nn.Conv2d(3, 8, 3, 2, 1), nn.BatchNorm2d(8), nn.ReLU(), nn.AdaptiveAvgPool2d(2))
        self.head, self.extra = nn.Linear(32, 5), nn.Linear(32, 3)

    def forward(self, x):
        x = self.features(x).flatten(1)
        return {"scores": self.head(x), "extra": self.extra(x)}

def make():
    torch.manual_seed(1)
    return Net()

def broken():
    raise ValueError("no such backbone")

def not_a_module():
    return 3
"""


@pytest.fixture
def folder(tmp_path):
    (tmp_path / "model.py").write_text(CODE)
    space = {}
    exec(CODE, space)
    torch.manual_seed(2)
    net = space["Net"]()
    for name, tensor in net.state_dict().items():
        if tensor.dtype.is_floating_point:
            tensor.uniform_(*((0.2, 1.1) if name.endswith("var") else (-0.6, 0.6)))
    state = net.eval().state_dict()
    torch.save(state, tmp_path / "plain.pt")
    torch.save({"epoch": 3, "state_dict": {f"module.{k}": v for k, v in state.items()}}, tmp_path / "nested.pth")
    save_file({k: v.contiguous() for k, v in state.items()}, tmp_path / "weights.safetensors")
    torch.save(torch.nn.Linear(3, 2), tmp_path / "whole.pt")
    partial = {k: v for k, v in state.items() if k != "head.bias"} | {"tail.bias": torch.ones(2)}
    torch.save(partial | {"head.weight": torch.ones(5, 30)}, tmp_path / "partial.pt")
    x = torch.randn(3, 3, 16, 16)
    with torch.no_grad():
        wanted = net(x)
    return tmp_path, x.numpy(), {name: scores.numpy() for name, scores in wanted.items()}


BUILD = ("convert", "model.py:make", "-o", "out.onnx", "--shape", "3,16,16", "--weights")


@pytest.mark.parametrize("weights", ["plain.pt", "nested.pth", "weights.safetensors"])
def test_weights_from_every_kind_of_file(weights, folder):
    path, x, wanted = folder
    done = called(*BUILD, weights, cwd=path)
    assert done.returncode == 0 and "returns 2 tensors" in done.stderr, done.stderr
    found = RuntimeEngine(path / "out.onnx", 1).run(x)
    assert np.abs(found - wanted["scores"]).max() < 1e-6 * np.ptp(wanted["scores"])


def test_another_output_can_be_taken(folder):
    path, x, wanted = folder
    done = called(*BUILD, "plain.pt", "--scores", "nonsense", cwd=path)
    refused(done, "has no output nonsense; it has ")
    name = done.stderr.partition("it has ")[2].strip(" .\n").split(", ")[1]
    assert called(*BUILD, "plain.pt", "--scores", name, cwd=path).returncode == 0
    found = RuntimeEngine(path / "out.onnx", 1).run(x)
    assert np.abs(found - wanted["extra"]).max() < 1e-6 * np.ptp(wanted["extra"])


@pytest.mark.parametrize(
    "arguments, words",
    [
        (
            (*BUILD, "partial.pt"),
            ["1 missing (head.bias)", "1 unexpected (tail.bias)", "head.weight [5, 30] for [5, 32]"],
        ),
        ((*BUILD, "whole.pt"), ["calls torch.nn.modules", "state_dict()"]),
        ((*BUILD, "model.py"), ["is a text file, but a PyTorch pickle is needed"]),
        ((*BUILD, "none.pt"), ["no such file"]),
        (("convert", "model.py:broken", "-o", "out.onnx"), ["no such backbone"]),
        (("convert", "model.py:not_a_module", "-o", "out.onnx"), ["returned int"]),
        (("convert", "model.py:nothing", "-o", "out.onnx"), ["no function nothing"]),
        (("convert", "model.py:make", "-o", "out.onnx", "--shape", "4,16,16"), ["cannot be captured", "[4, 16, 16]"]),
        (("convert", "plain.pt", "-o", "out.onnx"), ["a PyTorch pickle", "torch.export"]),
    ],
)
def test_faults_of_code_and_weights(arguments, words, folder):
    refused(called(*arguments, cwd=folder[0]), *words)
    assert not (folder[0] / "out.onnx").exists()


def test_a_scripted_archive_is_recognised(folder):
    path = folder[0]
    torch.jit.save(torch.jit.script(torch.nn.Linear(3, 2)), path / "scripted.pt")
    refused(called("convert", "scripted.pt", "-o", "out.onnx", cwd=path), "scripted archive", "give --shape")


def test_an_output_that_is_no_row_of_scores(folder):
    path = folder[0]
    (path / "map.py").write_text("from torch import nn\ndef make():\n    return nn.Conv2d(3, 2, 3)\n")
    arguments = ("convert", "map.py:make", "-o", "out.onnx", "--shape", "3,16,16")
    refused(called(*arguments, cwd=path), "[N, 2, 14, 14]", "--any-shape")
    assert called(*arguments, "--any-shape", cwd=path).returncode == 0
