"""A store of one's own: a Python class that the settings name.

It satisfies `invio.stores.store.Store`. Most derive it from `BlockingStore`, which needs three functions of them, and
runs these in threads of the store's own with a deadline; docs/stores.md has one in full.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from invio.producers.producer import ProducerFault, function_named
from invio.stores.store import Store, StoreFault

_NEEDED = ("locate", "list")


def custom_store(name: str, target: str, options: Mapping[str, Any]) -> Store:
    """The store that the class `package.module:Class` makes of its name and its options.

    Raises:
        StoreFault: there is no such class, it does not take these options, or what it makes is no store.
    """
    try:
        made = function_named(target)(name, **options)
    except ProducerFault as error:
        raise StoreFault(f"store {name!r}: {str(error).replace('function', 'class', 1)}") from None
    except StoreFault:
        raise
    except Exception as error:  # somebody's own code
        raise StoreFault(f"store {name!r}: {target} could not be made: {type(error).__name__}: {error}") from error
    for needed in _NEEDED:
        if not callable(getattr(made, needed, None)):
            raise StoreFault(f"store {name!r}: {target} has no {needed}(); see docs/stores.md for what a store offers")
    for attribute, usual in (("name", name), ("kind", "custom"), ("waits", True)):
        if not hasattr(made, attribute):
            setattr(made, attribute, usual)
    return made  # type: ignore[no-any-return]
