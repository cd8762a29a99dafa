"""Sealed links: every vector of the format, and what must hold of all links."""

from __future__ import annotations

import base64
import json
import random
import string
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from invio.core.addresses import parse_address
from invio.core.links.seals import (
    QUERY_LIMIT,
    LinkSummary,
    SealedLink,
    check_link,
    id_of_maker,
    is_sealed,
    link_query,
    link_target,
    make_link,
    narrow_link,
    parse_link,
    parse_query,
    parse_url,
)
from invio.core.links.terms import Asked, LinkRefused, agent_mark

VECTORS = json.loads(Path(__file__).with_name("link-vectors.json").read_text("utf-8"))
KEYS = {name: base64.urlsafe_b64decode(text + "=") for name, text in VECTORS["keys"].items()}
FILE = parse_address("charts/approach/north.pdf")
NOW = 1_800_000_000


def verdict(url: str, asked: Asked, keys: dict[str, bytes] = KEYS) -> str:
    try:
        check_link(parse_url(url), keys, asked)
    except LinkRefused as refused:
        return refused.reason.word
    return "ok"


def sealed(root: dict[str, str] | None = None, *conditions: tuple[str, str]) -> SealedLink:
    return make_link(FILE, "k1", KEYS["k1"], (root or {}).items(), conditions)


def url_of(link: SealedLink) -> str:
    return "http://127.0.0.1:8480" + link_target(link)


@pytest.mark.parametrize("vector", VECTORS["links"], ids=lambda vector: f"{vector['expect']}: {vector['note']}")
def test_every_vector_gets_its_reason(vector: dict[str, Any]) -> None:
    given = {**VECTORS["defaults"], **vector}
    assert verdict(given["url"], Asked(given["at"], given["ip"], given["agent"], given["caller"])) == vector["expect"]


def test_there_are_as_many_vectors_as_the_format_ships() -> None:
    assert len(VECTORS["links"]) == 170
    assert {vector["expect"] for vector in VECTORS["links"]} >= {"ok", "malformed", "bad-seal", "expired"}


@pytest.mark.parametrize(
    "vector", [vector for vector in VECTORS["links"] if vector["expect"] == "ok"], ids=lambda vector: vector["note"]
)
def test_a_link_made_from_its_parts_has_the_vector_s_seal(vector: dict[str, Any]) -> None:
    read = parse_url(vector["url"])
    again = make_link(read.address, read.key, KEYS[read.key], read.root, read.conditions)
    assert again.seal == read.seal
    assert parse_url(url_of(again)) == read


def test_any_changed_character_is_refused() -> None:
    url = url_of(sealed({"to": "pilot-7", "id": "a1"}, ("until", str(NOW + 60)), ("net", "203.0.113.0/24")))
    asked = Asked(NOW, "203.0.113.9", "demo/1")
    assert verdict(url, asked) == "ok"
    begin = url.index("/get/") + len("/get/")
    alphabet = string.ascii_letters + string.digits + "-_./%&=?"
    for place in range(begin, len(url)):
        for mark in alphabet:
            changed = url[:place] + mark + url[place + 1 :]
            if mark != url[place]:
                assert verdict(changed, asked) != "ok", changed


def test_no_bit_of_a_thousand_links_can_be_flipped() -> None:
    chance = random.Random(1)
    asked = Asked(NOW, "203.0.113.9", "demo/1")
    for number in range(1000):
        url = url_of(
            sealed({"to": f"r-{chance.randrange(10**6)}", "id": f"i{number}"}, ("until", str(NOW + 60 + number)))
        )
        assert verdict(url, asked) == "ok"
        begin = url.index("/get/") + len("/get/")
        for place in chance.sample(range(begin, len(url)), 12):
            changed = url[:place] + chr(ord(url[place]) ^ (1 << chance.randrange(7))) + url[place + 1 :]
            assert verdict(changed, asked) != "ok", changed


