"""Trains networks on drawn pictures and captures them as programs.

    python training/train.py OUT_DIR [NETWORK...] [--pictures 12000] [--epochs 14]

Without a name: channel_marks, the demo's network; the others are in networks.py. Writes OUT_DIR/NETWORK.pt2 (the
captured program, dynamic batch) and prints the accuracy on 2,000 pictures that training never drew. Takes some minutes
each on two cores. `--mirror` also shows each picture mirrored, which the larger networks need.
"""

import argparse
import sys
from pathlib import Path

import torch
from networks import LARGE, NETWORKS
from pictures import TRAINING_SERIES, UNSEEN_SERIES, draw_set

from zygal.demo.marks import LABELS

sys.path.insert(0, str(Path(__file__).parents[1] / "src/zygal/demo/data"))
from training_code import load_image  # noqa: E402


def drawn(series, count):
    images, labels = draw_set(load_image, series, count)
    return torch.from_numpy(images), torch.from_numpy(labels)


def accuracy(model, images, labels):
    model.eval()
    with torch.inference_mode():
        return (torch.cat([model(batch).argmax(1) for batch in images.split(250)]) == labels).float().mean().item()


def train(model, images, labels, epochs, rate, mirror, batch=96):
    optimizer = torch.optim.AdamW(model.parameters(), weight_decay=0.02)
    steps = epochs * (len(images) // batch)
    schedule = torch.optim.lr_scheduler.OneCycleLR(optimizer, rate, steps)
    loss_of = torch.nn.CrossEntropyLoss(label_smoothing=0.05)
    for epoch in range(epochs):
        model.train()
        total = 0.0
        for chosen in torch.randperm(len(images))[: len(images) // batch * batch].split(batch):
            optimizer.zero_grad()
            shown = images[chosen]
            if mirror and torch.rand(()) < 0.5:
                shown = shown.flip(3)
            loss = loss_of(model(shown), labels[chosen])
            loss.backward()
            optimizer.step()
            schedule.step()
            total += loss.item() * batch
        print(f"epoch {epoch + 1}: loss {total / len(images):.4f}", flush=True)


def enlarged(images, side):
    return torch.nn.functional.interpolate(images, (side, side), mode="bilinear", antialias=True)


def settle(model, images, labels, side, batch=32):
    """Fits a model to larger pictures without training its convolutions: takes the statistics of the normalisations
    anew, and trains the last layer on what comes before it."""
    features = []
    model.classifier.register_forward_pre_hook(lambda module, given: features.append(given[0].detach()))
    for training in (True, False):
        model.train(training)
        features.clear()
        with torch.no_grad():
            for shown in images.split(batch):
                model(enlarged(shown, side))
    seen = torch.cat(features)
    optimizer = torch.optim.AdamW(model.classifier.parameters(), 3e-3, weight_decay=0.05)
    for _ in range(600):
        optimizer.zero_grad()
        torch.nn.functional.cross_entropy(
            torch.nn.functional.linear(seen, model.classifier.weight, model.classifier.bias), labels
        ).backward()
        optimizer.step()
    model.classifier._forward_pre_hooks.clear()


def capture(model, path, side=64):
    """Saves the program with any batch size, without the paths of the machine that made it."""
    model = model.to(memory_format=torch.contiguous_format).eval()
    example = torch.zeros(2, 3, side, side)
    batch = torch.export.Dim("batch", min=1)
    program = torch.export.export(model, (example,), dynamic_shapes=({0: batch},))
    for node in program.graph.nodes:
        node.meta.pop("stack_trace", None)
    torch.export.save(program, path)


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("out", type=Path)
    parser.add_argument("networks", nargs="*", metavar="NETWORK", help=", ".join(NETWORKS))
    parser.add_argument("--pictures", type=int, default=12000)
    parser.add_argument("--epochs", type=int, default=14)
    parser.add_argument("--rate", type=float, default=6e-3)
    parser.add_argument("--mirror", action="store_true")
    options = parser.parse_args()
    images, labels = drawn(TRAINING_SERIES, options.pictures)
    # On CPU, channels-last memory makes a training step about 1.5 times as fast.
    images = images.to(memory_format=torch.channels_last)
    unseen = drawn(UNSEEN_SERIES, 2000)
    options.out.mkdir(parents=True, exist_ok=True)
    for name in options.networks or ["channel_marks"]:
        torch.manual_seed(20)
        model = NETWORKS[name]().to(memory_format=torch.channels_last)
        print(f"{name}: {len(LABELS)} classes, {sum(p.numel() for p in model.parameters())} parameters")
        train(model, images, labels, options.epochs, options.rate, options.mirror)
        print(f"{name}: accuracy on {len(unseen[1])} unseen pictures: {accuracy(model, *unseen):.1%}", flush=True)
        torch.save(model.state_dict(), options.out / f"{name}.pt")
        side = LARGE.get(name, images.shape[2])
        if side != images.shape[2]:
            settle(model, images[:1500], labels[:1500], side)
            few = [each[:300] for each in unseen]
            print(
                f"{name}: accuracy on {len(few[1])} of them at {side} x {side}: "
                f"{accuracy(model, enlarged(few[0], side), few[1]):.1%}",
                flush=True,
            )
        capture(model, options.out / f"{name}.pt2", side)


if __name__ == "__main__":
    main()
