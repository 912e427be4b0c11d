"""Inlets from the configuration files of public collections of models: what a library does with an image, read from
its open JSON files without the library."""

from zygal.inlet.configured.read import Configured, is_configuration, notes_on, read_configured

__all__ = ["Configured", "is_configuration", "notes_on", "read_configured"]
