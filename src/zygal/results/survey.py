"""The JSON result of zygal survey."""

from __future__ import annotations

from typing import Annotated, Literal, TypedDict

from zygal.classifier.metadata import Shrunk
from zygal.inlet.specification import Decode, Inlet, Step, Tensor, Values


class SurveyPart(TypedDict):
    name: str
    last_name: Annotated[str | None, "of the last repeat"]
    repeat: Annotated[int, "how often the part follows itself, with other weights"]
    result_shape: Annotated[list[int], "for one image"]
    operators: int
    parameters: Annotated[int, "of all repeats together"]
    multiply_adds_per_image: int
    parts: list[SurveyPart]


class SurveyOutline(TypedDict):
    input_shape: list[int]
    layers: int
    operators: int
    parameters: int
    multiply_adds_per_image: int
    parts: list[SurveyPart]


class SurveyInputs(TypedDict):
    name: str
    dtype: str
    shape: list[int | str]
    layout: str


class SurveyOutputs(TypedDict):
    name: str
    dtype: str
    shape: list[int | str]
    layout: None


class SurveyInputs2(TypedDict):
    key: str
    name: str
    dtype: str
    shape: list[int | None] | None
    layout: str | None


class SurveySignatures(TypedDict):
    name: str
    tags: list[str]
    inputs: list[SurveyInputs2]
    outputs: list[SurveyInputs2]
    taken: bool


class SurveyTrained(TypedDict):
    file: str
    file_kind: Literal[
        "a captured PyTorch program (.pt2)",
        "a scripted or traced PyTorch archive",
        "a .keras archive",
        "an HDF5 file",
        "a function that builds a model (FILE.py:FUNCTION)",
        "a TensorFlow saved-model folder",
        "a mobile flatbuffer (.tflite)",
        "a frozen TensorFlow graph",
        "a web model of a graph (model.json)",
        "a web model of layers (model.json)",
    ]
    outline: Annotated[None | SurveyOutline, "the network, with --draw"]
    framework: str
    framework_version: str
    file_format: str
    inputs: list[SurveyInputs]
    outputs: list[SurveyOutputs]
    scores: str
    preprocessing_layers: list[str]
    operators: dict[str, int]
    unknown_operators: list[str]
    layers: list[str]
    tensors: int
    parameters: int
    weight_dtypes: list[str]
    size_bytes: int
    scores_output: str
    softmax_twice: bool
    mode: Literal["evaluation", "training", None]
    signatures: Annotated[list[SurveySignatures], "ways to call the model; of other sources empty"]
    labels: Annotated[list[str] | None, "class names inside the source"]
    inlet: Inlet | None
    cannot_be_converted: Annotated[str | None, "what stands in the way, other than unknown operators"]


class SurveyOrigin(TypedDict):
    source: str
    source_sha256: str
    framework: str
    framework_version: str
    zygal_version: str


class SurveyArtifactFile(TypedDict):
    file: str
    file_kind: Literal["an ONNX artifact", "a mobile flatbuffer (.tflite)"]
    outline: Annotated[None | SurveyOutline, "the network, with --draw"]
    sha256: str
    inputs: list[SurveyInputs]
    outputs: list[SurveyOutputs]
    scores: str
    format: str
    format_version: str
    signatures: list[str]
    opset: int | None
    ir_version: int | None
    oldest_runtime: str | None
    producer: str
    operators: dict[str, int]
    nodes: int
    layers: int
    parameters: int
    size_bytes: int
    raw_pixels: bool
    inlet: Inlet | None
    labels: list[str]
    labels_order: str
    origin: SurveyOrigin
    scores_output: str
    shrunk: Annotated[Shrunk | None, "how the artifact was made, if it is in lower precision"]
    cannot_be_converted: Annotated[None | str, "of another maker's ONNX file, why it cannot; null if it can"]


class SurveyImages(TypedDict):
    name: str
    sha256: str


class SurveySkipped(TypedDict):
    file: str
    reason: str


class SurveyTensors(TypedDict):
    dtype: str
    shape: list[int]


class SurveyPreprocessing(TypedDict):
    kind: str
    text: str
    sha256: str


class SurveyWitnessFile(TypedDict):
    file: str
    file_kind: Literal["a witness"]
    outline: Annotated[None | SurveyOutline, "the network, with --draw"]
    framework: str
    framework_version: str
    source: str
    source_sha256: str
    images: list[SurveyImages]
    skipped: list[SurveySkipped]
    tensors: SurveyTensors
    layers: list[str] | None
    classes: int
    scores: str
    preprocessing: SurveyPreprocessing
    labels: list[str] | None


class SurveyInletFile(TypedDict):
    file: str
    file_kind: Literal["an inlet"]
    outline: Annotated[None | SurveyOutline, "the network, with --draw"]
    decode: Decode
    frame: list[Step]
    values: Values
    tensor: Tensor
    recovered_on: Annotated[str | None, "of a recovered inlet, the hash of the images that it was recovered on"]


class SurveyLabelsFile(TypedDict):
    file: str
    file_kind: Literal["a labels file", "a training folder (its sub-folders are the classes)"]
    outline: Annotated[None | SurveyOutline, "the network, with --draw"]
    labels: list[str]
    labels_order: str


class SurveyStored(TypedDict):
    tensors: int
    parameters: int
    dtypes: list[str]
    names: list[str]
    shapes: Annotated[list[list[int]], "of the tensors, in the order of names"]
    size_bytes: int


class SurveyWeightsFile(SurveyStored):
    file: str
    file_kind: Literal["a safetensors file of weights", "a PyTorch pickle", "a weights file of Keras (.weights.h5)"]
    outline: Annotated[None | SurveyOutline, "the network, with --draw"]
    key: Annotated[str | None, "where in the file the model's dictionary stands, if it is not the whole"]
    beside: Annotated[list[str], "what else stands there"]


class SurveyWeights(SurveyStored):
    key: None
    beside: list[str]


class SurveyComputed(TypedDict):
    name: str
    library: str
    computed_on: Literal["pictures", "tensors"]


class SurveyModelFolder(TypedDict):
    file: str
    file_kind: Literal["a model folder (config.json) of a public collection"]
    outline: Annotated[None | SurveyOutline, "the network, with --draw"]
    library: Literal["transformers", "timm"]
    library_version: str | None
    architecture: str
    classes: int | None
    labels: list[str] | None
    image_shape: Annotated[list[int] | None, "channels, height, width"]
    weights_files: list[str]
    weights: Annotated[SurveyWeights | None, "of one safetensors file"]
    preprocessing: Annotated[SurveyComputed | None, "what computes it in the library"]
    inlet: Inlet | None
    no_inlet_because: str | None


Survey = (
    SurveyTrained
    | SurveyArtifactFile
    | SurveyWitnessFile
    | SurveyInletFile
    | SurveyLabelsFile
    | SurveyWeightsFile
    | SurveyModelFolder
)
"""What a file says of itself; which fields there are depends on file_kind."""
