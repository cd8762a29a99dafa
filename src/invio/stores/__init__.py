"""Where files come from. A store offers `store.Store`; what more it can do, the other protocols in `store` say.

- `directory`, `writable`, `beneath`, `single`: files below a folder of the disk, and one by its path alone
- `managed`: files in versions
- `tables`: files that are made when they are asked for
- `blocking`: what the stores share whose answers may take long, and the base for a store of one's own
- `remote`, `origin`: other systems and web servers; `cached`, `disk_cache`: what of them is kept; `urls`: files by URL
- `table`, `table_keys`, `writable_table`, `blobs`: rows of a database; `custom`: somebody's own class
- `sources`, `contents`, `arriving`: what is read from, what is kept of it in memory, and what is written to

For a store of one's own, all that it needs can be imported from here.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from invio.core.addresses import Address
from invio.core.files import FileFacts
from invio.core.readable import ContentChanged

if TYPE_CHECKING:
    from invio.stores.blocking import BlockingStore
    from invio.stores.store import Found, Missing, StoreFault

__all__ = ["Address", "BlockingStore", "ContentChanged", "FileFacts", "Found", "Missing", "StoreFault"]

_WHERE = {"BlockingStore": "blocking", "Found": "store", "Missing": "store", "StoreFault": "store"}


def __getattr__(name: str) -> object:
    """Loads what is asked for, so that importing one module of the package does not import the others."""
    if name not in _WHERE:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from importlib import import_module

    return getattr(import_module(f"{__name__}.{_WHERE[name]}"), name)
