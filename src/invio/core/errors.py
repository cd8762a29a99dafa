"""The base of errors that an operator or a developer can fix: their message says what is wrong and what to do."""

from __future__ import annotations

from typing import Self


class ConfigurationError(Exception):
    """Something that was given (a file, a setting, a port) cannot be used as it is.

    `line` is the line of the file that is to be corrected, counted from 1; 0 when it is of no line.
    """

    line = 0

    @classmethod
    def at(cls, file: str, line: int, message: str) -> Self:
        """The error of one line of a file: `file:line: message`."""
        error = cls(f"{file}:{line}: {message}")
        error.line = line
        return error
