"""The one exception callers show to a person."""

from __future__ import annotations

MOST_TOLD = 400
"""Characters of a message: a file's own words may be longer than anybody reads."""


def short(text: str, most: int = 60) -> str:
    """A text cut to ``most`` characters, its end told by dots."""
    return text if len(text) <= most else f"{text[: most - 1]}…"


class BadInput(ValueError):
    """Input that cannot be used; its text is one clear sentence for the person.

    ``line`` is the 1-based line of the file, where the trouble has one.
    """

    def __init__(self, message: str, *, file: str | None = None, line: int | None = None) -> None:
        self.message = short(message, MOST_TOLD)
        self.file = file if file is None else short(file, 120)
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
