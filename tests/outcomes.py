"""Hand-made outcomes of every command, for the tests of reports and documents. No number here was measured."""

from dataclasses import replace
from pathlib import Path

import numpy as np

from zygal.artifact.facts import Artifact
from zygal.bench.arithmetic import Arithmetic
from zygal.bench.arrivals import Served
from zygal.bench.baseline import Baseline
from zygal.bench.layers import LayerTime, LayerTimes
from zygal.bench.load import Load
from zygal.bench.machine import Machine
from zygal.bench.offered_load import Offered
from zygal.bench.own_process import OwnProcess
from zygal.bench.pipeline import Pipeline
from zygal.bench.regression import Change, Regression
from zygal.bench.result import Bench, Cell, Comparison
from zygal.bench.serving import Batching, Serving
from zygal.bench.settings import Setting
from zygal.bundle.check import Checked
from zygal.bundle.command import PackOutcome, PackRequest
from zygal.classifier.choice import Choice as OutputChoice
from zygal.classifier.labels import Labels
from zygal.classifier.metadata import EIGHT_BITS, Metadata, Origin, Share, Shrunk
from zygal.cluster.measure import Coordinator, MeasuredCluster, Speed
from zygal.cluster.simulation import Simulated
from zygal.commands.bench.cluster import ClusterOutcome, PlannedRun
from zygal.commands.bench.endpoint import EndpointOutcome
from zygal.commands.bench.execute import BenchOutcome
from zygal.commands.bench.request import BenchRequest
from zygal.commands.classify.outcome import ClassifyOutcome
from zygal.commands.convert import ConvertOutcome, ConvertRequest
from zygal.commands.demo import DemoOutcome, StepResult
from zygal.commands.draw import DrawOutcome, DrawRequest
from zygal.commands.match.outcome import MatchOutcome
from zygal.commands.match.request import MatchRequest
from zygal.commands.match.service_causes import other_file
from zygal.commands.recipes import RecipesOutcome, RecipesRequest
from zygal.commands.recover.outcome import RecoverOutcome
from zygal.commands.recover.request import RecoverRequest
from zygal.commands.shrink.outcome import ShrinkOutcome
from zygal.commands.shrink.request import ShrinkRequest
from zygal.commands.survey.execute import Survey, SurveyOutcome
from zygal.commands.tally.outcome import TallyOutcome
from zygal.commands.witness import WitnessOutcome, WitnessRequest
from zygal.conversion.convert import Conversion
from zygal.errors import ArtifactError
from zygal.evidence.causes import Cause
from zygal.evidence.layers import Departure
from zygal.evidence.result import ImageResult, Match
from zygal.evidence.witness import LayerRecord, Preprocessing, Witness
from zygal.files import kinds
from zygal.files.weights import StoredWeight, WeightsFacts
from zygal.graph import TensorType
from zygal.inlet import Crop, Decode, Inlet, Resize, Values
from zygal.inlet.images import ImageFile
from zygal.inlet.recipes import Recipe
from zygal.inlet.recovery.by_scores import ScoreRecovery
from zygal.inlet.recovery.groups import Group
from zygal.inlet.recovery.recover import Recovery, Undecided
from zygal.inlet.recovery.residuals import ImageResidual
from zygal.inlet.stages import Stage
from zygal.machine.processor import Multiplication
from zygal.outcome import Gate
from zygal.prediction.figure import MappedPicture
from zygal.prediction.labelled import Joined
from zygal.prediction.prediction import Prediction, RankedClass
from zygal.prediction.regions import RegionMap
from zygal.shrink.choose import Budget, Choice, Layer
from zygal.shrink.form import onnx_form
from zygal.shrink.given import Given
from zygal.shrink.half import Halved
from zygal.shrink.shrink import Result
from zygal.shrink.trial import Point
from zygal.signoff.check import Check
from zygal.signoff.command import SignoffOutcome, SignoffRequest
from zygal.signoff.inputs import Input
from zygal.signoff.kept import Result as Kept
from zygal.signoff.kept import Step
from zygal.sources.source import SignatureFacts, SourceFacts
from zygal.statistics.intervals import share_of
from zygal.statistics.quantiles import Median, Ratio
from zygal.tally.accuracy import accuracy_of
from zygal.tally.calibration import calibration_of
from zygal.tally.exchange import Exchange
from zygal.tally.multi_label import multi_label_accuracy
from zygal.tally.paired import paired
from zygal.tally.tally import Duplicates, Misclassified, Tally
from zygal.wording import RELEASE

LABELS = ("port-hand", "starboard-hand", "safe-water")
INLET = Inlet(
    Decode(),
    (Resize(short_side=72, filter="bilinear"), Crop(size=(64, 64))),
    Values((0.0, 1.0), (0.46, 0.48, 0.5), (0.24, 0.23, 0.25)),
)
IMAGES = (ImageFile("mark-00.jpg", "a" * 64), ImageFile("mark-01.png", "b" * 64))
FLOAT_IMAGE, FLOAT_SCORES = TensorType(np.dtype("float32"), ("N", 3, 64, 64)), TensorType(np.dtype("float32"), ("N", 3))


