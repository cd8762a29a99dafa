"""Sealed links, format `invio-link-1`: an address with conditions that nobody can alter.

- `terms`: what may be sealed into a link, and when each holds. `seals`: making, reading and checking links.
- `keys`: the keys that seal.
"""