@pytest.mark.parametrize(
    ("conditions", "changes", "reason"),
    [
        ([("until", NOW)], {}, "expired"),
        ([("until", NOW)], {"grace": 1}, "ok"),
        ([("after", NOW)], {}, "ok"),
        ([("after", NOW + 1)], {}, "not-yet"),
        ([("net", "127.0.0.0/8")], {"ip": "::ffff:127.0.0.1"}, "ok"),
        ([("net", "127.0.0.0/8")], {"ip": None}, "wrong-network"),
        ([("net", "127.0.0.0/8")], {"ip": "no address"}, "wrong-network"),
        ([("agent", agent_mark("demo/1"))], {}, "ok"),
        ([("who", "ann")], {"caller": "ann"}, "ok"),
        ([("who", "ann")], {}, "wrong-recipient"),
        ([("uses", 2)], {"used": 1}, "ok"),
        ([("uses", 2)], {"used": 2}, "used-up"),
        ([], {"revoked": True}, "revoked"),
        ([("until", NOW), ("uses", 1), ("who", "x")], {"used": 9, "revoked": True}, "expired"),
        ([("uses", 1), ("who", "x")], {"used": 9, "revoked": True}, "wrong-recipient"),
        ([("uses", 1)], {"used": 9, "revoked": True}, "revoked"),
    ],
)
def test_the_first_reason_of_the_format_s_order_is_given(
    conditions: list[tuple[str, object]], changes: dict[str, Any], reason: str
) -> None:
    link = sealed({"id": "a1"}, *((name, str(value)) for name, value in conditions))
    asked = {"at": NOW, "ip": "127.0.0.1", "agent": "demo/1", "caller": None, **changes}
    assert verdict(url_of(link), Asked(**asked)) == reason


def test_nothing_is_told_of_a_link_before_its_seal_is_good() -> None:
    url = url_of(sealed(None, ("until", "5"))).replace("until=5", "until=6")
    assert verdict(url, Asked(NOW)) == "bad-seal"


def test_a_retired_key_opens_nothing() -> None:
    assert verdict(url_of(sealed()), Asked(NOW), keys={"k2": KEYS["k2"]}) == "unknown-key"


def test_a_folder_s_link_opens_what_is_below_and_nothing_else() -> None:
    link = sealed({"in": "charts/approach/"})
    inside = narrow_link(link, [], parse_address("charts/approach/deep/other.pdf"))
    assert verdict(url_of(inside), Asked(NOW)) == "ok"
    outside = url_of(inside).replace("charts/approach/deep/other.pdf", "charts/harbour/other.pdf")
    assert verdict(outside, Asked(NOW)) == "out-of-scope"
    with pytest.raises(LinkRefused, match="is not in it"):
        narrow_link(link, [], parse_address("charts/harbour/other.pdf"))


def test_a_link_is_not_sealed_for_a_folder_that_its_file_is_not_in() -> None:
    with pytest.raises(LinkRefused, match=r"bundles/b/a\.zip is not in charts/"):
        make_link(parse_address("bundles/b/a.zip"), "k1", KEYS["k1"], [("in", "charts/")])
    with pytest.raises(LinkRefused, match="is not in"):
        make_link(parse_address("charts/approachable/a.pdf"), "k1", KEYS["k1"], [("in", "charts/approach/")])


def test_the_id_of_a_link_that_the_service_makes_is_its_makers_own() -> None:
    assert id_of_maker("invoice-7", "pilot-7") == "invoice-7@pilot-7" == id_of_maker("invoice-7@pilot-7", "pilot-7")
    with pytest.raises(LinkRefused):
        id_of_maker("invoice-7@harbour-office", "pilot-7")
    with pytest.raises(LinkRefused):
        id_of_maker("", "pilot-7")
    with pytest.raises(LinkRefused):
        id_of_maker("x" * 60, "p" * 64)
    assert id_of_maker("x" * 31, "p" * 32) == "x" * 31 + "@" + "p" * 32, "just short enough to name its maker"
    with pytest.raises(LinkRefused):
        make_link(FILE, "no key", KEYS["k1"])
    long = {id_of_maker("x", maker * 64) for maker in "abc"}
    assert len(long) == 3
    assert all(len(one) <= 64 for one in long)