def match_passes():
    return _match(
        gates=(
            Gate("A", "preprocessing: largest tensor difference", 0.0, 0.5, "grey levels"),
            Gate("B", "model: scores on the recorded tensors, largest difference", 3.5e-7, 1e-4, "of the spread"),
            Gate("B", "model: scores on the recorded tensors, changed top-1", 1, 1, "of 2 images (1 tie)"),
            Gate("L", "labels: class names that differ from the recorded ones", 0, 0, "of 3 classes"),
        ),
        not_checked=(),
        ties=("mark-01.png",),
    )


def match_fails():
    corrected = Cause(
        (
            'decode.colour should be "rgb", the inlet says "bgr"',
            "values.range should be [0, 1], the inlet says [0, 255]",
        ),
        INLET,
        170.0,
        0.0,
    )
    gates = (
        Gate("A", "preprocessing: largest tensor difference", 170.0, 0.5, "grey levels"),
        Gate("B", "model: scores on the recorded tensors, largest difference", 0.02, 1e-4, "of the spread"),
        Gate(
            "C",
            "end to end: scores from the image files, changed top-1",
            None,
            0,
            "of 2 images",
            "no image could be read",
        ),
        Gate("L", "labels: class names that differ from the recorded ones", 2, 0, "of 3 classes"),
    )
    return _match(
        gates,
        not_checked=("P: not checked, because no image could be read",),
        ties=(),
        cause=corrected,
        changed_top_1=(26, 0),
        score_cause="the classes are shifted by 1: recorded class 0 is class 1 of the artifact",
        departure=Departure("features.3.conv", 0.25, "features.2", 4),
        label_cause="class 1 is 'a' in the artifact, but 'b' was recorded",
        unreadable=(("mark-01.png", "mark-01.png is truncated"),),
    )


def _match(gates, not_checked, ties, unreadable=(), **more):
    top = ((0, 4.708), (2, -0.646), (1, -0.886))
    images = (
        ImageResult("mark-00.jpg", 61.0, 0.02, 0.899, top, tuple(reversed(top))),
        ImageResult("mark-01.png", None, 0.0, None, top, top),
    )
    found = Match(gates, images, ties, unreadable, not_checked, (), 11.5, **more)
    request = MatchRequest(artifact="model.onnx", witness="model.witness", images="reference", inlet="wrong.toml")
    return MatchOutcome(
        request=request,
        runtime="ONNX Runtime 1.32.0",
        recorded=2,
        framework="PyTorch 2.13.0",
        labels=LABELS,
        found=found,
        gates=gates,
        unreadable=unreadable,
        notes=("the artifact was made from another file",),
        next_step="zygal match model.onnx --witness model.witness --images reference",
    )


def match_behind_layers():
    gate = Gate("B", "model: scores on the recorded tensors, largest difference", 0.02, 1e-4, "of the spread")
    return _match(
        (gate,),
        not_checked=("L: the class names were not compared, because the witness holds none",),
        ties=(),
        departure=Departure(None, None, "features.2", 4),
    )


def convert():
    found = Conversion(
        "model.pt2",
        "model.onnx",
        "PyTorch",
        "2.13.0",
        "image",
        FLOAT_IMAGE,
        "scores",
        FLOAT_SCORES,
        75,
        58,
        {"Conv": 24, "Relu": 6},
        55_320,
        231_400,
        "ONNX",
        17,
        (),
        inlet=INLET,
    )
    request = ConvertRequest(source="model.pt2", output="model.onnx", inlet="model.inlet.toml")
    return ConvertOutcome(request=request, found=found, classes_named=None, labels_order=None, written=("model.onnx",))


def recording(tensors=True, layers=True):
    values = np.linspace(-2, 2, 2 * 3 * 4 * 4, dtype=np.float32).reshape(2, 3, 4, 4)
    record = LayerRecord(("features.0", "classifier"), ("conv", "linear"), (48, 3), np.zeros((2, 2, 33), np.float32))
    return Witness(
        IMAGES,
        values if tensors else None,
        np.array([[4.7, -0.6, -0.9], [0.1, 0.2, 0.3]], np.float32),
        "PyTorch",
        "2.13.0",
        "model.pt2",
        "c" * 64,
        Preprocessing("training code", "prepare.py:load", "d" * 64),
        "0.1.0",
        (("mark-02.jpg", "truncated"),),
        record if layers else None,
        LABELS if layers else None,
    )


def witness():
    request = WitnessRequest(
        images="reference", output="model.witness", source="model.pt2", training_code="prepare.py:load"
    )
    return WitnessOutcome(
        request=request, found=recording(), size_bytes=123_456, unreadable=(("mark-02.jpg", "truncated"),)
    )


