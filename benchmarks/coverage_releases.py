"""How many architectures of public collections convert as a release of PyTorch saves them, and how well they agree.

`python benchmarks/coverage_releases.py PYTHON COLLECTION [--ways captured,traced,scripted,frozen] [--most N]
[--names A,B]`: PYTHON is the interpreter of an environment of that release with the collection installed; Zygal runs in
its own environment, which needs no PyTorch. COLLECTION is torchvision, timm or transformers; the way "keyword" captures
as users of the last one call its models. Weights are random. Each artifact is compared on the runtime with the
framework's scores, at the batch that was captured and at one image.
"""

import argparse
import json
import subprocess
import sys
import tempfile
import warnings
from collections import Counter
from pathlib import Path

import numpy as np

AGREES = 1e-5
PROGRAMS = ("captured", "keyword")
"""Ways that write a captured program; the others write an archive."""
LARGEST = 150_000_000
"""Parameters of the largest networks that are tried."""


def models_of(collection: str) -> list[str]:
    """The names of a collection's classifiers."""
    if collection == "torchvision":
        import torchvision

        return torchvision.models.list_models(module=torchvision.models)
    if collection == "transformers":
        from transformers_models import names

        return names()
    import timm

    return timm.list_models()


def built(collection: str, name: str):
    """A model with random weights and statistics, and images [2, C, H, W] for it."""
    import torch

    torch.manual_seed(0)
    if collection == "torchvision":
        import torchvision

        more = {"init_weights": False} if name in ("googlenet", "inception_v3") else {}
        model, side = torchvision.models.get_model(name, weights=None, **more), 299 if name == "inception_v3" else 224
    elif collection == "transformers":
        from transformers_models import model_of

        model, side = model_of(name)
    else:
        import timm

        model = timm.create_model(name, pretrained=False)
        side = model.default_cfg["input_size"][-1]
    for module in model.modules():
        if hasattr(module, "running_var") and module.running_var is not None:
            module.running_mean.normal_(0, 0.1)
            module.running_var.uniform_(0.5, 1.5)
    return model.eval(), torch.rand(2, 3, side, side)


def save(way: str, model, images, path: str) -> None:
    """Writes a model in one of the ways."""
    import torch

    with torch.no_grad():
        if way == "keyword":
            # As users of transformers call it: the image by its name, and a record of outputs.
            axes = {"pixel_values": {0: torch.export.Dim("batch")}}
            try:
                program = torch.export.export(model, (), {"pixel_values": images}, dynamic_shapes=axes)
            except Exception:
                program = torch.export.export(model, (), {"pixel_values": images})
            torch.export.save(program, path)
        elif way == "captured":
            try:
                axes = ({0: torch.export.Dim("batch")},)  # Release 2.1 has none.
                program = torch.export.export(model, (images,), dynamic_shapes=axes)
            except Exception:
                program = torch.export.export(model, (images,))
            torch.export.save(program, path)
        elif way == "traced":
            torch.jit.save(torch.jit.trace(model, images[:1]), path)
        else:
            scripted = torch.jit.script(model)
            torch.jit.save(torch.jit.freeze(scripted) if way == "frozen" else scripted, path)


def runs(path: str, images, scores) -> bool:
    """Whether the framework itself gives a module's scores from the archive that it wrote of it."""
    import torch

    with torch.no_grad():
        found = torch.jit.load(path).eval()(images[:1])
    return bool((found - scores[:1]).abs().max() <= 1e-3 * (scores.max() - scores.min()))


def make(collection: str, ways: list[str], names: list[str], folder: Path) -> None:
    """In the release's environment: writes each model, says so, and waits until it has been read."""
    import torch

    warnings.simplefilter("ignore")
    said = sys.stdout
    sys.stdout = sys.stderr
    print(json.dumps({"release": torch.__version__}), file=said, flush=True)
    for name in names or models_of(collection):
        try:
            model, images = built(collection, name)
            count = sum(each.numel() for each in model.parameters())
            if count > LARGEST:
                continue
            with torch.no_grad():
                scores = model(images)
                scores = getattr(scores, "logits", scores)
            np.savez(folder / "scores.npz", images=images.numpy(), scores=scores.numpy())
        except Exception as fault:
            print(json.dumps({"name": name, "not_built": str(fault)[:200]}), file=said, flush=True)
            continue
        for way in ways:
            path = folder / f"model.{'pt2' if way in PROGRAMS else 'pt'}"
            answer = {"name": name, "way": way}
            try:
                # A module that was traced before is not always scripted as it is.
                save(way, model if way == ways[0] else built(collection, name)[0], images, str(path))
                if way not in PROGRAMS and not runs(str(path), images, scores):
                    answer["not_saved"] = "the framework's own file gives other scores, or none"
            except Exception as fault:
                answer["not_saved"] = f"{type(fault).__name__}: {str(fault)[:150]}"
            print(json.dumps(answer), file=said, flush=True)
            sys.stdin.readline()


