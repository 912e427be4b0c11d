"""Trained models' files to graphs. Every source family comes in through `read_source`."""

from zygal.sources.source import Source, SourceFacts, read_source, source_facts

__all__ = ["Source", "SourceFacts", "read_source", "source_facts"]