def recover():
    images = (ImageResidual(0, "mark-01.jpg", "JPEG RGB", 0.0, 0.0, 0.0, 0.0, "nowhere"),)
    found = Recovery(
        INLET,
        0.0,
        0.0,
        0.0,
        2,
        ("frame step 1.rounding", "passes-16bit", 1.0),
        (Undecided("decode.exif", "apply", ("ignore",), "a photograph with an EXIF rotation"),),
        (),
        139,
        images,
        (),
        "Pillow",
    )
    return _recover(Gate("inlet", "largest difference of the tensors", 0.0, 0.5, "grey levels"), by_tensors=found)


def recover_fails():
    images = (
        ImageResidual(0, "mark-01.jpg", "JPEG RGB", 0.4, 0.01, 0.0, 0.3, "nowhere"),
        ImageResidual(1, "mark-02.png", "PNG RGBA", 67.0, 3.2, 0.25, 60.0, "all over"),
    )
    groups = (Group(("mark-01.jpg",), INLET, "is a JPEG file"), Group(("mark-02.png",), None, None))
    found = Recovery(INLET, 67.0, 1.6, 60.0, 2, None, (), (), 139, images, groups)
    return _recover(Gate("inlet", "largest difference of the tensors", 67.0, 0.5, "grey levels"), by_tensors=found)


def recipes():
    recipe = Recipe("square-crop", "The largest square in the middle", "crop, resize((224, 224))", "zygal_inlet = 1\n")
    return RecipesOutcome(request=RecipesRequest(), recipes=(recipe,))


def recover_by_scores():
    found = ScoreRecovery(INLET, 1e-6, 1e-5, 1, 2, (INLET, 0.01), 200)
    return _recover(Gate("inlet", "largest difference of the scores", 1e-5, 0.05, "of the spread"), by_scores=found)


def _recover(gate, **found):
    request = RecoverRequest(witness="model.witness", images="reference", output="model.inlet.toml")
    return RecoverOutcome(request=request, gates=(gate,), **found)


def draw():
    picture = np.zeros((64, 48, 3))
    stages = (
        Stage("file", "RGB as stored", picture, 3.0, 250.0),
        Stage("input tensor", "0..255 to 0..1; NCHW, float32", picture, 0.0, 1.0),
    )
    return DrawOutcome(
        request=DrawRequest(image="a.jpg", inlet="i.toml", output="strip.png"), inlet=INLET, stages=stages
    )


def survey_source(unknown=()):
    facts = SourceFacts(
        "model.pt2",
        "PyTorch",
        "2.13.0",
        "schema 8.20",
        {"image": FLOAT_IMAGE},
        {"linear": FLOAT_SCORES},
        "logits",
        OutputChoice("linear"),
        False,
        "training" if unknown else "evaluation",
        ["Rescaling"],
        {"aten.conv2d.default": 24},
        list(unknown),
        ["features.0", "head"],
        40,
        56_280,
        ["float32"],
        533_000,
    )
    return SurveyOutcome(found=Survey("model.pt2", kinds.PROGRAM, facts))


def survey_folder(why_not=""):
    tensor = ("serving_default_x:0", "float32", (None, 64, 64, 3))
    signatures = tuple(
        SignatureFacts(
            name, ("serve",), {"x": given}, {"scores": ("StatefulPartitionedCall:0", "float32", (None, 3))}, taken
        )
        for name, given, taken in (
            ("files", ("files_content:0", "string", (None,)), False),
            ("serving_default", tensor, True),
        )
    )
    types = (TensorType(np.dtype("float32"), ("N", 64, 64, 3)), FLOAT_SCORES)
    facts = SourceFacts(
        "marks",
        "TensorFlow",
        "2.21.0",
        "saved-model folder",
        {"serving_default_x:0": types[0]},
        {"scores": types[1]},
        "logits",
        OutputChoice("scores"),
        False,
        "evaluation",
        [],
        {"Conv2D": 24},
        [],
        ["conv_1", "head"],
        40,
        56_280,
        ["float32"],
        533_000,
        signatures,
        LABELS,
        None if why_not else INLET,
        why_not,
    )
    return SurveyOutcome(found=Survey("marks", kinds.SAVED_MODEL, facts))


def survey_artifact():
    metadata = Metadata(
        INLET, LABELS, Origin("model.pt2", "e" * 64, "PyTorch", "2.13.0", "0.1.0"), labels_order="lines of labels.txt"
    )
    facts = Artifact(
        "model.onnx",
        "f" * 64,
        "ONNX",
        "opset 17, IR version 8",
        "ONNX Runtime",
        "1.12",
        {"image": ("float32", ("N", 3, 64, 64))},
        {"scores": ("float32", ("N", 3))},
        "zygal 0.1.0",
        {"Conv": 24},
        58,
        49,
        55_320,
        "logits",
        OutputChoice("scores"),
        231_400,
        metadata,
        17,
        8,
    )
    return SurveyOutcome(found=Survey("model.onnx", kinds.ARTIFACT, facts))


