"""Keras models, read from their own files: the .keras archive and whole-model HDF5 of every age."""

from zygal.sources.keras.containers import KerasFile, open_keras
from zygal.sources.keras.structure import read_structure
from zygal.sources.keras.translate import translate

__all__ = ["KerasFile", "open_keras", "read_structure", "translate"]
