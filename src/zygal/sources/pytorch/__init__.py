"""Captured PyTorch programs (.pt2), read without the framework."""

from zygal.sources.pytorch.archive import ProgramArchive, open_program
from zygal.sources.pytorch.program import Program, read_program
from zygal.sources.pytorch.translate import translate

__all__ = ["Program", "ProgramArchive", "open_program", "read_program", "translate"]
