"""Versions of Zygal and of everything that can change a result."""

from __future__ import annotations

import platform
from collections.abc import Iterator

from zygal import __version__
from zygal.machine.libraries import installed_version

LIBRARIES = ("onnxruntime", "onnx", "numpy", "pillow", "h5py", "torch", "keras", "jax", "pyarrow")


def versions() -> Iterator[str]:
    """One line each: Zygal, Python, then the libraries."""
    yield f"zygal {__version__}"
    yield f"python {platform.python_version()} on {platform.system()} {platform.machine()}"
    for name in LIBRARIES:
        yield f"{name} {installed_version(name) or '(not installed)'}"
