"""The options that name a trained model, for all commands that take one."""

from __future__ import annotations

from typing import Any

from zygal.request import option

SOURCE = (
    "the trained model: a captured PyTorch program (.pt2), a Keras model (.keras, .h5), a saved-model folder or a "
    "frozen graph (.pb) of TensorFlow, a web model (model.json), a mobile flatbuffer (.tflite), an ONNX file, a symbol "
    "file of MXNet (-symbol.json, its .params beside it), a model folder of "
    "transformers or timm (config.json and weights; needs that library), or FILE.py:FUNCTION, a "
    "Python function that builds a PyTorch module, a Keras model, or a pair of one of them and a fitted scikit-learn "
    "classifier (the file is run)"
)


def weights_option(which: str = "") -> Any:
    """Weights for a function that builds a model. which: the kinds of files, in words."""
    return option(
        f"weights for FILE.py:FUNCTION{which}; or the .params of a -symbol.json",
        None,
        metavar="FILE",
        reads=True,
        configurable=False,
    )


def shape_option(default: str = "") -> Any:
    """The shape of one image's tensor. default: what it is otherwise, in words."""
    said = f"shape of one image's tensor, if the source does not fix it{default}"
    return option(said, None, metavar="C,H,W", kind="numbers")


def signature_option() -> Any:
    """Which of the ways to call a model."""
    return option(
        "the signature of a saved-model folder or a mobile flatbuffer (default: serving_default; zygal survey "
        "lists them)",
        None,
        metavar="NAME",
    )


def input_option() -> Any:
    """Where the images come in."""
    return option(
        "the tensor that takes the images, if a graph has several inputs (zygal survey lists them)",
        None,
        metavar="NAME",
    )
