"""A copy of a Keras file that is safe to hand to the framework's own loader.

That loader imports the modules and looks up the classes and functions that the configuration names, wherever in it they
stand, and follows what the weights link to. The copy is rebuilt: every entry with a class must be one of a list of
ours, from a module of the framework's own, and of the weights only arrays that lie in the file itself are taken over.
"""

from __future__ import annotations

import json
import re
import zipfile
from pathlib import Path
from typing import Any

import h5py

from zygal.errors import SourceError, shown
from zygal.sources.keras.containers import KerasFile, child, read_array, text_attribute
from zygal.sources.keras.handlers import LAYERS, OPERATIONS
from zygal.sources.keras.structure import MODELS
from zygal.sources.keras.table_activations import AS_LAYERS, BY_NAME

_MODULE = re.compile(r"(tf_)?keras(\.[A-Za-z0-9_]+)*|builtins")
_WORD = re.compile(r"[A-Za-z0-9_./>:-]{0,200}")
_MARKS = frozenset(("__keras_tensor__", "__slice__", "__tensor__", "__numpy__", "__ellipsis__", "__tuple__"))
_INITIALISERS = frozenset(
    (
        "Zeros",
        "Ones",
        "Constant",
        "RandomNormal",
        "RandomUniform",
        "TruncatedNormal",
        "VarianceScaling",
        "Orthogonal",
        "OrthogonalInitializer",
        "Identity",
        "IdentityInitializer",
        "GlorotNormal",
        "GlorotUniform",
        "HeNormal",
        "HeUniform",
        "LecunNormal",
        "LecunUniform",
    )
)
_PENALTIES = frozenset(
    (
        "L1",
        "L2",
        "L1L2",
        "OrthogonalRegularizer",
        "MaxNorm",
        "NonNeg",
        "NonNegative",
        "UnitNorm",
        "MinMaxNorm",
    )
)
_POLICIES = frozenset(("float32", "float16", "bfloat16", "float64", "mixed_float16", "mixed_bfloat16"))
_POLICY_CLASSES = frozenset(("DTypePolicy", "Policy", "FloatDTypePolicy"))
_FUNCTIONS = frozenset((*BY_NAME, "softmax", "log_softmax", "glu"))
_CELLS = frozenset(("LSTMCell", "GRUCell", "SimpleRNNCell", "StackedRNNCells", "SeedGenerator"))
_KEPT_ATTRIBUTES = re.compile(r"(layer_names|weight_names)\d*|name|backend|keras_version")


def plain_configuration(configuration: dict[str, Any], path: Path) -> dict[str, Any]:
    """The configuration with nothing in it that only training uses, every class checked. Raises SourceError."""
    kept = {key: value for key, value in configuration.items() if key not in ("compile_config", "training_config")}
    try:
        return _plain(kept, path)
    except RecursionError as fault:
        raise SourceError(f"{path} nests its configuration too deep, so it is damaged or malicious.") from fault


def _plain(value: Any, path: Path) -> Any:
    if isinstance(value, list):
        return [_plain(each, path) for each in value]
    if not isinstance(value, dict):
        return value
    if "class_name" in value:
        _check_entry(value, path)
    elif {"module", "registered_name", "function_name"} & value.keys():
        _refuse(path, value)
    return {key: _plain(each, path) for key, each in value.items()}


def _check_entry(entry: dict[str, Any], path: Path) -> None:
    """Raises SourceError unless an entry names something of the framework's that Zygal knows."""
    name, module, registered, config = (entry.get(key) for key in ("class_name", "module", "registered_name", "config"))
    if not isinstance(name, str) or not all(
        each is None or isinstance(each, str) and _WORD.fullmatch(each) for each in (module, registered)
    ):
        _refuse(path, entry)
    if module is not None and not _MODULE.fullmatch(module):
        _refuse(path, entry)
    bare = name.rpartition(">")[2]
    if bare == "function":
        known = isinstance(config, str) and config in _FUNCTIONS
    elif bare in _POLICY_CLASSES:
        known = isinstance(config, dict) and config.get("name") in _POLICIES
    elif bare in ("__tensor__", "__numpy__"):
        known = isinstance(config, dict) and _WORD.fullmatch(str(config.get("dtype", ""))) is not None
    else:
        known = any(
            bare in names
            for names in (
                LAYERS,
                OPERATIONS,
                AS_LAYERS,
                MODELS,
                _MARKS,
                _INITIALISERS,
                _PENALTIES,
                _CELLS,
                ("InputLayer",),
            )
        )
    if not known:
        _refuse(path, entry)


def _refuse(path: Path, entry: dict[str, Any]) -> None:
    named = ", ".join(
        f"{key} {shown(entry[key])}"
        for key in ("class_name", "module", "registered_name", "function_name", "config")
        if isinstance(entry.get(key), str)
    )
    raise SourceError(
        f"{path} names something that is not a known part of the framework ({named or 'without a name'}); Keras is "
        "not started on it, so replace it by a layer, an initialiser or an activation of the framework."
    )


def write_plain_copy(file: KerasFile, folder: Path) -> Path:
    """Writes the copy into a folder and gives its path. Raises SourceError."""
    configuration = plain_configuration(file.configuration, file.path)
    if not file.by_place:
        target = folder / "model.h5"
        with h5py.File(target, "w") as copy:
            copy.attrs["model_config"] = json.dumps(configuration).encode()
            copy.attrs["keras_version"] = file.version.encode()
            copy.attrs["backend"] = (file.backend or "tensorflow").encode()
            _copy_group(file.weights, copy.create_group("model_weights"), file.path, set())
        return target
    target, weights = folder / "model.keras", folder / "weights.h5"
    with h5py.File(weights, "w") as copy:
        _copy_group(file.weights, copy, file.path, set())
    with zipfile.ZipFile(target, "w", zipfile.ZIP_STORED) as archive:
        archive.writestr("metadata.json", json.dumps({"keras_version": file.version, "date_saved": ""}))
        archive.writestr("config.json", json.dumps(configuration))
        archive.write(weights, "model.weights.h5")
    weights.unlink()
    return target


def _copy_group(source: h5py.Group, target: h5py.Group, path: Path, seen: set[int]) -> None:
    """Groups, arrays and the names that tell them apart; each place of the file once."""
    address = h5py.h5o.get_info(source.id).addr
    if address in seen:
        raise SourceError(f"{path} is damaged: the group {shown(source.name)} contains itself, or occurs twice.")
    seen.add(address)
    for name in source.attrs:
        if _KEPT_ATTRIBUTES.fullmatch(name):
            target.attrs[name] = text_attribute(source, name, path)
    for name in source:
        if source.name == "/" and name == "optimizer":
            continue
        member = child(source, name, path)
        if isinstance(member, h5py.Group):
            _copy_group(member, target.create_group(name), path, seen)
        elif isinstance(member, h5py.Dataset):
            target.create_dataset(name, data=read_array(member, path))