def survey_flatbuffer():
    """A mobile artifact of ours."""
    facts = survey_artifact().found.facts
    mobile = replace(
        facts,
        path="model.tflite",
        format="mobile flatbuffer",
        version="schema version 3",
        runtime="the mobile runtime (LiteRT)",
        oldest_runtime=None,
        operators={"CONV_2D": 24},
        opset=None,
        ir_version=None,
        signatures=("serving_default",),
    )
    return SurveyOutcome(found=Survey("model.tflite", kinds.MOBILE, mobile))


def survey_witness():
    return SurveyOutcome(found=Survey("model.witness", kinds.WITNESS, recording()))


def survey_inlet():
    return SurveyOutcome(found=Survey("model.inlet.toml", kinds.INLET, INLET))


def survey_labels():
    return SurveyOutcome(found=Survey("labels.txt", kinds.LABELS, Labels(LABELS, "lines of labels.txt")))


def tally(compared=True):
    truth, predicted = np.array([0, 0, 1, 1, 2, 2]), np.array([0, 1, 1, 1, 2, 0])
    confidence, right = np.array([0.9, 0.6, 0.8, 0.7, 0.95, 0.5]), truth == predicted
    metrics = accuracy_of(truth, predicted, np.where(right, 0, 1), np.where(right, confidence, 0.2), LABELS, (1, 2))
    wrong = (Misclassified("b.jpg", ("port-hand",), ("starboard-hand",), 0.6, 0.2, "bow"),)
    duplicates = Duplicates(
        (("a.jpg", "b.jpg"),), (("c.jpg", "d.jpg"),), (("e.jpg", "train/e.jpg"),), (("c.jpg", "d.jpg"),), 40
    )
    joined = Joined((), (), {"special": 2}, {"Port Hand": "port-hand"}, (), {})
    both = paired(right, np.array([True, False, False, True, True, False]), 2, 0.01) if compared else None
    groups = {"bow": share_of(2, 3), "mast": share_of(2, 3)}
    found = Tally(
        6,
        share_of(4, 6),
        metrics,
        None,
        calibration_of(confidence, right),
        groups,
        {"bow": 3, "mast": 3},
        wrong,
        (("f.jpg", "truncated"),),
        joined,
        Exchange({"port-hand": "safe-water"}, 5, 1, None, False, 0.01),
        duplicates,
        metrics if compared else None,
        both,
    )
    gates = (Gate("accuracy", "accuracy on 6 images", 4 / 6, 0.9, "share", at_least=True),)
    return TallyOutcome(
        artifact="model.onnx",
        engine="ONNX Runtime 1.32.0",
        images="labelled.csv",
        scores="logits",
        labels=LABELS,
        labels_order="lines of labels.txt",
        found=found,
        compared="other.onnx" if compared else None,
        gates=gates,
        unreadable=found.unreadable,
        written=("drawn/confusion.png",),
    )


def tally_multi_label():
    truth = np.array([[1, 0, 1], [0, 1, 0], [1, 1, 0], [0, 0, 0]], bool)
    probabilities = np.array([[0.9, 0.2, 0.6], [0.1, 0.8, 0.4], [0.7, 0.3, 0.1], [0.2, 0.6, 0.1]])
    metrics = multi_label_accuracy(truth, probabilities, LABELS, 0.5)
    found = Tally(
        4,
        share_of(2, 4),
        None,
        metrics,
        calibration_of(probabilities.ravel(), truth.ravel()),
        {},
        {},
        (),
        (),
        Joined((), (), {}, {}, (), {}),
        None,
        Duplicates((), (), ()),
        None,
        None,
    )
    return TallyOutcome(
        artifact="model.onnx",
        engine="ONNX Runtime 1.32.0",
        images="labelled.csv",
        scores="independent probabilities",
        labels=LABELS,
        labels_order=None,
        found=found,
    )


def _prediction(path, first=0, other=None, uncertain=False):
    names = (LABELS[first], *(name for name in LABELS if name != LABELS[first]))
    top = tuple(
        RankedClass(name, score, share) for name, score, share in zip(names, (4.2, 1.5, -0.6), (0.92, 0.06, 0.02))
    )
    return Prediction(path, None, top, 0.86, uncertain, other=other and RankedClass(other, 3.1, 0.8))


def _classify(**more):
    about = {
        "artifact": "model.onnx",
        "engine": "ONNX Runtime 1.32.0",
        "scores": "logits",
        "labels": LABELS,
        "labels_order": None,
        "multi_label": False,
        "thresholds": {"min_probability": 0.5, "min_margin": 0.1, "label": 0.5},
    }
    return ClassifyOutcome(**(about | more))


def classify_few():
    predictions = (
        _prediction("a.jpg", other="port-hand"),
        _prediction("b.jpg", 2, "port-hand", True),
        Prediction("c.jpg", "is truncated"),
    )
    counts = {"read": 2, "unreadable": 1, "uncertain": 1, "disagreements": 1}
    return _classify(
        predictions=predictions,
        counts=counts,
        compared="model.pt2",
        compared_engine="PyTorch 2.13.0",
        unreadable=(("c.jpg", "is truncated"),),
    )


