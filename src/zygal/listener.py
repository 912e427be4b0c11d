"""Who is told what a command is doing while it works. The core knows only this class; a user interface has its own."""

from __future__ import annotations


class Listener:
    """Ignores everything."""

    def step(self, name: str, fraction: float = 0.0) -> None:
        """The work is at a step; `fraction` of it, from 0 to 1, is done."""

    def count(self, name: str, done: int, total: int | None) -> None:
        """So many of `total` items are done; None if the total is not known."""

    def note(self, sentence: str) -> None:
        """Something that the user should read at once and not only in the result."""

    def detail(self, text: str) -> None:
        """What is being done, for a user who wants to follow it."""


SILENT = Listener()
