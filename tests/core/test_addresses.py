import pytest
from hypothesis import given
from hypothesis import strategies as st

from invio.core.addresses import Address, BadAddress, parse_address, parse_file_address, percent_decoded, quoted

SEGMENTS = st.text(
    st.characters(blacklist_categories=("Cc", "Cs"), blacklist_characters="/\\"), min_size=1, max_size=12
).filter(lambda text: text not in (".", ".."))


@pytest.mark.parametrize(
    ("text", "store", "path", "folder"),
    [
        ("charts/a.pdf", "charts", "a.pdf", False),
        ("charts/approach/Södra leden.pdf", "charts", "approach/Södra leden.pdf", False),
        ("charts/approach/", "charts", "approach/", True),
        ("charts/", "charts", "", True),
        ("charts/...", "charts", "...", False),
    ],
)
def test_an_address_is_a_store_and_a_path(text: str, store: str, path: str, folder: bool) -> None:
    address = parse_address(text)
    assert (address.store, address.path, address.folder) == (store, path, folder)
    assert str(address) == text


@pytest.mark.parametrize(
    "text",
    [
        "", "charts", "/charts/a", "charts//a", "charts/./a", "charts/../a", "charts/..", "../charts/a", "./a",
        "charts/a//", "charts/a\0b", "charts/a\nb", "charts/a\x7f", "charts/a\x85b", "charts/a\\b", "charts/a\u0301",
        "charts/\ud800", "/",
    ],
)  # fmt: skip
def test_what_climbs_hides_or_is_spelled_twice_is_refused(text: str) -> None:
    with pytest.raises(BadAddress):
        parse_address(text)


def test_a_folder_is_no_file() -> None:
    with pytest.raises(BadAddress, match="folder"):
        parse_file_address("charts/approach/")


@pytest.mark.parametrize(("raw", "text"), [("a%20b", "a b"), ("a+b", "a+b"), ("%E6%BD%AE", "潮"), ("%2e%2E", "..")])
def test_percent_decoding_is_to_utf8_and_leaves_the_plus(raw: str, text: str) -> None:
    assert percent_decoded(raw) == text


@pytest.mark.parametrize("raw", ["%", "%2", "%zz", "a%FFb", "%ED%A0%80"])
def test_broken_encodings_are_refused(raw: str) -> None:
    with pytest.raises(BadAddress):
        percent_decoded(raw)


@given(st.lists(SEGMENTS, min_size=2, max_size=5))
def test_a_quoted_address_decodes_to_itself(segments: list[str]) -> None:
    text = "/".join(segments)
    written = quoted(text)
    assert written.isascii()
    assert not set(written) & set(' ?#"<>')
    assert percent_decoded(written) == text


@pytest.mark.parametrize(
    ("inside", "scope", "expected"),
    [
        ("charts/a/b", "charts/a/", True),
        ("charts/a/b", "charts/", True),
        ("charts/a/b", "charts/a/b", True),
        ("charts/ab", "charts/a/", False),
        ("charts/a", "charts/a/", False),
        ("chart/a", "charts/", False),
    ],
)
def test_a_folder_holds_what_is_below_it_and_no_longer_name(inside: str, scope: str, expected: bool) -> None:
    assert parse_address(inside).within(parse_address(scope)) is expected


def test_the_name_is_the_last_segment() -> None:
    assert parse_address("charts/approach/north.pdf").name == "north.pdf"
    assert parse_address("charts/approach/").name == "approach"
    assert Address("charts", "").name == "charts"
