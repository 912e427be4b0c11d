"""Inlets from the configuration files of public collections of models: what a library does with an image, read from
its open JSON files without the library."""

from zygal.inlet.configured.read import read_configured
from zygal.inlet.configured.settings import Configured

__all__ = ["Configured", "read_configured"]
