"""The one exception callers show to a person."""

from __future__ import annotations


class BadInput(ValueError):
    """Input that cannot be used; its text is one clear sentence for the person.

    ``line`` is the 1-based line of the file, where the trouble has one.
    """

    def __init__(self, message: str, *, file: str | None = None, line: int | None = None) -> None:
        self.message = message
        self.file = file
        self.line = line
        super().__init__(str(self))

    def __str__(self) -> str:
        place = self.file or ""
        if self.line is not None:
            place = f"{place}, line {self.line}" if place else f"line {self.line}"
        return f"{place}: {self.message}" if place else self.message

    def in_file(self, file: str) -> BadInput:
        """The same trouble, naming the file it stands in."""
        return BadInput(self.message, file=file, line=self.line)
