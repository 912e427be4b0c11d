"""Trained models' files to graphs. Every source family comes in through `read_source`."""

from zygal.sources.reader import read_source, source_facts
from zygal.sources.source import Source, SourceFacts

__all__ = ["Source", "SourceFacts", "read_source", "source_facts"]
