"""A web model of a graph: the same nodes as JSON, the weights in shards beside it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from zygal.errors import SourceError, first_line
from zygal.files.web_weights import read_web_model
from zygal.sources.tensorflow.graph_file import GraphFile, Signature, functions_by_name, nodes_by_name
from zygal.sources.tensorflow.messages import message


def read_web_graph(path: Path) -> GraphFile:
    """Raises FileError or SourceError."""
    from google.protobuf import json_format

    web = read_web_model(path)
    graph = message("GraphDef")()
    try:
        json_format.ParseDict(web.topology, graph, ignore_unknown_fields=True, max_recursion_depth=50)
    except Exception as fault:  # The runtime's exceptions have no class that all releases share.
        raise SourceError(
            f"{path} does not follow its schema: its graph cannot be read ({first_line(fault)})."
        ) from fault
    version = str(web.document.get("generatedBy") or "of unknown version")
    return GraphFile(
        path,
        nodes_by_name(graph.node, path),
        functions_by_name(graph, path),
        version=version[:60],
        arrays=web.arrays,
        notes=web.notes,
        signatures=_signatures(web.document, path),
        file_format="web model of a graph",
    )


def _signatures(document: dict[str, Any], path: Path) -> tuple[Signature, ...]:
    """The one signature, if the file keeps it."""
    from google.protobuf import json_format

    stated = document.get("signature") or (document.get("userDefinedMetadata") or {}).get("signature")
    if not isinstance(stated, dict) or not stated.get("inputs") or not stated.get("outputs"):
        return ()
    described = message("SignatureDef")()
    try:
        json_format.ParseDict(stated, described, ignore_unknown_fields=True)
    except Exception as fault:
        raise SourceError(
            f"{path} does not follow its schema: its signature cannot be read ({first_line(fault)})."
        ) from fault
    inputs, outputs = (
        {key: (infos[key].name or key, infos[key].dtype, infos[key].tensor_shape) for key in sorted(infos)}
        for infos in (described.inputs, described.outputs)
    )
    return (Signature("signature", (), "", inputs, outputs),)
