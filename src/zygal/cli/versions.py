"""Versions of Zygal and of everything that can change a result."""

from __future__ import annotations

import platform
from collections.abc import Iterator
from importlib.metadata import PackageNotFoundError, version

from zygal import __version__

LIBRARIES = ("onnxruntime", "onnx", "numpy", "pillow", "h5py", "torch", "keras", "jax", "pyarrow")


def versions() -> Iterator[str]:
    """One line each: Zygal, Python, then the libraries."""
    yield f"zygal {__version__}"
    yield f"python {platform.python_version()} on {platform.system()} {platform.machine()}"
    for name in LIBRARIES:
        try:
            yield f"{name} {version(name)}"
        except PackageNotFoundError:
            yield f"{name} (not installed)"
