"""What heads, gates and mixers of rarer kinds use; and programs that the framework took apart before saving."""

import pytest
import torch
from conftest import capture, differences, liven
from test_pytorch_source import Code, attentions, check_meaning, normalisations, poolings, resamplings, written_parts
from torch import nn

from zygal.errors import SourceError
from zygal.sources import read_source

F = nn.functional


def elementary(x):
    small, size = torch.tanh(x) * 0.9, x.abs() + 0.3
    y = torch.exp2(x) + torch.asin(small) + torch.acos(small) + torch.atan(x) + torch.sinh(x) + torch.cosh(x * 0.5)
    y = y + torch.asinh(x) + torch.acosh(size + 1) + torch.atanh(small) + torch.erfc(x) + torch.sinc(x)
    y = y + torch.hypot(x, x + 1) + torch.atan2(x, x.flip(1)) + torch.addcdiv(x, x, size, value=0.5)
    y = y + torch.logaddexp(x, x * 2) + torch.xlogy(F.relu(x), size) + torch.copysign(x, x.flip(1))
    y = y + torch.heaviside(x, torch.ones(())) + torch.round(x, decimals=1) + torch.deg2rad(x) + torch.special.ndtr(x)
    odd = torch.where(x > 1, torch.log(-size), x)
    y = y + torch.nan_to_num(odd, 0.3) + odd.nansum(1, keepdim=True) + torch.isfinite(1 / F.relu(x)) * 0.5
    return y + F.softplus(x, 2, 1) + (x * 10).int().div(3, rounding_mode="floor") + (x > 0) * (x < 1) * 0.2


