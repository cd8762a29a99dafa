"""What the bodies of requests have in common: no field that there is not, and an end to what is wrong with them.

The faults of a body are all collected before the first is told, and it may have hundreds of thousands: one of 6 MB kept
everybody waiting for eighteen seconds. So a body with far too many fields is refused as that, and lists and tables end
at their first fault.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any, TypeVar

from pydantic import BaseModel, BeforeValidator, ConfigDict, FailFast, TypeAdapter, ValidationError, model_validator

_FIELDS = 100  # of a body; none has as many

Item = TypeVar("Item")
# A list that ends at its first fault.
Listed = Annotated[list[Item], FailFast()]


class Asked(BaseModel):
    """The body of a request."""

    model_config = ConfigDict(extra="forbid")

    @model_validator(mode="before")
    @classmethod
    def _bounded(cls, given: Any) -> Any:
        if isinstance(given, dict) and len(given) > _FIELDS:
            raise ValueError(f"it has {len(given)} fields, and may have {', '.join(cls.model_fields)}")
        return given


def first_fault(kind: Any, most: int) -> BeforeValidator:
    """Refuses a table that is too long, or whose values are not of the kind, at the first of them."""
    value = TypeAdapter(kind)

    def look(given: Any) -> Any:
        if isinstance(given, dict):
            if len(given) > most:
                raise ValueError(f"it has {len(given)} entries, and may have {most}")
            for name, one in given.items():
                _look_at(value.validate_python, name, one)
        return given

    return BeforeValidator(look)


def _look_at(validate: Callable[[Any], object], name: str, value: object) -> None:
    try:
        validate(value)
    except ValidationError as error:
        raise ValueError(f"{name[:80]!r} is {repr(value)[:80]}: {error.errors()[0]['msg']}") from None
