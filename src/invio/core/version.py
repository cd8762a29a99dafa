"""The number of the version."""

from __future__ import annotations

VERSION = "0.2.0"
