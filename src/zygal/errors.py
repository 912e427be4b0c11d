"""Every fault that Zygal reports on purpose.

A message is one sentence for the person who must act on it: what is wrong, where, what to do.
The command line prints it and ends with exit code 2; a caller of the library catches `ZygalError`.
"""


def some_of(names: list[str], most: int = 3) -> str:
    """The first few of many names, in words."""
    distinct = list(dict.fromkeys(names))
    rest = len(distinct) - most
    return ", ".join(distinct[:most]) + (f" and {rest} more" if rest > 0 else "")


class ZygalError(Exception):
    """The input or the call is at fault."""


class FileError(ZygalError):
    """A file or folder cannot be read, or is not what it was taken for."""


class OutputError(ZygalError):
    """An output file cannot be written."""


class SourceError(ZygalError):
    """A trained model's file is damaged, of an unsupported version, or cannot be converted."""


class UnknownOperators(SourceError):
    """The source uses operators, or classes of layers, that Zygal does not know; all of them are named at once.

    `layers` maps each unknown operator to the layers of the training code that use it. `what` and `again` are
    the words of the source's family: what they are called, and how a changed model is handed over again.
    """

    def __init__(self, where: str, layers: dict[str, list[str]], what: str = "operator", again: str = "capture"):
        self.layers = layers
        listed = "; ".join(f"{name} ({some_of(users)})" for name, users in sorted(layers.items()))
        count = sum(len(users) for users in layers.values())
        super().__init__(
            f"{where} uses {len(layers)} unknown {what}{'s' * (len(layers) != 1)} in {count} "
            f"place{'s' * (count != 1)}: {listed}; express those layers by other {what}s and {again} again."
        )


class GraphError(ZygalError):
    """A graph breaks a rule: a missing value, shapes that do not fit, an operator misused."""


class ArtifactError(ZygalError):
    """An ONNX file is damaged, or does something that an image classifier does not do."""


class InletError(ZygalError):
    """An inlet has unknown or contradictory keys, or does not fit the model."""


class ImageError(ZygalError):
    """An image file cannot be decoded, or cannot pass the inlet."""


class LabelsError(ZygalError):
    """A labels file cannot be understood, or does not fit the model's outputs."""


class WitnessError(ZygalError):
    """A witness is damaged, or does not belong to the images or the model it is held against."""


class EngineError(ZygalError):
    """A model cannot be run, or a framework that is needed is not installed."""


class BenchError(ZygalError):
    """A benchmark was asked for that makes no sense on this artifact or machine."""
