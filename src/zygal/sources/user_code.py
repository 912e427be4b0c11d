"""Functions of the user's own Python files, named on purpose as FILE.py:FUNCTION. The file is run."""

from __future__ import annotations

import importlib.util
import sys
from collections.abc import Callable

from zygal.errors import ZygalError
from zygal.files.opening import existing_file
from zygal.machine.backends import missing_package, use_installed_backend

_LOADED: dict[str, str] = {}
"""The folder of each module that was loaded from a user's file."""


def _forget_others(folder: str) -> None:
    """Lets go of modules of files in other folders, which may have the same names."""
    for name, loaded_from in list(_LOADED.items()):
        if loaded_from != folder:
            sys.modules.pop(name, None)
            del _LOADED[name]
            if loaded_from in sys.path:
                sys.path.remove(loaded_from)


def split_place(entry_point: str, error: type[ZygalError]) -> tuple[str, str]:
    """FILE.py:FUNCTION as its two parts. Raises `error`."""
    file, _, name = entry_point.rpartition(":")
    if not file or not name.isidentifier():
        raise error(
            f"{entry_point} is not FILE.py:FUNCTION; name the file and the function in it, as in prepare.py:load."
        )
    return file, name


def load_function(entry_point: str, error: type[ZygalError]) -> Callable:
    """The function that FILE.py:FUNCTION names. The file is run. Raises FileError or `error`."""
    file, name = split_place(entry_point, error)
    path = existing_file(file)
    spec = importlib.util.spec_from_file_location(path.stem, path)
    if spec is None or spec.loader is None:
        raise error(f"{path} is not a Python file; name one that ends in .py.")
    module = importlib.util.module_from_spec(spec)
    folder = str(path.parent.resolve())
    sys.path.insert(0, folder)
    use_installed_backend()
    _forget_others(folder)
    # Classes defined in the file must be found again by its name.
    if sys.modules.setdefault(path.stem, module) is module:
        _LOADED[path.stem] = folder
    try:
        spec.loader.exec_module(module)
    except ModuleNotFoundError as fault:
        raise error(f"{path} cannot be imported: {missing_package(fault)}.") from fault
    except Exception as fault:
        raise error(f"{path} cannot be imported: {type(fault).__name__}: {fault}.") from fault
    finally:
        sys.path.remove(folder)
    # What the function itself imports is found too, but hides nothing of ours.
    if folder not in sys.path:
        sys.path.append(folder)
    function = getattr(module, name, None)
    if not callable(function):
        raise error(f"{path} has no function {name}; check the name after the colon.")
    return function