def scattered(x):
    largest = x.argmax(1, keepdim=True)
    y = torch.zeros_like(x).scatter_(1, largest, 1.0) + torch.zeros_like(x).scatter(1, x.argsort(1), x * 0.5)
    y = y + torch.zeros_like(x).scatter_add_(1, x.argsort(1) // 2, x) + F.one_hot(largest[:, 0], 16).sum(3)[:, None]
    y = y + x.index_fill(1, torch.tensor([1, 3]), 0.2) + x.index_copy(1, torch.tensor([4, 1]), x[:, :2])
    y = y + torch.slice_scatter(x, x[:, :2] * 2, 1, 4, 8, 2) + torch.select_scatter(x, x[:, 0], 1, 3)
    z = x * 1
    z[:, ::2, 1:] = x[:, ::2, :-1]
    z[:, [4, 5]] = x[:, [5, 4]] * 3
    z[:, 1, torch.arange(5), torch.arange(5)] = 0.7
    z[z > 1] = 0.5
    return y + z


def distances(x):
    rows, few = x.flatten(2), x[:, :, 3, :6]
    y = [F.cosine_similarity(x, x.flip(1)), F.pairwise_distance(rows, rows * 2 + 1), torch.linalg.vecdot(x, x, dim=1)]
    y += [torch.cdist(few, few + 1), torch.cdist(rows.mT[:, :40], rows.mT[:, :30] + 1), torch.cdist(few, few * 2, p=1)]
    y += [torch.tensordot(x, torch.ones(8, 3) * 0.2, dims=([1], [0])), torch.inner(few, torch.ones(2, 6) * 0.3)]
    y += [torch.linalg.multi_dot([torch.ones(2, 16) * 0.1, torch.eye(16), torch.ones(16, 3)]).expand(x.shape[0], 2, 3)]
    heads = x.flatten(3)
    y += [F.scaled_dot_product_attention(heads, heads[:, :2], heads[:, :2] * 0.5, enable_gqa=True)]
    return torch.cat([each.flatten(1) for each in y], 1)


def taken_apart(x):
    means = x.mean((2, 3))
    y = [torch.diagonal(x, 1, 2, 3), torch.diag_embed(means), torch.rot90(x, 1, (2, 3)), torch.rot90(x, 3, (1, 2))]
    y += [x[:, :, torch.arange(16) % 3 == 0], torch.bucketize(means, torch.linspace(-1, 1, 5)).float()]
    y += [x.repeat_interleave(torch.tensor([1, 2] * 4), dim=1), torch.cat(torch.tensor_split(x, [3, 5], 1)[::-1], 1)]
    rows, columns = torch.triu_indices(8, 8, 1)
    y += [torch.einsum("bihw,bjhw->bij", x, x)[:, rows, columns], x.flatten(2).median(-1).values, x.aminmax(dim=1)[1]]
    y += [torch.count_nonzero(x > 0, dim=1).float(), torch.dstack([means, means * 2])]
    y += [torch.column_stack([means[:, 0], means])]
    y += [torch.atleast_3d(means), means @ torch.block_diag(torch.ones(4, 2), torch.ones(4, 1))]
    y += [F.adaptive_max_pool2d(x, (5, 7)), torch.hstack(torch.hsplit(means, 2)[::-1]), x.mean((2, 3, 1))[:, None]]
    return torch.cat([each.flatten(1) for each in y], 1)


def sampled(x):
    theta = torch.eye(2, 3) + x.mean((2, 3))[:, :6].reshape(-1, 2, 3) * 0.1
    grid = torch.stack([x[:, 0], x[:, 1]], -1).tanh() * 1.3
    y = F.grid_sample(x, F.affine_grid(theta, x.shape, align_corners=False), align_corners=False)
    y = y + F.grid_sample(x, F.affine_grid(theta, x.shape, align_corners=True), align_corners=True)
    for mode, padding, corners in (
        ("nearest", "border", True),
        ("bilinear", "reflection", False),
        ("bicubic", "zeros", True),
        ("bilinear", "border", True),
        ("bicubic", "border", False),
    ):
        y = y + F.grid_sample(x, grid, mode, padding, corners)
    return y


def dynamic_kernels(x):
    """Each image convolved with kernels that it chooses itself, as one grouped convolution over the batch."""
    batch = x.shape[0]
    experts = torch.linspace(-1, 1, 2 * 6 * 8 * 9).sin().view(2, -1)
    kernels = (x.mean((2, 3))[:, :2].softmax(1) @ experts).view(batch * 6, 8, 3, 3)
    y = F.conv2d(x.reshape(1, -1, 16, 16), kernels, torch.ones(6).repeat(batch), 2, 1, groups=batch)
    single = x.mean(3).sigmoid()[:, :, :9].reshape(-1, 1, 3, 3)
    z = F.conv2d(x.reshape(1, -1, 16, 16), single, padding=1, groups=batch * 8)
    return torch.cat([y.view(batch, 6, -1), z.view(batch, 8, -1)[:, :, :64]], 1)


class Recurrent(nn.Module):
    def __init__(self, kind, **options):
        super().__init__()
        self.stem, self.memory, self.head = nn.Conv2d(3, 6, 4, 4), kind(6, 5, **options), nn.LazyLinear(4)

    def forward(self, x):
        rows = self.stem(x).permute(0, 2, 3, 1).flatten(0, 1)
        made, last = self.memory(rows)
        last = last[0] if isinstance(last, tuple) else last
        return self.head(torch.cat([made.reshape(x.shape[0], -1), last.mean(0).reshape(x.shape[0], -1)], 1))


FUNCTIONS = [elementary, scattered, distances, taken_apart, sampled, dynamic_kernels]


@pytest.mark.alike
@pytest.mark.parametrize("function", FUNCTIONS, ids=[function.__name__ for function in FUNCTIONS])
def test_operators_keep_their_meaning(function, tmp_path):
    check_meaning(Code(function), tmp_path)


@pytest.mark.alike
@pytest.mark.parametrize(
    "kind, options",
    [
        (nn.LSTM, {"bidirectional": True, "num_layers": 2, "batch_first": True}),
        (nn.GRU, {"bidirectional": True, "batch_first": True}),
        (nn.GRU, {"bias": False, "batch_first": True}),
        (nn.RNN, {"nonlinearity": "relu", "batch_first": True}),
    ],
)
def test_recurrent_layers(kind, options, tmp_path):
    check_meaning(Recurrent(kind, **options), tmp_path)


TAKEN_APART = [attentions, normalisations, poolings, resamplings, written_parts, scattered]


@pytest.mark.slow
@pytest.mark.parametrize("function", TAKEN_APART, ids=[function.__name__ for function in TAKEN_APART])
def test_programs_that_were_taken_apart(function, tmp_path):
    """The framework can rewrite a program in its smallest set of operators before it is saved."""
    module = Code(function)
    path = capture(module, tmp_path / "whole.pt2")
    liven(module)
    example = torch.randn(2, 3, 32, 32)
    whole = torch.export.export(module.eval(), (example,), dynamic_shapes=({0: torch.export.Dim("batch", min=1)},))
    torch.export.save(whole.run_decompositions(), path)
    assert differences(path, tmp_path, module).max() < 2e-6


class DropsLayers(nn.Module):
    def __init__(self):
        super().__init__()
        self.stem, self.norm, self.head = nn.Conv2d(3, 6, 4, 4), nn.BatchNorm2d(6), nn.LazyLinear(4)

    def dropped(self, x, share=0.7):
        if not self.training:
            return x
        chance = share + torch.rand((x.shape[0], 1, 1, 1), dtype=x.dtype)
        chance.floor_()
        return x.div(share) * chance

    def forward(self, x):
        y = self.norm(self.stem(x))
        return self.head((y + self.dropped(F.dropout(y, 0.2, self.training))).flatten(1))


def test_layers_dropped_by_hand_in_training_come_back(tmp_path):
    module, example = DropsLayers(), torch.randn(2, 3, 32, 32)
    module(example)
    liven(module).train()
    axes = ({0: torch.export.Dim("batch", min=1)},)
    torch.export.save(torch.export.export(module, (example,), dynamic_shapes=axes), tmp_path / "training.pt2")
    assert differences(tmp_path / "training.pt2", tmp_path, module.eval()).max() < 2e-6


def test_what_the_chosen_output_does_not_need_is_left_out(tmp_path):
    class Several(Code):
        def forward(self, x):
            scores = super().forward(x)
            return {"loss": scores.mean(), "heads": [scores * 2, {"deep": scores + 1}]}

    path = capture(Several(lambda x: x), tmp_path / "several.pt2")
    with read_source(path, output="heads.1.deep") as source:
        assert source.output_names == ("loss", "heads.0", "heads.1.deep")
        assert [node.operator for node in source.graph.nodes][-1] == "Add"
    with read_source(path) as source:
        assert source.chosen.name == "heads.0"
    with pytest.raises(SourceError, match="mix the images"), read_source(path, output="loss"):
        pass


def test_branches_that_depend_on_the_image_are_named(tmp_path):
    class Branching(Code):
        def forward(self, x):
            y = super().forward(x)
            return torch.cond(y.sum() > 0, lambda a: a * 2, lambda a: a - 1, (y,))

    path = capture(Branching(lambda x: x), tmp_path / "branching.pt2")
    with pytest.raises(SourceError, match="runs different layers depending on the image.*cond"), read_source(path):
        pass