@given(
    st.from_regex(r"[A-Za-z0-9._-]{1,20}", fullmatch=True),
    st.from_regex(r"[A-Za-z0-9._@-]{1,40}", fullmatch=True),
    st.from_regex(r"[A-Za-z0-9._-]{1,20}", fullmatch=True),
    st.from_regex(r"[A-Za-z0-9._@-]{1,40}", fullmatch=True),
)
def test_no_two_makers_get_links_of_one_id(given: str, maker: str, other_given: str, other: str) -> None:
    if maker != other:
        assert id_of_maker(given, maker) != id_of_maker(other_given, other)


def test_whom_a_link_names_is_believed_of_the_key_holder_alone() -> None:
    assert sealed({"to": "pilot-7", "id": "mail-1"}).names_recipient == "pilot-7"
    assert sealed({"to": "pilot-7"}).names_recipient == "pilot-7"
    assert sealed({"to": "pilot-7", "id": "mail-1@tern-lab"}).names_recipient is None
    marks = {sealed({"id": "a"}).mark, sealed({"id": "b"}).mark, sealed({"id": "a"}, ("uses", "1")).mark}
    assert len(marks) == 3, "each link has a mark of its own"
    assert {len(mark) for mark in marks} == {16}


@pytest.mark.parametrize(
    "conditions",
    [[("colour", "red")], [("until", "soon")], [("uses", "3")], [("net", "10.0.0.1/8")], [("net", "10.0.0.1")],
     [("net", "fe80::%eth0/64")], [("via", "x" * 201)],
     [("via", "a\nb")], [("tag", "a"), ("tag", "b")], [("via", "x")] * 33],
)  # fmt: skip
def test_a_link_that_no_one_could_honour_is_not_made(conditions: list[tuple[str, str]]) -> None:
    with pytest.raises(LinkRefused):
        sealed(None, *conditions)


def test_a_link_longer_than_a_query_may_be_is_not_made() -> None:
    with pytest.raises(LinkRefused, match="4096"):
        sealed(None, *[("via", "ö" * 200)] * 5)


def test_a_link_as_long_as_a_query_may_be_is_made() -> None:
    conditions = [("via", "x" * 200)] * 19
    left = QUERY_LIMIT - len(link_query(sealed(None, *conditions))) - len("&via=")
    assert len(link_query(sealed(None, *conditions, ("via", "y" * left)))) == QUERY_LIMIT
    with pytest.raises(LinkRefused, match="4096"):
        sealed(None, *conditions, ("via", "y" * (left + 1)))


def test_only_conditions_of_the_format_are_appended() -> None:
    with pytest.raises(LinkRefused, match="colour"):
        narrow_link(sealed(), [("colour", "red")])


@pytest.mark.parametrize(
    ("query", "detail"),
    [
        ("key=k1&seal=SEAL&seal=SEAL", "exactly one seal"),
        ("key=k1&seal=SEAL&until=5", "exactly one seal"),
        ("key=k1&key=k2&seal=SEAL", "exactly one key"),
        ("to=a&seal=SEAL", "exactly one key"),
        ("key=k1", "ends before its seal"),
        ("key=k1&seal=abc", "43 characters"),
        ("key=k1&until&seal=SEAL", "'until' is not name=value"),
    ],
)
def test_what_is_wrong_with_a_link_is_said(query: str, detail: str) -> None:
    with pytest.raises(LinkRefused, match=detail):
        parse_link(f"a/b?{query.replace('SEAL', sealed().seal)}")


