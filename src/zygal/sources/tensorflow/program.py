"""Opening the files of TensorFlow: folders of saved models, frozen graphs, web models."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from zygal.errors import SourceError, first_line, some_of
from zygal.files.opening import read_bytes
from zygal.sources.tensorflow.graph_file import GraphFile, Signature, functions_by_name, nodes_by_name
from zygal.sources.tensorflow.messages import message

LARGEST_MESSAGE_BYTES = (1 << 31) - 1


def open_graph(path: str | Path) -> GraphFile:
    """Raises FileError or SourceError."""
    path = Path(path)
    if path.is_dir():
        return _open_folder(path)
    content = read_bytes(path, "a graph", LARGEST_MESSAGE_BYTES)
    if content.lstrip()[:1] == b"{":
        from zygal.sources.tensorflow.web import read_web_graph

        return read_web_graph(path)
    if path.name in ("saved_model.pb", "saved_model.pbtxt"):
        return _open_folder(path.parent or Path("."))
    if content[:3] == b"\x08\x01\x12" or content.lstrip().startswith(b"saved_model_schema_version:"):
        raise SourceError(
            f"{path} is the graph of a saved-model folder; give the folder, or name the file saved_model.pb "
            f"beside its variables."
        )
    graph = _parsed("GraphDef", content, path)
    del content
    return GraphFile(path, nodes_by_name(graph.node, path), functions_by_name(graph, path), version=_producer(graph))


def _open_folder(path: Path) -> GraphFile:
    name = next((each for each in ("saved_model.pb", "saved_model.pbtxt") if (path / each).is_file()), None)
    if name is None:
        raise SourceError(
            f"{path} holds no saved_model.pb, so it has variables but no graph; copy the whole folder again."
        )
    saved = _parsed("SavedModel", read_bytes(path / name, "a saved model", LARGEST_MESSAGE_BYTES), path / name)
    if not saved.meta_graphs:
        raise SourceError(f"{path / name} holds no graph; copy the whole folder again.")
    tag_sets = tuple(tuple(sorted(each.meta_info_def.tags)) for each in saved.meta_graphs)
    meta = saved.meta_graphs[_chosen_tags(path, tag_sets)]
    graph, tags = meta.graph_def, tuple(sorted(meta.meta_info_def.tags))
    functions = functions_by_name(graph, path)
    prefix = path / "variables" / "variables"
    return GraphFile(
        path=path,
        nodes=nodes_by_name(graph.node, path),
        functions=functions,
        meta=meta,
        variables=prefix if os.path.isdir(prefix.parent) else None,
        version=meta.meta_info_def.tensorflow_version or "unknown",
        tag_sets=tag_sets,
        signatures=(*_signatures(meta, tags), *_function_signatures(meta, functions, tags)),
        file_format="saved-model folder",
    )


def _chosen_tags(path: Path, tag_sets: tuple[tuple[str, ...], ...]) -> int:
    """The meta graph for serving, or the only one. Raises SourceError if it is not clear which."""
    if len(tag_sets) == 1:
        return 0
    serving = [place for place, tags in enumerate(tag_sets) if tags == ("serve",)]
    serving = serving or [place for place, tags in enumerate(tag_sets) if "serve" in tags]
    # Modules for reuse have a graph for training, and one without any tag.
    serving = serving or [place for place, tags in enumerate(tag_sets) if "train" not in tags]
    if len(serving) == 1:
        return serving[0]
    listed = "; ".join(",".join(tags) or "no tag" for tags in tag_sets)
    raise SourceError(
        f"{path} holds {len(tag_sets)} graphs ({listed}), of which {'none is' if not serving else 'several are'} for "
        "serving; save the one to convert with the tag serve alone."
    )


def _parsed(name: str, content: bytes, path: Path) -> Any:
    """A message, in its binary or its text form. Raises SourceError."""
    made = message(name)()
    as_text = (
        content[:64]
        .lstrip()
        .startswith((b"node {", b"node{", b"saved_model_schema_version:", b"meta_graphs", b"versions"))
    )
    try:
        if as_text:
            from google.protobuf import text_format

            text_format.Parse(content.decode(), made, allow_unknown_field=True)
        else:
            made.ParseFromString(content)
    except Exception as fault:  # The runtime's exceptions have no class that all releases share.
        raise SourceError(
            f"{path} is damaged or was cut off: it is not a message of the schema ({first_line(fault)}); copy it again."
        ) from fault
    return made


def _producer(graph: Any) -> str:
    return f"graph version {graph.versions.producer}" if graph.versions.producer else "of unknown version"


def _signatures(meta: Any, tags: tuple[str, ...]) -> tuple[Signature, ...]:
    made = []
    for name in sorted(meta.signature_def):
        if name == "__saved_model_init_op":
            continue
        described = meta.signature_def[name]
        inputs, outputs = (
            {key: (infos[key].name, infos[key].dtype, infos[key].tensor_shape) for key in sorted(infos)}
            for infos in (described.inputs, described.outputs)
        )
        made.append(Signature(name, tags, described.method_name, inputs, outputs))
    return tuple(made)


def _function_signatures(meta: Any, functions: dict[str, Any], tags: tuple[str, ...]) -> tuple[Signature, ...]:
    """The functions of a folder that was saved without signatures: those that the root object calls its own."""
    if any(name != "__saved_model_init_op" for name in meta.signature_def) or not meta.object_graph_def.nodes:
        return ()
    objects, made = meta.object_graph_def, []
    for child in objects.nodes[0].children:
        if not 0 <= child.node_id < len(objects.nodes):
            continue
        for number, concrete in enumerate(objects.nodes[child.node_id].function.concrete_functions):
            function = functions.get(concrete)
            if function is None:
                continue
            captured = tuple(objects.concrete_functions[concrete].bound_inputs)
            own = function.signature.input_arg[: len(function.signature.input_arg) - len(captured)]
            suffix = f".{number + 1}" if number else ""
            shapes = {each.name: _argument_shape(function, place) for place, each in enumerate(own)}
            made.append(
                Signature(
                    f"{child.local_name}{suffix}",
                    tags,
                    "function",
                    {each.name: (each.name, each.type, shapes[each.name]) for each in own},
                    {each.name: (each.name, each.type, None) for each in function.signature.output_arg},
                    concrete,
                    captured,
                )
            )
    return tuple(made)


def _argument_shape(function: Any, place: int) -> Any | None:
    attributes = function.arg_attr[place].attr if place in function.arg_attr else {}
    if "_user_specified_name" in attributes or "_output_shapes" in attributes:
        listed = attributes["_output_shapes"].list.shape if "_output_shapes" in attributes else ()
        return listed[0] if len(listed) else None
    return None


def chosen_signature(file: GraphFile, named: str | None) -> Signature | None:
    """The signature of that name, else the one for serving, else the only one; None for a graph without signatures.
    Raises SourceError."""
    names = [each.name for each in file.signatures]
    if named is not None:
        if named not in names:
            have = f"it has {some_of(names, 8)}" if names else "it has none"
            raise SourceError(f"{file.path} has no signature {named}; {have}.")
        return file.signatures[names.index(named)]
    if not names:
        return None
    usual = ("serving_default", "predict", "serve", "default", "call", "__call__")
    for name in usual:
        if name in names:
            return file.signatures[names.index(name)]
    if len(names) == 1:
        return file.signatures[0]
    raise SourceError(f"{file.path} has several signatures ({some_of(names, 8)}); choose one with --signature NAME.")
