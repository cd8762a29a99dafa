"""What is wrong with a request that does not fit the API's description, in words for whoever sent it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from invio.core.toml import did_you_mean

_SAID = 10  # faults; a body may have hundreds of thousands
_NO_OBJECT = ("model_attributes_type", "dict_type", "model_type")


def explained(errors: Sequence[Any], fields: Sequence[str] = ()) -> str:
    """One sentence for each of the first faults; `fields` are the names that the body may have."""
    said = [_explained(error, fields) for error in errors[:_SAID]]
    if len(errors) > _SAID:
        said.append(f"and {len(errors) - _SAID} more")
    return "; ".join(said)


def _explained(error: Any, fields: Sequence[str]) -> str:
    what, given, context = error["type"], error["input"], error.get("ctx", {})
    place = [str(part) for part in error["loc"]]
    if place[:1] == ["body"] and (what in _NO_OBJECT or (what == "missing" and len(place) == 1)):
        return "the body must be a JSON object, sent with Content-Type: application/json"
    if what == "json_invalid":
        return f"the body is not JSON: {context.get('error', 'it cannot be read')}"
    name = ".".join(place[1:]) or place[0]
    if what == "missing":
        return f"{name} is missing"
    if what == "extra_forbidden":
        allowed = f"; it may hold {', '.join(fields)}" if fields else ""
        return f"the body has no {name!r}{did_you_mean(place[-1], fields)}{allowed}"
    said = error["msg"].removeprefix("Value error, ")
    if what == "string_pattern_mismatch" and "A-Za-z0-9._@-" in str(context.get("pattern")):
        said = "expected 1 to 64 of the letters A-Z and a-z, digits, and . _ @ -"
    said = said[:1].lower() + said[1:]
    if not isinstance(given, str | int | float) or str(given)[:40] in said:
        return f"{name}: {said}"
    return f"{name} is {repr(given)[:80]}: {said}"
