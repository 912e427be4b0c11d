"""What releases of the framework wrote into captured programs, brought into the form of today.

The framework numbers the schema of the graph: 1 (release 2.1), 2 (2.2), 5 (2.3 and 2.4), 7 (2.5), 8 (since 2.6). What
differs: an argument was once a record of all alternatives, null but one; nothing as an argument was an empty list; the
signature said by tables which input is which; sizes were formulas as they are printed. Only what is known is changed:
everything else is left for the schema to refuse.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from zygal.errors import SourceError, shown

RELEASES = {1: "2.1", 2: "2.2", 5: "2.3 or 2.4", 7: "2.5", 8: "2.6 or newer"}
"""The releases by the schema's major number."""
_ALTERNATIVES = frozenset(("user_input", "parameter", "buffer", "tensor_constant", "custom_obj", "user_output"))
_LEFT_EMPTY = ("custom_obj_values", "constants", "equality_constraints", "example_inputs")
"""What older programs have room for and classifiers do not need: dropped where it is empty."""


def schema_number(document: dict, where: str) -> tuple[int, int]:
    """The schema's major and minor number. Raises SourceError if none of ours is known."""
    version = document.get("schema_version")
    if isinstance(version, dict):
        major, minor = version.get("major"), version.get("minor", 0)
    else:
        major, minor = version, 0
    if type(major) is not int or major not in RELEASES or type(minor) is not int:
        writer = shown(document.get("torch_version") or "an unknown release").strip("'")
        known = ", ".join(map(str, RELEASES))
        raise SourceError(
            f"{where} was written by PyTorch {writer} in schema {shown(major)}, but schemas {known} (PyTorch 2.1 to "
            "2.14) are what this release reads; capture the model again in one of those."
        )
    return major, minor


def release_of(document: dict, major: int) -> str:
    """The framework's release, as exactly as the program says it."""
    return str(document.get("torch_version") or RELEASES[major])


def in_todays_form(document: dict, major: int, minor: int) -> dict:
    """The document in the form of schema 8. Raises SourceError, TypeError, KeyError or ValueError where it is
    damaged."""
    if major >= 8:
        return _without_empty(document)
    document = _without_empty(_walked(document, _plain_argument))
    document["schema_version"] = {"major": major, "minor": minor}
    document.pop("dialect", None)
    for bounds in document["range_constraints"].values():
        for key, value in bounds.items():
            if type(value) is float:  # Without a bound.
                bounds[key] = None
    module = document["graph_module"]
    if major == 1:
        _from_tables(module)
    return document


def _without_empty(document: dict) -> dict:
    """Without the places for what a classifier does not have, where nothing stands in them."""
    graph = document["graph_module"]["graph"]
    for holder in (document, graph):
        for key in _LEFT_EMPTY:
            if key in holder and not holder[key]:
                del holder[key]
    return document


def _walked(value: Any, change: Callable[[dict], Any]) -> Any:
    if isinstance(value, dict):
        return change({key: _walked(each, change) for key, each in value.items()})
    return [_walked(each, change) for each in value] if isinstance(value, list) else value


def _plain_argument(record: dict) -> Any:
    """A record of alternatives without the ones that are null."""
    if record and all(key.startswith("as_") for key in record) or record.keys() & _ALTERNATIVES:
        record = {key: each for key, each in record.items() if each is not None}
        return {key: True if key == "as_none" and each == [] else each for key, each in record.items()}
    if "storage_offset" in record and type(record["storage_offset"]) is int:
        record["storage_offset"] = {"as_int": record["storage_offset"]}
    if "buffer_name" in record and "arg" in record:
        return {"persistent": True, **record}  # Before schema 3 only such buffers were told.
    if record.keys() == {"fqn", "signature"} and record["signature"] is None:
        return {"fqn": record["fqn"]}
    return record


def _from_tables(module: dict) -> None:
    """The signature of schema 1: which input is a parameter, which a buffer, stood in tables."""
    graph, tables = module["graph"], module["signature"]
    graph["tensor_values"] = {name: value["meta"] for name, value in graph["tensor_values"].items()}
    if tables["buffers_to_mutate"]:
        raise SourceError("it keeps numbers from one image to the next; capture the model after module.eval()")
    parameters, buffers = tables["inputs_to_parameters"], tables["inputs_to_buffers"]
    specs = []
    for argument in graph["inputs"]:
        name = argument["as_tensor"]["name"]
        if name in parameters:
            specs.append({"parameter": {"arg": {"name": name}, "parameter_name": parameters[name]}})
        elif name in buffers:
            specs.append({"buffer": {"arg": {"name": name}, "buffer_name": buffers[name], "persistent": True}})
        else:
            specs.append({"user_input": {"arg": argument}})
    outputs = [{"user_output": {"arg": argument}} for argument in graph["outputs"]]
    module["signature"] = {"input_specs": specs, "output_specs": outputs}
    called = module.pop("call_spec")
    signature = {"inputs": [], "outputs": [], **called}
    module["module_call_graph"] = [{"fqn": "", "signature": signature}]
