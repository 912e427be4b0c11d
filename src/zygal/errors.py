"""The exceptions that Zygal raises on purpose.

A message is one sentence for the person who must act on it: what is wrong, where, what to do.
The command line prints it and ends with exit code 2; a caller of the library catches `ZygalError`.
"""

import re
from typing import Any

_COLOUR = re.compile(r"\x1b\[[0-9;]*m")
_USER = re.compile(r"([A-Za-z][A-Za-z0-9+.\-]*://)[^/\s'\"<>]*@")
_QUERY = re.compile(r"([A-Za-z][A-Za-z0-9+.\-]*://[^\s?'\"<>]*)\?([^\s'\"<>#]*)")
_SECRET = re.compile(
    r"(?i)sig|token|key|secret|pass|pwd|auth|cred|expire|policy|session|amz|goog"
    r"|^(se|sp|sr|sv|st|code|jwt|sas|hash|hmac|user|login)$"
)
LONGEST_PLAIN_VALUE = 40
LONGEST_SENTENCE = 400
LONGEST_VALUE = 60


def as_text(name: str) -> str:
    """The name of a file with what is no text in it spelt out, so that every format can hold it."""
    return name.encode("utf-8", "backslashreplace").decode()


def without_secrets(text: str) -> str:
    """The text with URLs that hold no name, no password and no signature: a query of which any part could be one is
    left out."""
    if "://" not in text:
        return text
    return _QUERY.sub(lambda found: found[1] if _is_secret(found[2]) else found[0], _USER.sub(r"\1", text))


def _is_secret(query: str) -> bool:
    parts = [part.partition("=") for part in re.split("[&;]", query)]
    return any(_SECRET.search(name) or len(value) > LONGEST_PLAIN_VALUE for name, _, value in parts)


def printable(text: str) -> str:
    """The text without colour codes, and with other control characters, which could steer a terminal, and what is not
    text spelt out; lines stay lines."""
    text = _COLOUR.sub("", text)
    return "".join(each if each.isprintable() or each == "\n" else _spelt(each) for each in text)


def _spelt(character: str) -> str:
    return (
        character.encode("utf-8", "backslashreplace").decode()
        if "\ud800" <= character <= "\udfff"
        else (ascii(character)[1:-1])
    )


def first_line(fault: Exception) -> str:
    """What a framework's or a runtime's exception says, without the pages that may follow."""
    return (printable(str(fault)).strip().splitlines() or [type(fault).__name__])[0].rstrip(".")


def one_line(text: str, most: int = LONGEST_SENTENCE) -> str:
    """The text in one line of at most so many characters, its middle left out where it is longer."""
    text = " ".join(printable(text[: 50 * most].replace("\n", " ")).split())
    if len(text) <= most:
        return text
    end = most // 3
    return f"{text[: most - end - 5]} ... {text[-end:]}"


def shown(value: Any, most: int = LONGEST_VALUE) -> str:
    """A value from a file as a message quotes it, shortened."""
    if isinstance(value, int) and abs(value) >= 10**30:
        return "a number of more than 30 digits"
    if isinstance(value, (str, bytes)):
        value = value[: 2 * most]
    elif isinstance(value, (list, tuple, dict, set)):
        return f"a {type(value).__name__} of {len(value)}" if len(value) > 6 else one_line(_nested(value), most)
    return one_line(repr(value), most)


def _nested(value: Any) -> str:
    """The repr of a short container, whose own members may be anything."""
    try:
        return repr(value)[: 4 * LONGEST_VALUE]
    except (RecursionError, ValueError):
        return f"a {type(value).__name__}"


def install_extra(extra: str) -> str:
    """How to install an optional dependency; Zygal is installed from its checkout."""
    return f"install it in Zygal's checkout: pip install '.[{extra}]'"


def some_of(names: list[str], most: int = 3) -> str:
    """The first few of many names, in words."""
    distinct = list(dict.fromkeys(names))
    rest = len(distinct) - most
    return ", ".join(one_line(each, LONGEST_VALUE) for each in distinct[:most]) + (
        f" and {rest} more" if rest > 0 else ""
    )


class ZygalError(Exception):
    """The input or the usage is invalid. The message is one line of at most LONGEST_SENTENCE characters."""

    def __init__(self, sentence: str):
        super().__init__(one_line(without_secrets(sentence)))


class FileError(ZygalError):
    """A file or folder cannot be read, or is not of the kind that is needed."""


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
        listed = "; ".join(f"{one_line(name, 40)} ({some_of(users)})" for name, users in sorted(layers.items()))
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


class PlanError(ZygalError):
    """A plan of what is to be signed off has unknown or contradictory keys, or leads outside its folder."""


class BundleError(ZygalError):
    """A bundle is damaged, incomplete, or not what its manifest says."""


class EndpointError(ZygalError):
    """A service cannot be reached, or does not answer as the open inference protocol says."""


class ClusterError(ZygalError):
    """A cluster cannot be reached, its workers do not fit, or it went away."""


def cannot_be_started(path: object, runtime: str, extra: str, fault: Exception, elsewhere: bool = False) -> EngineError:
    """What runs a file is missing or does not fit this machine. elsewhere: the command can be run on another machine
    instead."""
    rest = f", or run this command where {runtime} is installed" if elsewhere else ""
    return EngineError(
        f"{path} can only be run by {runtime}, which cannot be started ({first_line(fault)}); "
        f"{install_extra(extra)}{rest}."
    )