def test_a_link_that_is_over_says_since_when() -> None:
    with pytest.raises(LinkRefused, match="2027-01-15 08:00:00 UTC"):
        check_link(sealed(None, ("until", str(NOW))), KEYS, Asked(NOW + 1))


def test_a_link_is_made_for_a_file() -> None:
    with pytest.raises(LinkRefused, match="is a folder"):
        make_link(parse_address("charts/approach/"), "k1", KEYS["k1"])
    odd = make_link(parse_address("charts/a!b.pdf"), "k1", KEYS["k1"])
    assert verdict(url_of(odd).replace("%21", "!"), Asked(NOW)) == "ok"


def test_root_parameters_are_put_into_the_format_s_order() -> None:
    link = sealed({"to": "pilot-7", "as": "inline", "version": "3"})
    assert [name for name, _ in link.root] == ["version", "as", "to"]


def test_the_strictest_of_each_condition_is_what_a_link_comes_to() -> None:
    link = sealed({"to": "pilot-7", "id": "a1"}, ("rate", "500"), ("until", "900"), ("uses", "3"), ("via", "office"))
    narrowed = narrow_link(link, [("rate", "200"), ("until", "950"), ("uses", "7"), ("via", "desk"), ("tag", "t-1")])
    summary = narrowed.summary
    assert (summary.to, summary.id, summary.tag, summary.via) == ("pilot-7", "a1", "t-1", "office / desk")
    assert (summary.rate, summary.until, summary.uses) == (200, 900, 3)
    assert (narrowed.rate, narrowed.expires, narrowed.uses) == (200, 900, 3)
    assert (narrowed.tag, narrowed.via) == ("t-1", "office / desk")
    assert sealed({}).summary == LinkSummary(*[None] * 7)
    assert narrowed.conditions_named("rate") == ["500", "200"]
    assert narrowed.conditions_named("net") == []
    assert narrowed.says("id") == "a1"
    assert narrowed.says("in") is None


def test_links_that_are_alike_are_one_and_a_use_left_is_one() -> None:
    link = sealed({"id": "a1"}, ("uses", "1"))
    assert {link, sealed({"id": "a1"}, ("uses", "1"))} == {link}
    assert link != sealed({"id": "a1"}, ("uses", "2"))
    check_link(link, KEYS, Asked(100.0))
    with pytest.raises(LinkRefused, match="used"):
        check_link(link, KEYS, Asked(100.0, used=1))


def test_a_query_of_the_longest_length_is_read_and_a_longer_one_is_not() -> None:
    pair = "via=" + "x" * (QUERY_LIMIT - len("via="))
    assert parse_query(pair) == [("via", pair.removeprefix("via="))]
    with pytest.raises(LinkRefused) as refused:
        parse_query(pair + "x")
    assert refused.value.reason.word == "malformed"


@pytest.mark.parametrize("odd", ["\t", "\x00", " ", "\x1f", "\x7f"])
def test_a_url_with_a_blank_or_a_control_character_is_malformed(odd: str) -> None:
    assert verdict(f"http://h/get/a/b{odd}?key=k1&seal=x", Asked(NOW)) == "malformed"
    with pytest.raises(LinkRefused, match="a blank or a control character"):
        parse_url(f"http://h/get/a/b{odd}?key=k1&seal=x")


@pytest.mark.parametrize("url", ["http://h/get/a/b?key=k1&seal=x ", "http://h/other/a", "\thttp://h/get/a/b?key=1"])
def test_a_url_that_is_no_link_is_malformed(url: str) -> None:
    assert verdict(url, Asked(NOW)) == "malformed"


@pytest.mark.parametrize(
    ("query", "expected"),
    [
        ("key=k1&seal=x", True),
        ("as=inline", False),
        ("", False),
        ("seal", True),
        ("a=b&seal=", True),
        ("monkey=1", False),
    ],
)
def test_a_query_with_a_key_or_a_seal_is_meant_to_be_a_link(query: str, expected: bool) -> None:
    assert is_sealed(query) is expected


