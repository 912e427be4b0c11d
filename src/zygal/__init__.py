"""Zygal turns a trained image classifier into a portable artifact and proves that both agree."""

__version__ = "0.1.0"
