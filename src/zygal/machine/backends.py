"""The back end on which Keras runs: the one that the user chose, else the first that is installed."""

from __future__ import annotations

import importlib.util
import json
import os
import sys
from pathlib import Path

BACKENDS = ("jax", "torch", "tensorflow")


def use_installed_backend() -> None:
    """Chooses a back end that is installed, unless the user chose one or Keras runs already.

    To be called before Keras is imported, by our code or by the user's: without a choice it starts on TensorFlow.
    """
    if "keras" in sys.modules or "KERAS_BACKEND" in os.environ or _is_installed(_configured()):
        return
    installed = next((name for name in BACKENDS if _is_installed(name)), None)
    if installed:
        os.environ["KERAS_BACKEND"] = installed


def missing_package(fault: ModuleNotFoundError) -> str:
    """What is missing where a user's code cannot import something, as a clause."""
    wanted = os.environ.get("KERAS_BACKEND") or _configured() or BACKENDS[-1]
    if fault.name in BACKENDS and fault.name == wanted and importlib.util.find_spec("keras"):
        there = [name for name in BACKENDS if _is_installed(name)]
        advice = f"set KERAS_BACKEND to {' or '.join(there)}, or install it" if there else "install it"
        return f"{fault.name}, the back end that Keras is set to, is not installed; {advice}"
    return (
        f"the package {fault.name} is not installed here; install it, or run this command where the model was trained"
    )


def _configured() -> str | None:
    """The back end that the user's configuration file of Keras names."""
    folder = os.environ.get("KERAS_HOME") or os.path.join(os.path.expanduser("~"), ".keras")
    try:
        named = json.loads((Path(folder) / "keras.json").read_text(encoding="utf-8")).get("backend")
    except (OSError, ValueError, AttributeError):
        return None
    return named if isinstance(named, str) else None


def _is_installed(name: str | None) -> bool:
    return name in BACKENDS and importlib.util.find_spec(name) is not None