def classify_file():
    counts = {"read": 12_000, "unreadable": 3, "uncertain": 40, "disagreements": 1}
    return _classify(
        output="predictions.csv",
        rows=12_003,
        resumed=1_000,
        counts=counts,
        seconds=20.0,
        compared="other.onnx",
        disagreements=(_prediction("a.jpg", other="safe-water"),),
        unreadable_count=3,
        written=("predictions.csv",),
    )


def classify_vectors():
    counts = {"read": 40, "unreadable": 1, "uncertain": 0, "disagreements": 0}
    return _classify(
        output="vectors.npy",
        rows=40,
        counts=counts,
        numbers=512,
        unreadable=(("c.jpg", "is truncated"),),
        unreadable_count=1,
        written=("vectors.npy", "vectors.npy.names.txt"),
    )


def survey_weights():
    return SurveyOutcome(
        found=Survey(
            "w.safetensors",
            kinds.SAFETENSORS,
            WeightsFacts((StoredWeight("head.weight", "F16", (5, 3)), StoredWeight("head.bias", "F32", (5,))), 512),
        )
    )


def classify_regions():
    weight = np.zeros((64, 64))
    weight[40, 24] = 4.3
    mapped = MappedPicture(
        "model.onnx on ONNX Runtime 1.32.0",
        np.zeros((64, 64, 3)),
        RegionMap("port-hand", 0.94, weight, (12, 12), 0.007),
    )
    return _classify(maps=(mapped, mapped), maps_differ_log_odds=1.8e-6, written=("regions.png",))


def _cell(batch, threads, milliseconds, ratio=1.01):
    seconds = np.full(400, milliseconds / 1e3)
    median = Median(
        milliseconds / 1e3,
        0.97 * milliseconds / 1e3,
        1.04 * milliseconds / 1e3,
        0.99 * milliseconds / 1e3,
        1.01 * milliseconds / 1e3,
        400,
    )
    noise = Ratio(ratio, ratio - 0.01, ratio + 0.01, 20)
    return Cell(
        Setting(batch, threads),
        median,
        seconds,
        1.1 * milliseconds / 1e3 / batch,
        noise,
        Ratio(2.0, 1.9, 2.1, 20),
        0.4,
        OwnProcess(60_000_000 + batch * 1_000_000, 40_000_000, 0.016, 0.004),
        True,
    )


def bench():
    cells = (_cell(1, 1, 0.72), _cell(8, 1, 4.9), _cell(1, 2, 0.6), _cell(8, 2, 3.1))
    ratios = {cell.setting: Ratio(3.2, 3.0, 3.4, 20) for cell in cells}
    machine = Machine(
        "Example CPU at 2.5 GHz", 2, None, ("avx2", "fma"), None, 16_000_000_000, "Linux x86_64", "3.11.7"
    )
    found = Bench(
        "model.onnx",
        "a" * 64,
        "ONNX Runtime 1.32.0",
        "model.witness",
        {"image": (3, 64, 64)},
        machine,
        Load(0.02, 0.0, None),
        cells,
        (Comparison("model.pt2", "PyTorch 2.13.0", ratios, Ratio(3.2, 3.1, 3.3, 80)),),
        Arithmetic({0: 9_868_064}, 0),
        {1: 0.01, 2: 0.006},
        {1: 59e9, 2: 110e9},
        (),
        9.2,
        27,
        False,
    )
    best = Setting(8, 2)
    stages = {"decode": 0.0007, "frame": 0.0005, "values": 0.0002, "inference": 0.0006}
    pipeline = Pipeline(
        8, 2, 2, 40, stages, 461.0, {1: 680.0, 2: 640.0}, Ratio(1.43, 1.34, 1.59, 12), (("x.png", "truncated"),), False
    )
    served = Served(500.0, np.full(400, 0.002), (1, 2), np.array([0.001, 0.002]), 0.006)
    serving = Serving(best, Batching(8, 0.005), (served,), 0.01, 1254.0, served)
    layers = LayerTimes(
        best,
        (LayerTime("features.0", 0.002, 0.7, 40_000_000, ("Conv",)), LayerTime("head", 0.001, 0.3, 0, ("Gemm",))),
        0.0035,
        300,
        0.01,
    )
    change = Change(Setting(1, 1), 1.2, 0.05, 1.25, "slower")
    regression = Regression(
        (change,), None, {1: 1.1}, ("runtime ONNX Runtime 1.31.0 in the baseline, ONNX Runtime 1.32.0 now",)
    )
    earlier = Baseline("earlier.onnx", "ONNX Runtime 1.31.0", "random numbers", [[3, 64, 64]], machine, {1: 0.01}, {})
    request = BenchRequest(artifact="model.onnx", deadline=0.01, batches=(1, 8))
    return BenchOutcome(
        request=request,
        bench=found,
        pipeline=pipeline,
        serving=serving,
        layers=layers,
        regression=regression,
        earlier=earlier,
        gates=(Gate("baseline", "significant slowdown", 0.2, 0.05, "share"),),
        unreadable=pipeline.unreadable,
    )


