"""Names of values and layers, by those of tensors: operators that were joined list several, apart by semicolons."""


def stem_of(name: str) -> str:
    """The name of a layer, of a tensor's name that joins several."""
    return name.partition(";")[0] or name


def layer_of(name: str) -> str:
    """The layer of the training code that a tensor's name tells."""
    first = stem_of(name)
    return first.rpartition("/")[0] or first
