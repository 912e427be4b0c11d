"""Trained models' files to graphs. Every source family comes in through `read_source`; `families` lists them."""

from zygal.files.families import Reading
from zygal.sources.reader import read_source, source_facts
from zygal.sources.source import Source, SourceFacts

__all__ = ["Reading", "Source", "SourceFacts", "read_source", "source_facts"]