def _point(name, kept, equal, error, speed, size, lost=None):
    return Point(
        kept,
        name,
        share_of(equal, 200),
        share_of(equal, 200),
        error,
        lost,
        Ratio(speed, speed - 0.1, speed + 0.1, 20),
        size,
    )


def shrink(taken=True):
    points = (
        _point("none kept", (), 195, 0.0123, 2.31, 25_900_000, 0.008),
        _point(
            "3 kept", ("stem.0 (Conv)", "stem.2 (Mul)", "block.1.first (Conv)"), 199, 0.0046, 2.12, 27_400_000, 0.002
        ),
    )
    ends = _point("first and last kept", ("stem.0 (Conv)", "classifier (Gemm)"), 197, 0.0101, 2.02, 32_100_000, 0.005)
    layers = (
        Layer("image", None, "the input", "-", 0.0011, 0.0, 0.0),
        Layer("v1", "v1", "stem.0", "Conv", 0.0087, 0.0004, 0.001),
        Layer("v2", "v2", "stem.2", "Mul", 0.0031, 0.0002, 0.0),
    )
    choice = Choice(points[1] if taken else None, points[1], points, ends, ())
    found = Result(
        choice,
        layers,
        onnx_form(Multiplication("x86", ("AVX-512 VNNI",))),
        True,
        102_000_000,
        70,
        points[1].kept if taken else (),
        {"the input": 0.0, "stem.0": 0.0004, "stem.2": 0.00002},
        (0.01, 0.03),
        Path("small.onnx") if taken else None,
    )
    budget = Budget(0.99, 0.005, None if taken else 3.0)
    given = Given(np.zeros((200, 1), np.float32), ("a.jpg",), "images (200 of 5000 images)")
    request = ShrinkRequest(
        artifact="model.onnx", output="small.onnx", images="images", agree=0.99, lose=0.005, labelled="labelled"
    )
    return ShrinkOutcome(
        request=request,
        budget=budget,
        found=found,
        halved=None,
        given=given,
        instructions=("AVX-512 VNNI",),
        written=("small.onnx",) if taken else (),
        refusal=None if taken else ArtifactError("no choice of layers holds the budget."),
    )


def shrink_half():
    given = Given(np.zeros((40, 1), np.float32), ("a.jpg",), "reference (40 of 40 images)")
    halved = Halved(share_of(40, 40), 0.00002, 0.00013, 231_000, 124_000)
    request = ShrinkRequest(artifact="model.onnx", output="half.onnx", images="reference", half=True)
    return ShrinkOutcome(
        request=request, budget=None, found=None, halved=halved, given=given, instructions=(), written=("half.onnx",)
    )


def match_shrunk():
    shrunk = Shrunk(
        "model.onnx",
        "a" * 64,
        EIGHT_BITS,
        "top-1 agreement at least 99.0 %",
        200,
        "images",
        70,
        ("stem.0 (Conv)",),
        (Share("block.1.first", 0.31), Share("head", 0.12)),
    )
    gates = (
        Gate("B", "model: scores on the recorded tensors, top-1 equal", 0.95, 0.99, "share", at_least=True),
        Gate(
            "B",
            "model: scores on the recorded tensors, classes in the recorded order",
            0.998,
            0.99,
            "share",
            at_least=True,
        ),
    )
    whole = match_fails()
    return replace(
        whole,
        shrunk=shrunk,
        gates=gates,
        found=replace(whole.found, gates=gates, cause=None, departure=None, score_cause=None, label_cause=None),
    )


def demo():
    steps = (StepResult(("zygal", "survey", "model.pt2"), 0, 0), StepResult(("zygal", "match", "model.onnx"), 0, 1))
    gate = Gate("demo", "commands with another exit code than expected", 1, 0, "of 2 commands")
    return DemoOutcome(folder="zygal-demo", steps=steps, gates=(gate,))


def match_served():
    """A service that does not serve what it should."""
    gates = (
        Gate("B", "model: scores on the recorded tensors, largest difference", 0.197, 1e-4, "of the spread"),
        Gate(
            "E",
            "service and artifact: scores on the recorded tensors, largest difference",
            0.197,
            1e-5,
            "of the spread",
        ),
        Gate("V", "service: answers by another version than 1", 3, 0, "of 9 answers"),
    )
    whole = match_fails()
    request = replace(whole.request, endpoint="http://127.0.0.1:8000/v2/models/marks/versions/1")
    return replace(
        whole,
        request=request,
        gates=gates,
        found=replace(whole.found, gates=gates, cause=None, departure=None, score_cause=None, label_cause=None),
        service_cause=other_file(["2"]),
        notes=("the service did not answer 4 requests at once (status 503); they were sent again",),
    )