IDENTS = st.text(string.ascii_letters + string.digits + "._@-", min_size=1, max_size=12)
MOMENTS = st.integers(0, 2 * NOW).map(str)
CONDITIONS = st.one_of(
    st.tuples(st.just("until"), MOMENTS),
    st.tuples(st.just("after"), MOMENTS),
    st.tuples(st.just("who"), st.sampled_from(["ann", "bob"])),
    st.tuples(st.just("net"), st.sampled_from(["10.0.0.0/8", "10.1.0.0/16", "192.0.2.0/24", "2001:db8::/32"])),
    st.tuples(st.just("only"), st.sampled_from(["charts/", "charts/approach/", "charts/approach/north.pdf", "x/"])),
    st.tuples(st.just("uses"), st.integers(1, 5).map(str)),
    st.tuples(st.just("rate"), st.integers(1, 10**9).map(str)),
    st.tuples(st.just("via"), st.text(st.characters(blacklist_categories=("Cc", "Cs")), min_size=1, max_size=20)),
)
ASKED = st.builds(
    Asked,
    at=st.integers(0, 2 * NOW),
    ip=st.sampled_from(["10.1.2.3", "10.9.9.9", "192.0.2.1", "2001:db8::1", None]),
    caller=st.sampled_from(["ann", "bob", None]),
    used=st.integers(0, 6),
)


@settings(max_examples=300, deadline=None)
@given(st.lists(CONDITIONS, max_size=4), st.lists(CONDITIONS, max_size=4), ASKED)
def test_a_narrowed_link_never_allows_what_its_parent_did_not(
    before: list[tuple[str, str]], added: list[tuple[str, str]], asked: Asked
) -> None:
    parent = sealed({"id": "a1", "in": "charts/"}, *before)
    child = narrow_link(parent, added)
    assert verdict(url_of(child), asked) not in ("malformed", "bad-seal", "unknown-key")
    if verdict(url_of(child), asked) == "ok":
        assert verdict(url_of(parent), asked) == "ok"
    # Narrowing is the same as having been made so, and cannot be undone without the key.
    assert child.seal == sealed({"id": "a1", "in": "charts/"}, *before, *added).seal
    if added:
        undone = SealedLink(child.address, child.root, child.key, tuple(before), child.seal)
        assert verdict(url_of(undone), asked) == "bad-seal"


@settings(max_examples=300, deadline=None)
@given(st.text(st.characters(codec="utf-8"), max_size=80), st.text(max_size=120))
def test_no_text_makes_reading_a_link_fail_in_another_way(path: str, query: str) -> None:
    try:
        parse_link(f"{path}?{query}")
    except LinkRefused as refused:
        assert refused.reason.word == "malformed"
        assert refused.detail


_PAIRS = st.lists(
    st.sampled_from(
        ["in=charts/", "id=a1", "to=ann", "key=k1", "key=k2", "until=5", "uses=2", "tag=a", "seal=x", "via"]
    )
)


@given(_PAIRS, st.booleans(), st.randoms(use_true_random=False))
def test_a_link_with_a_character_encoded_is_read_as_the_link_itself(
    pairs: list[str], whole: bool, chance: random.Random
) -> None:
    query = "&".join([*pairs, f"seal={sealed().seal}"] if whole else pairs)
    places = [place for place, mark in enumerate(query) if mark not in "&="]
    if not places:
        return
    place = chance.choice(places)
    encoded = f"{query[:place]}%{ord(query[place]):02X}{query[place + 1 :]}"
    assert _read(encoded) == _read(query)


def _read(query: str) -> SealedLink | str:
    try:
        return parse_link(f"charts/a?{query}")
    except LinkRefused as refused:
        return "malformed, and why" if "is not name=value" in refused.detail else refused.detail
