"""Which stored array is which variable of which layer, in either container."""

from __future__ import annotations

import re
from collections.abc import Iterator

import h5py
import numpy as np

from zygal.errors import SourceError
from zygal.sources.keras.containers import KerasFile, child, names_in, read_array, text_attribute
from zygal.sources.keras.keras1 import kernel_of_age
from zygal.sources.keras.structure import Layer, Model
from zygal.sources.keras.variables import VARIABLES, Variable

NamePath = tuple[str, ...]
"""The names of the layers that lead to a layer, from the outermost model inwards."""


class Weights:
    """The arrays of every layer of a file, found when they are asked for. `widths`: the dtypes of those that were."""

    def __init__(self, file: KerasFile, model: Model):
        self._file, self._groups, self._arrays, self.widths = file, {}, {}, set()
        if file.by_place:
            self._place(model, (), file.weights)
        else:
            self._name(model)

    def of(self, path_of_names: NamePath, layer: Layer) -> dict[tuple[str, str], np.ndarray]:
        """The layer's arrays by (part, name) of its variables. Raises SourceError naming the layer."""
        variables = VARIABLES.get(layer.class_name, lambda _: [])(layer.config)
        if not variables:
            return {}
        found = self._arrays.get(path_of_names) or list(self._by_place(path_of_names, variables))
        if len(found) != len(variables):
            raise SourceError(
                f"{self._file.path} does not fit its configuration: layer {layer.name} ({layer.class_name}) needs "
                f"{len(variables)} arrays and has {len(found)}; save the model again."
            )
        arrays = {(each.part, each.name): self._widened(dataset) for each, dataset in zip(variables, found)}
        if not self._file.by_place and ("", "kernel") in arrays:
            arrays["", "kernel"] = kernel_of_age(arrays["", "kernel"], layer, self._file.version, self._file.backend)
        return arrays

    def trained(self, model: Model, path_of_names: NamePath = ()) -> int:
        """How many numbers training changed, in a model and those inside it."""
        count = 0
        for layer in model.layers.values():
            if layer.model is not None:
                count += self.trained(layer.model, (*path_of_names, layer.name))
                continue
            variables = VARIABLES.get(layer.class_name, lambda _: [])(layer.config)
            arrays = self.of((*path_of_names, layer.name), layer)
            count += sum(arrays[each.part, each.name].size for each in variables if each.trained)
        return count

    def stored(self) -> list[h5py.Dataset]:
        """All arrays but the optimiser's."""
        found: list[h5py.Dataset] = []

        def note(name: str, item) -> None:
            if isinstance(item, h5py.Dataset) and not name.startswith("optimizer"):
                found.append(item)

        self._file.weights.visititems(note)
        return found

    def _widened(self, dataset: h5py.Dataset) -> np.ndarray:
        array = read_array(dataset, self._file.path)
        if array.dtype.kind == "f":
            self.widths.add(array.dtype.name)
        return array if array.dtype == np.float32 or array.dtype.kind != "f" else array.astype(np.float32)

    # The .keras archive: groups named after classes, numbered in the order of the layers of each container.

    def _place(self, model: Model, path_of_names: NamePath, group: h5py.Group) -> None:
        container, used = child(group, "layers", self._file.path), {}
        if not isinstance(container, h5py.Group):
            return
        named = dict(self._by_kept_name(container))
        for layer in model.layers.values():
            if layer.is_operation or layer.name == "/input":
                continue
            if layer.class_name == "InputLayer" and model.class_name == "Sequential":
                continue
            stem = _snake_case(_CLASS_OF.get(layer.class_name, layer.class_name))
            number = used[stem] = used.get(stem, -1) + 1
            index = named.get(layer.name) or (f"{stem}_{number}" if number else stem)
            member = child(container, index, self._file.path)
            if isinstance(member, h5py.Group):
                self._groups[(*path_of_names, layer.name)] = member
                if layer.model is not None:
                    self._place(layer.model, (*path_of_names, layer.name), member)

    def _by_kept_name(self, container: h5py.Group) -> Iterator[tuple[str, str]]:
        """Layer names to groups, where the archive keeps the names."""
        for name in container:
            variables = child(container, f"{name}/vars", self._file.path)
            if isinstance(variables, h5py.Group) and "name" in variables.attrs:
                kept = text_attribute(variables, "name", self._file.path)
                if isinstance(kept, str):
                    yield kept, name

    def _by_place(self, path_of_names: NamePath, variables: list[Variable]) -> Iterator[h5py.Dataset]:
        group, counts = self._groups.get(path_of_names), {}
        if group is None:
            return
        for variable in variables:
            number = counts[variable.part] = counts.get(variable.part, -1) + 1
            # Releases differ in whether they keep the part under a private name.
            for part in (variable.part, f"_{variable.part}"):
                dataset = child(group, f"{part}/vars/{number}".strip("/"), self._file.path)
                if isinstance(dataset, h5py.Dataset):
                    yield dataset
                    break

    # The HDF5 file: a group for each layer of the outermost model, and the names of its arrays in order.

    def _name(self, model: Model) -> None:
        for layer in model.layers.values():
            group = child(self._file.weights, layer.name, self._file.path)
            if not isinstance(group, h5py.Group):
                continue
            names = names_in(group, "weight_names", self._file.path)
            stored = [(name, child(group, name, self._file.path)) for name in names]
            if any(not isinstance(dataset, h5py.Dataset) for _, dataset in stored):
                raise SourceError(f"{self._file.path} is damaged: arrays of layer {layer.name} are missing from it.")
            if layer.model is None:
                self._arrays[(layer.name,)] = _in_order(layer, stored)
            else:
                self._share_out(layer, stored)

    def _share_out(self, nested: Layer, stored: list[tuple[str, h5py.Dataset]]) -> None:
        """The arrays of a model used as a layer: one list, in which what training changes may come first."""
        owners = list(_variables_inside(nested.model, (nested.name,), nested.trainable))
        if len(owners) != len(stored):
            raise SourceError(
                f"{self._file.path} does not fit its configuration: the model {nested.name} needs {len(owners)} arrays "
                f"and has {len(stored)}; save the model again."
            )
        by_layer = [(path_of_names, variable) for path_of_names, variable, _ in owners]
        trained_first = [(path_of_names, variable) for path_of_names, variable, trained in owners if trained]
        trained_first += [(path_of_names, variable) for path_of_names, variable, trained in owners if not trained]
        for order in (_by_both_names(by_layer, stored), trained_first, by_layer):
            if order and all(_means(name, variable) for (name, _), (_, variable) in zip(stored, order)):
                break
        else:
            raise SourceError(
                f"{self._file.path} names the arrays of the model {nested.name} in an order that fits none of its "
                "layers; save the model again with a newer Keras."
            )
        indices = {owner: dataset for owner, (_, dataset) in zip(order, stored)}
        for path_of_names, variable in by_layer:
            self._arrays.setdefault(path_of_names, []).append(indices[path_of_names, variable])


