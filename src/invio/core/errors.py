"""The base of errors that an operator or a developer can fix: their message says what is wrong and what to do."""

from __future__ import annotations

from typing import Self


class ConfigurationError(Exception):
    """A given file, setting or port cannot be used.

    `line` is the line of the file to correct, counted from 1; 0 when no line applies.
    """

    line = 0

    @classmethod
    def at(cls, file: str, line: int, message: str) -> Self:
        """The error of one line of a file: `file:line: message`."""
        error = cls(f"{file}:{line}: {message}")
        error.line = line
        return error
