"""Invio delivers files: ranges, archives, expiring links, access rules, and a truthful account."""

__version__ = "0.1.0"