def bench_endpoint():
    run = Offered(200.0, 1, np.linspace(0.003, 0.02, 1200), {}, 0.0, 6.0)
    over = Offered(1000.0, 4, np.linspace(0.01, 2.0, 300), {"did not answer within 10 s": 7}, 0.4, 5.0)
    gates = (
        Gate("answers", "requests without an answer", 7, 0, "of 1507 requests"),
        Gate("deadline", "200 images/s in batches of 1: p99", 19.8, 50, "ms"),
    )
    request = BenchRequest(
        artifact="model.onnx",
        endpoint="http://127.0.0.1:8000/v2/models/marks",
        arrival_rate=(200.0, 1000.0),
        deadline=0.05,
    )
    return EndpointOutcome(
        request=request,
        service=f"{request.endpoint} (version 1)",
        inputs_from="random numbers",
        runs=(run, over),
        gates=gates,
    )


def bench_cluster():
    """Workers that share a machine, and a plan for many."""
    one = Speed(1, 1, (0.021, 0.022), 372.0, 0.002)
    every = Speed(2, 4, (0.03, 0.034, 0.031), 990.0, 0.004)
    reading = (Speed(1, 1, (0.0004,), 20_000.0, 0.0, 281e6), Speed(2, 4, (0.0005,), 61_000.0, 0.0, 857e6))
    found = MeasuredCluster(one, every, *reading, 0.83, Coordinator(0.004, 9e-6, 41_000.0, 496))
    planned = (
        PlannedRun(workers=1, simulated=Simulated(4_040_000.0, 247.5, 0.998, 0.005, 2_016_129, 0, 0)),
        PlannedRun(workers=1000, simulated=Simulated(23_810.0, 41_999.0, 0.169, 1.0, 2_016_400, 66, 2_021)),
    )
    request = BenchRequest(
        artifact="model.onnx",
        cluster="tcp://scheduler:8786",
        images="s3://marks/2026/",
        plan_images=10**9,
        plan_workers=(1, 1000),
        failures_per_hour=0.01,
        late_share=0.001,
    )
    return ClusterOutcome(
        request=request,
        engine="ONNX Runtime 1.32.0",
        measured_images=10_000,
        found=found,
        pay=165,
        limit="coordinator",
        storage_seen=False,
        planned=planned,
        notes=(
            "all 4 threads at once give 248 images/s each, one alone 372: they share cores or memory; the plan "
            "is for machines as full as these",
        ),
    )


def _checks():
    lowest = "lowest: mast camera, 100 images, 95 % CI 77.9 % to 91.5 %"
    return (
        Check(
            "portability.runs_on",
            Gate("runs_on", "oldest release of the runtime that loads it", 1.012, 1.016, RELEASE),
            True,
        ),
        Check(
            "agreement.B",
            Gate("B", "model: scores on the recorded tensors, largest difference", 2.8e-7, 1e-4, "of the spread"),
            True,
        ),
        Check(
            "accuracy.each_group_at_least",
            Gate("each_group_at_least", "lowest accuracy of a group", 0.86, 0.9, "share", at_least=True),
            True,
            lowest,
        ),
        Check(
            "accuracy.calibration_error_at_most",
            Gate("calibration_error_at_most", "expected calibration error", 0.066, 0.05, "share"),
            False,
            "201 images",
        ),
        Check(
            "speed.p99_at_most_ms",
            Gate(
                "p99_at_most_ms",
                "batch 1, 2 threads: p99 of the time of a batch",
                None,
                5.0,
                "ms",
                "12 runs are too few for a p99; raise speed.seconds",
            ),
            True,
            "12 runs",
        ),
    )


def signoff(checks=None, changes=None):
    checks = _checks() if checks is None else checks
    file = Input("model.artifact", "model.onnx", "b" * 64, 1, 231_000)
    document = {
        "diagnosis": "The inlet differs from the preprocessing of the training side.",
        "likely_causes": ['Likely cause: decode.colour should be "rgb", the inlet says "bgr".'],
    }
    steps = {
        "survey": Step("survey", Kept({}), 0.1, "2026-01-01T10:00:00+00:00", True),
        "agreement": Step("agreement", Kept(document), 1.5, "2026-01-01T10:00:00+00:00", False),
    }
    return SignoffOutcome(
        request=SignoffRequest(plan="signoff.toml", against="earlier.json" if changes is not None else None),
        title="Channel marks",
        plan_sha256="c" * 64,
        signed_at="2026-01-01T10:00:05+00:00",
        artifact=file,
        inputs=(
            Input("data.witness", "model.witness", "d" * 64, 1, 521_000),
            Input("data.reference", "reference", "e" * 64, 40, 600_000),
        ),
        versions={"zygal": "0.1.0", "numpy": "2.4.6"},
        machine={"processor": "A processor"},
        checks=checks,
        not_checked=("speed and memory: not checked, because the plan has no table [speed]",),
        steps=steps,
        gates=tuple(each.gate for each in checks if each.required),
        unreadable=(("labelled/a.jpg", "is empty"),),
        changes=changes,
        written=("signoff.signoff/page.html", "signoff.signoff/result.json", "signoff.signoff/junit.xml"),
    )


