import unicodedata
from email.message import Message

import pytest
from hypothesis import given
from hypothesis import strategies as st

from invio.core.http.names import NAME_LIMIT, ascii_name, content_disposition, safe_name


@pytest.mark.parametrize(
    ("name", "safe"),
    [
        ("chart.pdf", "chart.pdf"),
        ("../../etc/passwd", "_.._etc_passwd"),
        ("a/b\\c:d.txt", "a_b_c_d.txt"),
        ("tide\r\nSet-Cookie: x.txt", "tideSet-Cookie_ x.txt"),
        ("report\u202efdp.exe", "reportfdp.exe"),
        ("zero\u200bwidth.txt", "zerowidth.txt"),
        ("CON", "_CON"),
        ("nul.txt", "_nul.txt"),
        ("com1.tar.gz", "_com1.tar.gz"),
        ("console.txt", "console.txt"),
        ("trailing. . .", "trailing"),
        (".hidden", "hidden"),
        ("   ", "download"),
        ("", "download"),
        ("A\u030angstro\u0308m.txt", "Ångström.txt"),
        ("潮汐.csv", "潮汐.csv"),
    ],
)
def test_a_name_is_made_safe_and_stays_readable(name: str, safe: str) -> None:
    assert safe_name(name) == safe


def test_a_long_name_keeps_its_extension() -> None:
    safe = safe_name("ö" * 500 + ".pdf")
    assert len(safe) == NAME_LIMIT
    assert safe.endswith("ö.pdf")


@pytest.mark.parametrize(
    ("name", "ends"),
    [
        ("ö" * NAME_LIMIT, "öö"),  # as long as it may be: left as it is
        ("ö" * NAME_LIMIT + ".tarball-of-a-day", "ö.tarball-of-a-day"),  # 16 characters are an extension still
        ("ö" * NAME_LIMIT + ".tarball-of-a-week", "öö"),
        ("ö" * (NAME_LIMIT + 3), "öö"),
        ("ö" * (NAME_LIMIT + 3) + ".", "öö"),
    ],
)
def test_a_name_is_cut_at_its_limit_and_its_extension_kept(name: str, ends: str) -> None:
    safe = safe_name(name)
    assert len(safe) == NAME_LIMIT
    assert safe.endswith(ends)


@given(st.text(max_size=300))
def test_no_name_is_unsafe_or_changes_twice(name: str) -> None:
    safe = safe_name(name)
    assert safe
    assert not set(safe) & set('/\\:*?"<>|\r\n\0')
    assert safe not in (".", "..")
    assert not any(unicodedata.category(mark) in ("Cc", "Cf", "Cs") for mark in safe)
    assert safe_name(safe) == safe


@given(st.text(max_size=100), st.sampled_from(["attachment", "inline"]))
def test_the_header_is_ascii_and_gives_the_name_back(name: str, kind: str) -> None:
    value = content_disposition(kind, name)
    assert value.isascii()
    assert value.isprintable()
    if "filename*" in value:
        field = Message()
        field["content-disposition"] = f"{kind}; {value.rpartition('; ')[2]}"
        assert field.get_filename() == safe_name(name)
    else:
        assert value == f'{kind}; filename="{safe_name(name)}"'
    assert value.startswith(f'{kind}; filename="')


def test_umlauts_have_an_ascii_fallback() -> None:
    assert ascii_name("Södra leden – översikt.pdf") == "Sodra leden _ oversikt.pdf"
    assert ascii_name("潮汐観測所.png") == "_.png"
    assert (
        content_disposition("attachment", "50%.txt") == "attachment; filename=\"50_.txt\"; filename*=UTF-8''50%25.txt"
    )
