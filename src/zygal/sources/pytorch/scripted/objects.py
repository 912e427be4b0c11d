"""The objects of a scripted archive, and those that its code makes: attributes, methods, constants, enumerations."""

from __future__ import annotations

from typing import Any

from zygal.errors import shown
from zygal.files.pickles import Record
from zygal.sources.pytorch.scripted.archive import ScriptedArchive
from zygal.sources.pytorch.scripted.builtins import Unfit
from zygal.sources.pytorch.scripted.recorder import Recorder
from zygal.sources.pytorch.scripted.values import Function, Member, Module


class Objects:
    """What names in an archive's code stand for. Methods raise Unfit, with what is wrong as the end of a sentence."""

    def __init__(self, archive: ScriptedArchive, recorder: Recorder):
        self._code, self._recorder, self._in_training = archive.code, recorder, archive.in_training
        # Objects that the code itself makes; lists and dictionaries of modules, which code may add to.
        self._made_here: dict[int, Record] = {}
        self._containers: dict[tuple[int, str], Any] = {}
        self._constants = {name: recorder.stored(value) for name, value in archive.constants.items()}

    def constant(self, name: str) -> Any:
        """What the code calls CONSTANTS.name."""
        if name not in self._constants:
            raise Unfit(f"reads a constant {name} that the archive does not have")
        return self._constants[name]

    def named(self, name: str) -> Any:
        """What a whole name of the archive's code stands for: a function, or a member of an enumeration."""
        enumeration, _, last = name.rpartition(".")
        if enumeration in self._code.enumerations:
            return self._member(enumeration, "name", last)
        if enumeration.rpartition(".")[0] in self._code.enumerations:
            return self.attribute(self.named(enumeration), last)
        if name not in self._code.functions:
            raise Unfit(f"names a function that the archive does not have ({name})")
        return Function(name, self._code.functions[name])

    def method(self, owner: Module, name: str) -> Function | None:
        """A method of an object, bound to it."""
        qualified = f"{owner.record.name}.{name}"
        code = self._code.functions.get(qualified)
        return None if code is None else Function(qualified, code, owner)

    def attribute(self, owner: Any, name: str) -> Any:
        """An attribute or a method of an object."""
        if isinstance(owner, Member) and name in ("name", "value"):
            return getattr(owner, name)
        if not isinstance(owner, Module):
            raise Unfit(f"reads {shown(name)} of something that has no attributes")
        state = self._state(owner)
        if name in state:
            if name == "training" and id(owner.record) in self._in_training:
                self._recorder.in_training = True
            return self._held(owner, name, state[name])
        if (owner.record.name, name) in self._code.constants:
            return self._code.constants[owner.record.name, name]
        method = self.method(owner, name)
        if method is None:
            raise Unfit(f"reads {shown(name)}, which {owner.record.name} does not have")
        return method

    def _held(self, owner: Module, name: str, value: Any) -> Any:
        """What an object keeps under a name, in the terms of the interpreter."""
        if isinstance(value, Module):
            return value
        if isinstance(value, Record) and value.name in self._code.enumerations:
            return self._member(value.name, "value", value.arguments[0] if len(value.arguments) == 1 else None)
        if isinstance(value, Record):
            return Module(value, f"{owner.path}.{name}" if owner.path else name)
        if isinstance(value, (list, dict)):
            place = (id(owner.record), name)
            if place not in self._containers:
                self._containers[place] = self._recorder.stored(value)
            return self._containers[place]
        return self._recorder.stored(value)

    def set_attribute(self, owner: Any, name: str, value: Any) -> None:
        """Sets an attribute of an object that the code itself made; what is saved stays as it is."""
        if not isinstance(owner, Module) or id(owner.record) not in self._made_here:
            raise Unfit(f"keeps {name} from one image to the next")
        self._state(owner)[name] = value

    def element(self, modules: Module, place: int) -> Any:
        """An element of a list of modules, which has them as attributes called by their places."""
        count = sum(name.isdigit() for name in self._state(modules))
        return self.attribute(modules, str(place if place >= 0 else place + count))

    def made(self, name: str, path: str) -> Module:
        """A new object of a class of the archive, without attributes."""
        if name not in self._code.fields:
            raise Unfit(f"calls {name}, which the archive does not have")
        maker = Module(Record(name, (), {}), path)
        self._made_here[id(maker.record)] = maker.record
        return maker

    def _member(self, enumeration: str, by: str, wanted: Any) -> Member:
        """The member of an enumeration that has a name, or a value."""
        for name, value in self._code.enumerations[enumeration].items():
            if type(wanted) is type(value) and wanted == value if by == "value" else wanted == name:
                return Member(enumeration, name, value)
        raise Unfit(f"has no member of {enumeration} with the {by} {shown(wanted)}")

    @staticmethod
    def _state(owner: Module) -> dict:
        """The attributes of an object; of one that the code itself makes, those that it has got so far."""
        state = owner.record.state
        if state is None:
            state = owner.record.state = {}
        if not isinstance(state, dict):
            raise Unfit(f"has an object of {owner.record.name} whose attributes are not named")
        return state