def signoff_passes():
    changes = (
        {
            "what": "model.artifact",
            "earlier": "aaaaaaaaaaaa (model.onnx)",
            "now": "bbbbbbbbbbbb (model.onnx)",
            "kind": "changed",
        },
        {
            "what": "accuracy on the labelled images",
            "earlier": "90.0 % (95 % CI 85.1 % to 93.4 %)",
            "now": "91.0 % (95 % CI 86.3 % to 94.3 %)",
            "kind": "better",
        },
    )
    return replace(signoff(_checks()[:2], changes), unreadable=(), not_checked=())


def signoff_new():
    return SignoffOutcome(
        request=SignoffRequest(new=True),
        title="signoff",
        proposed="zygal_plan = 1\n",
        written=("signoff.toml",),
        next_step="zygal signoff signoff.toml",
    )


_SIGNED = {
    "plan": "signoff.toml",
    "title": "Channel marks",
    "signed_at": "2026-01-01T10:00:05+00:00",
    "result_sha256": "f" * 64,
    "artifact_sha256": "b" * 64,
    "signed_off": True,
}
_FILES = {
    "model/model.onnx": {"sha256": "b" * 64, "bytes": 231_000},
    "classify.py": {"sha256": "a" * 64, "bytes": 9_000},
}


def pack():
    model = {"name": "model", "file": "model/model.onnx", "sha256": "b" * 64, "references": [{}] * 10}
    request = PackRequest(artifacts=("model.onnx",), output="model.zip", images="reference", signoff="signoff.signoff")
    return PackOutcome(
        request=request,
        bundle="model.zip",
        bundle_sha256="1" * 64,
        bundle_bytes=682_000,
        files=_FILES,
        models=(model,),
        signoff=_SIGNED,
        written=("model.zip",),
        next_step="zygal pack --check model.zip",
    )


def pack_check(faults=("classify.py has other bytes",)):
    gates = [Gate("files", "files that are not as the manifest says", len(faults), 0, "of 2 files")]
    gates += (
        []
        if faults
        else [
            Gate(
                "signoff", "signed-off artifacts that are not in the bundle byte for byte (by --signoff)", 0, 0, "of 1"
            ),
            Gate("runner", "bundled runner: exit code of its own check", 0, 0, ""),
        ]
    )
    skipped = ("sign-off and runner: not checked, because files are not as the manifest says",) if faults else ()
    said = (
        ()
        if faults
        else (
            "pass  reference/a.jpg: file as bundled, tensor identical, scores differ by 0.0e+00 of the spread",
            "model: 0 of 1 images fail, largest difference 0.0e+00 of the spread",
        )
    )
    found = Checked(tuple(gates), said, skipped, faults, {}, {"files": _FILES, "signoff": _SIGNED})
    return PackOutcome(
        request=PackRequest(check="model.zip"),
        bundle="model.zip",
        bundle_sha256="1" * 64,
        bundle_bytes=682_000,
        files=_FILES,
        signoff=_SIGNED,
        checked=found,
        gates=found.gates,
    )


ALL = {
    "match_passes": match_passes,
    "match_fails": match_fails,
    "match_behind_layers": match_behind_layers,
    "convert": convert,
    "witness": witness,
    "recover": recover,
    "recipes": recipes,
    "recover_fails": recover_fails,
    "recover_by_scores": recover_by_scores,
    "draw": draw,
    "survey_source": survey_source,
    "survey_unknown": lambda: survey_source(("aten.stft.default",)),
    "survey_artifact": survey_artifact,
    "survey_flatbuffer": survey_flatbuffer,
    "survey_folder": survey_folder,
    "survey_several": lambda: survey_folder("marks has several signatures; choose one with --signature NAME."),
    "survey_witness": survey_witness,
    "survey_inlet": survey_inlet,
    "survey_labels": survey_labels,
    "tally": tally,
    "tally_alone": lambda: tally(False),
    "tally_multi_label": tally_multi_label,
    "classify_few": classify_few,
    "classify_file": classify_file,
    "classify_vectors": classify_vectors,
    "survey_weights": survey_weights,
    "classify_regions": classify_regions,
    "bench": bench,
    "demo": demo,
    "shrink": shrink,
    "shrink_refused": lambda: shrink(False),
    "shrink_half": shrink_half,
    "match_shrunk": match_shrunk,
    "match_served": match_served,
    "bench_endpoint": bench_endpoint,
    "bench_cluster": bench_cluster,
    "signoff": signoff,
    "signoff_passes": signoff_passes,
    "signoff_new": signoff_new,
    "pack": pack,
    "pack_check": lambda: pack_check(()),
    "pack_tampered": pack_check,
}
