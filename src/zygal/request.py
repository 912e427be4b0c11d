"""What every request can say of its own fields: which were given, and which have no effect without another."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import MISSING, dataclass, fields

from zygal.errors import ZygalError
from zygal.naming import option_name


@dataclass(frozen=True, kw_only=True)
class Request:
    """configured: the fields whose values are defaults of a file of the user's, which need not apply to each
    request."""

    configured: frozenset[str] = frozenset()

    def given(self, field: str) -> bool:
        """Whether a field was set for this very request."""
        declared = next(each for each in fields(self) if each.name == field)
        default = (
            declared.default
            if declared.default is not MISSING
            else declared.default_factory()
            if declared.default_factory is not MISSING
            else None
        )
        return field not in self.configured and getattr(self, field) != default


def refuse_without(request: Request, needs: Mapping[str, str], error: type[ZygalError]) -> None:
    """Raises `error` for the first field that was given without the one that gives it an effect."""
    for field, needed in needs.items():
        if request.given(field) and getattr(request, needed) in (None, (), False):
            raise error(f"{option_name(field)} needs {option_name(needed)}, which is not given.")


def refuse_unused(request: Request, field: str, why: str, error: type[ZygalError]) -> None:
    """Raises `error` if a field was given that has no effect. why: in words, after a comma."""
    if request.given(field):
        raise error(f"{option_name(field)} has no effect here, because {why}; leave it out.")
