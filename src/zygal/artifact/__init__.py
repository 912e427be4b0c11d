"""The artifact: a graph as an ONNX file that explains itself, and back."""

from zygal.artifact.graph import artifact_graph
from zygal.artifact.metadata import Metadata, Origin
from zygal.artifact.read import Artifact, read_artifact
from zygal.artifact.write import write_artifact

__all__ = ["Artifact", "Metadata", "Origin", "artifact_graph", "read_artifact", "write_artifact"]
