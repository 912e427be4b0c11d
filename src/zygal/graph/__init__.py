"""The model as data: values, nodes and constants, free of any framework or file format."""

from zygal.graph.build import GraphBuilder
from zygal.graph.model import Graph, Node
from zygal.graph.shapes import Batch, Dimension, Shape, TensorType

__all__ = ["Batch", "Dimension", "Graph", "GraphBuilder", "Node", "Shape", "TensorType"]
