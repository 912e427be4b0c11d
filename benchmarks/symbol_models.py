"""Every classifier of MXNet's model zoo and of its collection of image models: built, run and exported by the framework
in an environment of its time, then converted here without it and judged by the recorded scores.

    python benchmarks/symbol_models.py FRAMEWORK_PYTHON [NAME ...] [--keep DIR]

FRAMEWORK_PYTHON: a Python 3.8 with mxnet 1.9.1, gluoncv and NumPy below 1.24. Weights are random, with statistics of a
forward pass in training mode. An artifact agrees where its scores are within 1e-5 of their spread at batches of 1
and 3.
"""

import argparse
import subprocess
import sys
import tempfile
from pathlib import Path

AGREES = 1e-5
ZOO, COLLECTION = "zoo", "collection"
OTHER_TASKS = (
    "ssd",
    "rcnn",
    "yolo",
    "fcn",
    "psp",
    "deeplab",
    "icnet",
    "fastscnn",
    "danet",
    "pose",
    "ucf",
    "hmdb",
    "siam",
    "kinetics",
    "sthsth",
    "center",
    "monodepth",
    "i3d",
    "slowfast",
    "smot",
    "_custom",
)
"""Parts of names of the collection that are no image classifiers, or that fetch weights."""


# In the framework's environment


def names():
    from gluoncv.model_zoo import get_model_list
    from mxnet.gluon.model_zoo import vision

    plain = ("alexnet", "densenet", "inception", "mobilenet", "resnet", "squeezenet", "vgg")
    own = [n for n in dir(vision) if n.startswith(plain) and any(each.isdigit() for each in n) or n == "alexnet"]
    others = [n for n in get_model_list() if not any(each in n for each in OTHER_TASKS) and not n.endswith("_s")]
    return [(ZOO, n) for n in own] + [(COLLECTION, n) for n in others]


def export(group, name, folder):
    """Writes symbol, parameters, images and scores."""
    import mxnet
    import numpy
    from gluoncv.model_zoo import get_model
    from mxnet.gluon.model_zoo import vision

    mxnet.random.seed(0)
    size = 299 if "inception" in name or "xception" in name else 32 if "cifar" in name else 224
    size = 331 if name == "nasnet_6_4032" else size
    net = getattr(vision, name)() if group == ZOO else get_model(name, pretrained=False)
    net.initialize(mxnet.init.Xavier(magnitude=2.24))
    net.hybridize()
    images = mxnet.nd.array(numpy.random.RandomState(0).standard_normal((4, 3, size, size)).astype("float32"))
    with mxnet.autograd.record(train_mode=True):
        net(images)
    # The graph of the pass in training mode, with what that draws at random, would be exported otherwise.
    net.hybridize()
    scores = net(images)
    scores = scores[0] if isinstance(scores, (list, tuple)) else scores
    net.export(str(Path(folder) / "model"), epoch=0)
    numpy.savez(str(Path(folder) / "recorded.npz"), images=images.asnumpy(), scores=scores.asnumpy())


# Here


def judged(folder):
    """The largest difference as a part of the spread of the scores."""
    import numpy as np

    from zygal.conversion.convert import Choices, convert
    from zygal.engines.artifact import open_engine
    from zygal.sources import Reading, source_facts

    recorded = np.load(folder / "recorded.npz")
    images, scores = recorded["images"], recorded["scores"]
    # Some return a second row of scores from a layer in the middle; what was recorded is the first.
    first = next(iter(source_facts(folder / "model-symbol.json", Reading(image_shape=images.shape[1:])).outputs))
    choices = Choices(image_shape=images.shape[1:], scores=first)
    convert(folder / "model-symbol.json", folder / "m.onnx", choices=choices)
    engine = open_engine(folder / "m.onnx")
    found = [engine.run(images[:1]), engine.run(images[1:4])]
    return float(np.abs(np.concatenate(found) - scores).max() / max(np.ptp(scores), 1e-30))


def in_framework(python, *arguments):
    return subprocess.run([python, __file__, python, "--inside", *arguments], capture_output=True, text=True)


def main():
    parser = argparse.ArgumentParser(description=__doc__.partition("\n")[0])
    parser.add_argument("python")
    parser.add_argument("names", nargs="*")
    parser.add_argument("--inside", nargs="*", help=argparse.SUPPRESS)
    arguments = parser.parse_args()
    if arguments.inside is not None:
        if arguments.inside:
            export(*arguments.inside)
        else:
            print("\n".join(" ".join(each) for each in names()))
        return 0
    from zygal.errors import ZygalError

    listed = in_framework(arguments.python).stdout.split("\n")
    counts = {"agreed": 0, "differs": 0, "refused": 0, "not built": 0}
    for group, name in (line.split() for line in listed if line):
        if arguments.names and name not in arguments.names:
            continue
        with tempfile.TemporaryDirectory() as folder:
            done = in_framework(arguments.python, group, name, folder)
            if done.returncode:
                verdict, detail = "not built", done.stderr.strip().rpartition("\n")[2][:150]
            else:
                try:
                    worst = judged(Path(folder))
                    verdict, detail = ("agreed" if worst <= AGREES else "differs"), f"{worst:.2g}"
                except ZygalError as fault:
                    verdict, detail = "refused", str(fault)[:300]
        counts[verdict] += 1
        print(f"{verdict:9} {group} {name}: {detail}", flush=True)
    print(", ".join(f"{count} {verdict}" for verdict, count in counts.items()))
    return bool(counts["differs"] or counts["refused"])


if __name__ == "__main__":
    sys.exit(main())
