"""The base of errors that an operator or a developer can fix: their message says what is wrong and what to do."""

from __future__ import annotations


class ConfigurationError(Exception):
    """Something that was given (a file, a setting, a port) cannot be used as it is."""