def judged(folder: Path, way: str) -> tuple[str, str]:
    """right, wrong or refused, and the difference or the reason."""
    from zygal.conversion.convert import Choices, convert
    from zygal.engines.artifact import RuntimeEngine
    from zygal.errors import ZygalError

    recorded = np.load(folder / "scores.npz")
    images, scores = recorded["images"], recorded["scores"]
    shape = None if way in PROGRAMS else images.shape[1:]
    source = folder / f"model.{'pt2' if way in PROGRAMS else 'pt'}"
    try:
        convert(source, folder / "model.onnx", choices=Choices(image_shape=shape, any_shape=True))
        engine = RuntimeEngine(folder / "model.onnx")
        found = [engine.run(images), engine.run(images[:1])]
    except ZygalError as fault:
        return "refused", str(fault).replace(str(source), "it")
    worst = max(float(np.abs(each - scores[: len(each)]).max()) / float(np.ptp(scores) or 1) for each in found)
    return ("right" if worst <= AGREES else "wrong"), f"{worst:.1e}"


def followed(python: str, given: argparse.Namespace, names: str, counts: Counter, worst: Counter) -> None:
    """Lets the release write each model and judges what it wrote."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        command = [python, __file__, "make", given.collection, "--ways", given.ways, "--names", names]
        maker = subprocess.Popen(
            command, cwd=folder, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True
        )
        for line in maker.stdout:
            answer = json.loads(line)
            if "release" in answer:
                print(f"PyTorch {answer['release']}, {given.collection}", flush=True)
                continue
            if "not_built" in answer:
                counts["", "not built"] += 1
                continue
            way = answer["way"]
            if "not_saved" in answer:
                verdict, why = "not saved by the framework", answer["not_saved"]
            else:
                verdict, why = judged(folder, way)
            counts[way, verdict] += 1
            if verdict == "right":
                worst[way] = max(worst[way], float(why))
            else:
                print(f"  {answer['name']}, {way}: {verdict} {why}"[:300], flush=True)
            maker.stdin.write("\n")
            maker.stdin.flush()


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("python")
    parser.add_argument("collection")
    parser.add_argument("--ways", default="captured,traced,scripted,frozen")
    parser.add_argument("--names", default="")
    parser.add_argument("--every", type=int, default=1)
    parser.add_argument("--most", type=int, default=10_000)
    given = parser.parse_args()
    if given.python == "make":
        names = [each for each in given.names.split(",") if each]
        make(given.collection, given.ways.split(","), names, Path.cwd())
        return 0
    listing = f"import sys; sys.path.insert(0, {str(Path(__file__).parent)!r}); import coverage_releases as c; "
    listing += f"print(','.join(c.models_of({given.collection!r})))"
    names = given.names or subprocess.check_output([given.python, "-c", listing], text=True).strip().splitlines()[-1]
    names = ",".join(names.split(",")[:: given.every][: given.most])
    counts, worst, stopped = Counter(), Counter(), False
    try:
        followed(given.python, given, names, counts, worst)
    except KeyboardInterrupt:
        stopped = True
        print("interrupted; so far:")
    for way in given.ways.split(","):
        listed = ", ".join(f"{count} {verdict}" for (at, verdict), count in sorted(counts.items()) if at == way)
        print(f"{way}: {listed}; largest difference {worst[way]:.1e} of the spread")
    if stopped:
        return 130
    return 1 if any(verdict == "wrong" for _, verdict in counts) else 0


if __name__ == "__main__":
    sys.exit(main())
