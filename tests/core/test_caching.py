import pytest

from invio.core.http.caching import read_cache_control, strictest


@pytest.mark.parametrize(
    ("text", "read"),
    [
        ("public, max-age=3600", "public, max-age=3600"),
        ("No-Store", "no-store"),
        ("private,immutable", "private, immutable"),
    ],
)
def test_directives_are_read(text: str, read: str) -> None:
    assert read_cache_control(text) == read


@pytest.mark.parametrize("text", ["", "max-age", "max-age=-1", "publik", "public\r\nset-cookie: a", "public, private"])
def test_what_is_no_directive_is_refused(text: str) -> None:
    with pytest.raises(ValueError, match=r"directive|not both"):
        read_cache_control(text)


def test_of_several_the_strictest_holds() -> None:
    assert strictest(["public, max-age=60", "private, max-age=600"]) == "private, max-age=600"
    assert strictest(["public, max-age=60", "public, max-age=6"]) == "public, max-age=6"
    assert strictest(["private, no-cache", "no-store", "public"]) == "no-store"
    assert strictest([]) is None