def _variables_inside(
    model: Model, path_of_names: NamePath, trainable: bool
) -> Iterator[tuple[NamePath, Variable, bool]]:
    for layer in model.layers.values():
        active = trainable and model.trainable and layer.trainable
        if layer.model is not None:
            yield from _variables_inside(layer.model, (*path_of_names, layer.name), active)
            continue
        for variable in VARIABLES.get(layer.class_name, lambda _: [])(layer.config):
            yield (*path_of_names, layer.name), variable, active and variable.trained


def _by_both_names(owners, stored):
    """The owners in the order of the stored names, if each name tells its layer and its variable."""
    indices = {}
    for path_of_names, variable in owners:
        fitting = [name for name, _ in stored if path_of_names[-1] in _parts(name)[:-1] and _means(name, variable)]
        if variable.part:
            fitting = [name for name in fitting if variable.part.split("/")[0].split("_")[0] in name]
        if len(fitting) != 1 or fitting[0] in indices:
            return None
        indices[fitting[0]] = (path_of_names, variable)
    return [indices[name] for name, _ in stored]


def _in_order(layer: Layer, stored: list[tuple[str, h5py.Dataset]]) -> list[h5py.Dataset]:
    """A layer's arrays in the order of its variables: by their names where those tell, else as they lie."""
    variables = VARIABLES.get(layer.class_name, lambda _: [])(layer.config)
    if len({each.name for each in variables}) == len(variables):
        found = [[dataset for name, dataset in stored if _means(name, each)] for each in variables]
        if all(len(fitting) == 1 for fitting in found):
            return [fitting[0] for fitting in found]
    return [dataset for _, dataset in stored]


_OTHER_NAMES = {
    "kernel": ("W", "depthwise_kernel"),
    "bias": ("b",),
    "moving_mean": ("running_mean",),
    "moving_variance": ("running_std", "running_var", "moving_var"),
    "alpha": ("alphas",),
    "scale": ("attention_v",),
}


def _parts(name: str) -> list[str]:
    return name.partition(":")[0].split("/")


def _means(name: str, variable: Variable) -> bool:
    """Whether a stored name is that of a variable, as one of the ages spelled it."""
    last = _parts(name)[-1]
    spellings = (variable.name, *_OTHER_NAMES.get(variable.name, ()))
    return any(re.fullmatch(rf"(.*_)?{spelling}(_\d+)?", last) and _no_other(last, spelling) for spelling in spellings)


def _no_other(last: str, spelling: str) -> bool:
    """Whether the ending is not that of another variable whose name ends alike."""
    longer = ("recurrent_kernel", "depthwise_kernel", "pointwise_kernel")
    return not any(last.endswith(each) and spelling != each and len(each) > len(spelling) for each in longer)


_CLASS_OF = {"Model": "Functional", "GroupQueryAttention": "GroupedQueryAttention"}
"""Classes that the configuration calls by another name than the framework does."""


def _snake_case(name: str) -> str:
    """As the framework turns class names into names of groups."""
    name = re.sub(r"(.)([A-Z][a-z]+)", r"\1_\2", re.sub(r"\W+", "", name))
    return re.sub(r"([a-z])([A-Z])", r"\1_\2", name).lower()
