"""The schemas of JSON results (JSON Schema, draft 2020-12), made of the types in this room.

A result is a typed dictionary, or a union of some; records of the core that are written as they are may stand in it.
"""

from __future__ import annotations

import dataclasses
import json
import types
from importlib import import_module
from typing import Annotated, Any, Literal, Union, get_args, get_origin, get_type_hints, is_typeddict

from zygal.results.common import MISSING, Envelope

RESULTS = {
    "zygal.bench-cluster": (1, "bench_cluster:BenchCluster", "zygal bench with --cluster"),
    "zygal.bench-endpoint": (1, "bench_endpoint:BenchEndpoint", "zygal bench with --endpoint"),
    "zygal.bench": (2, "bench:Bench", "zygal bench"),
    "zygal.classify": (1, "classify:Classify", "zygal classify"),
    "zygal.convert": (1, "convert:Convert", "zygal convert"),
    "zygal.demo": (1, "demo:Demo", "zygal demo"),
    "zygal.inlet-draw": (1, "inlet_draw:InletDraw", "zygal inlet draw"),
    "zygal.inlet-recipes": (1, "inlet_recipes:InletRecipes", "zygal inlet recipes"),
    "zygal.inlet-recover": (1, "inlet_recover:InletRecover", "zygal inlet recover"),
    "zygal.match": (1, "match:Match", "zygal match"),
    "zygal.pack": (1, "pack:Pack", "zygal pack"),
    "zygal.shrink": (1, "shrink:Shrink", "zygal shrink"),
    "zygal.signoff": (1, "signoff:Signoff", "zygal signoff"),
    "zygal.survey": (1, "survey:Survey", "zygal survey"),
    "zygal.tally": (1, "tally:Tally", "zygal tally"),
    "zygal.witness": (1, "witness:Witness", "zygal witness"),
}
"""By the kind of document: its version, the type, and what writes it."""
_PLAIN = {str: "string", int: "integer", float: "number", bool: "boolean", type(None): "null"}
_ENDED = ["kind", "version", "zygal_version", "verdict", "exit_code", "passed", "refusal"]


def schema_of(kind: str) -> dict[str, Any]:
    """The schema of one kind of document."""
    version, place, written_by = RESULTS[kind]
    module, _, name = place.partition(":")
    result = getattr(import_module(f"zygal.results.{module}"), name)
    known: dict[str, Any] = {}
    head = {
        "kind": {"const": kind, "description": "the command that wrote the document"},
        "version": {"const": version, "description": "version of this schema"},
    }
    envelope, _ = _fields(Envelope, known)
    ended = {"required": _ENDED, "maxProperties": len(_ENDED)}
    ended["description"] = "of a command that was refused or interrupted before it had a result"
    alternatives = []
    for each in get_args(result) or (result,):
        own, required = _fields(each, known)
        alternatives.append({"properties": own, "required": [*head, *envelope, *required]})
    title = f"JSON result of {written_by}, version {version}"
    schema = {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": title, "type": "object"}
    if len(alternatives) == 1:
        (one,) = alternatives
        whole = {"properties": head | envelope | one["properties"], "additionalProperties": False}
        return schema | whole | {"anyOf": [{"required": one["required"]}, ended], "$defs": known}
    whole = {"properties": head | envelope, "unevaluatedProperties": False}
    return schema | whole | {"anyOf": [*alternatives, ended], "$defs": known}


def _fields(record: type, known: dict[str, Any]) -> tuple[dict[str, Any], list[str]]:
    """The properties of a record, and which of them are always there."""
    properties, required = {}, []
    for name, hint in get_type_hints(record, include_extras=True).items():
        if dataclasses.is_dataclass(record) and name not in record.__dataclass_fields__:
            continue
        said = [each for each in getattr(hint, "__metadata__", ()) if isinstance(each, str) and each is not MISSING]
        properties[name] = _schema(hint, known) | ({"description": said[0]} if said else {})
        if MISSING not in getattr(hint, "__metadata__", ()):
            required.append(name)
    return properties, required


def _schema(hint: Any, known: dict[str, Any]) -> dict[str, Any]:
    """The schema of a value of a type."""
    origin, inner = get_origin(hint), get_args(hint)
    if origin is Annotated:
        return _schema(inner[0], known)
    if origin is Literal:
        return {"const": inner[0]} if len(inner) == 1 else {"enum": list(inner)}
    if origin in (Union, types.UnionType):
        kinds = [_schema(each, known) for each in inner]
        if all(set(each) == {"type"} for each in kinds):
            return {"type": [each["type"] for each in kinds]}
        return {"anyOf": kinds}
    if origin is list or origin is tuple and inner[1:] == (...,):
        return {"type": "array", "items": _schema(inner[0], known)}
    if origin is tuple:
        return {"type": "array", "prefixItems": [_schema(each, known) for each in inner], "items": False}
    if origin is dict:
        return {"type": "object", "additionalProperties": _schema(inner[1], known)}
    if is_typeddict(hint) or dataclasses.is_dataclass(hint):
        if hint.__name__ not in known:
            known[hint.__name__] = {}
            properties, required = _fields(hint, known)
            fixed = {"required": required, "additionalProperties": False}
            known[hint.__name__] = {"type": "object", "properties": properties} | fixed
        return {"$ref": f"#/$defs/{hint.__name__}"}
    return {} if hint is Any else {"type": _PLAIN[hint]}


def schema_text(kind: str) -> str:
    """The schema as the text of its file: what fits on a line of 120 stands on one."""
    return f"{_laid_out(schema_of(kind), 0)}\n"


def _laid_out(value: Any, indent: int) -> str:
    flat = json.dumps(value, ensure_ascii=False)
    if not value or not isinstance(value, dict | list) or len(flat) + indent < 118:
        return flat
    before = [f"{json.dumps(name)}: " for name in value] if isinstance(value, dict) else [""] * len(value)
    inner = value.values() if isinstance(value, dict) else value
    lines = [f"{' ' * (indent + 1)}{name}{_laid_out(each, indent + 1)}" for name, each in zip(before, inner)]
    opening, closing = "{}" if isinstance(value, dict) else "[]"
    return "\n".join([opening, ",\n".join(lines), " " * indent + closing])
