"""The artifact: a graph as a file that explains itself, and back; one folder for each format."""

from zygal.artifact.facts import Artifact
from zygal.artifact.formats import Writing, read_artifact, write_artifact
from zygal.classifier.metadata import Metadata, Origin

__all__ = ["Artifact", "Metadata", "Origin", "Writing", "read_artifact", "write_artifact"]
