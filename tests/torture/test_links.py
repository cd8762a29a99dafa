"""Forged links: whatever is done to a genuine one without the key, nothing more is opened by it."""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import replace

import httpx

from invio.core.addresses import parse_address
from invio.core.links.keys import new_keys
from invio.core.links.seals import SealedLink, check_link, link_target, make_link, narrow_link, parse_link
from invio.core.links.terms import Asked, LinkRefused
from tests.running import NO_TLS, Service
from tests.torture.scale import report, times

FORGED = times(20_000, 400_000)
OVER_THE_NETWORK = times(500, 10_000)
SIGNS = "abcXYZ0189-_.~/%&=+?;#:@ \x00\u00e9"
TEXTS = ["", "0", "1", "9999999999", "../x", "files/secret.txt", "ann", "*", "anyone", "%2e%2e", "AAAA", "k1", "k0"]


def _changed_sign(chance: random.Random, path: str, pairs: list[str], _: list[str]) -> tuple[str, list[str]]:
    text = path + "?" + "&".join(pairs)
    at = chance.randrange(len(text))
    if (kind := chance.randrange(3)) == 0:
        text = text[:at] + chance.choice(SIGNS) + text[at + 1 :]
    elif kind == 1:
        text = text[:at] + text[at + 1 :]
    else:
        text = text[:at] + chance.choice(SIGNS) + text[at:]
    path, query = text.partition("?")[::2]
    return path, query.split("&")


def _left_out(chance: random.Random, path: str, pairs: list[str], _: list[str]) -> tuple[str, list[str]]:
    del pairs[chance.randrange(len(pairs))]
    return path, pairs


def _twice(chance: random.Random, path: str, pairs: list[str], _: list[str]) -> tuple[str, list[str]]:
    pairs.insert(chance.randrange(len(pairs) + 1), chance.choice(pairs))
    return path, pairs


def _exchanged(chance: random.Random, path: str, pairs: list[str], _: list[str]) -> tuple[str, list[str]]:
    one, two = chance.randrange(len(pairs)), chance.randrange(len(pairs))
    pairs[one], pairs[two] = pairs[two], pairs[one]
    return path, pairs


def _other_value(chance: random.Random, path: str, pairs: list[str], _: list[str]) -> tuple[str, list[str]]:
    at = chance.randrange(len(pairs))
    pairs[at] = pairs[at].partition("=")[0] + "=" + chance.choice(TEXTS)
    return path, pairs


def _added(chance: random.Random, path: str, pairs: list[str], _: list[str]) -> tuple[str, list[str]]:
    name = chance.choice(["until", "in", "to", "id", "name", "as", "uses", "rate", "version", "net", "k", "s", "x"])
    pairs.insert(chance.randrange(len(pairs) + 1), f"{name}={chance.choice(TEXTS)}")
    return path, pairs


def _mixed(chance: random.Random, path: str, pairs: list[str], other: list[str]) -> tuple[str, list[str]]:
    """Parts of two links, and the seal of either."""
    return path, [chance.choice((mine, theirs)) for mine, theirs in zip(pairs, other, strict=False)] + [
        chance.choice((pairs, other))[-1]
    ]


def _other_path(chance: random.Random, path: str, pairs: list[str], _: list[str]) -> tuple[str, list[str]]:
    return chance.choice(
        [
            path.replace("shared", "secret"),
            path + "/../secret.txt",
            path.replace("/get/files/", "/get/files/%2e%2e/"),
            path + chance.choice(SIGNS),
            path.upper(),
        ]
    ), pairs


CHANGES: list[Callable[[random.Random, str, list[str], list[str]], tuple[str, list[str]]]] = [
    _changed_sign,
    _left_out,
    _twice,
    _exchanged,
    _other_value,
    _added,
    _mixed,
    _other_path,
]


def _genuine(chance: random.Random, key: bytes, number: int) -> str:
    file = parse_address(f"files/shared/{number % 7}.txt")
    root = {"id": f"i{number}", **chance.choice([{}, {"to": "bob"}, {"in": "files/shared/"}, {"as": "inline"}])}
    conditions = [("until", "4000000000"), *chance.choice([[], [("rate", "100000")], [("tag", "t")]])]
    link = make_link(file, "k1", key, root.items(), conditions)
    return link_target(narrow_link(link, [("via", "crew")]) if number % 3 == 0 else link)


def test_no_change_to_a_link_opens_anything_more() -> None:
    chance = random.Random(20261127)
    key = bytes(range(32))
    links = [_genuine(chance, key, number) for number in range(300)]
    asked = Asked(1_800_000_000, "203.0.113.9", "demo/1", "bob")
    meant = {}
    for link in links:
        path, _, query = link.partition("?")
        parsed = parse_link(f"{path.removeprefix('/get/')}?{query}")
        check_link(parsed, {"k1": key}, asked)
        meant[link] = parsed
    opened, tried = [], 0
    while tried < FORGED:
        link, other = chance.choice(links), chance.choice(links)
        path, _, query = link.partition("?")
        pairs = query.split("&")
        for _ in range(chance.randint(1, 3)):
            path, pairs = chance.choice(CHANGES)(chance, path, pairs or [""], other.partition("?")[2].split("&"))
        try:
            parsed = parse_link(f"{path.removeprefix('/get/')}?{'&'.join(pairs)}")
            if parsed in (meant[link], meant[other]):
                continue  # the same link, written in another way
            tried += 1
            check_link(parsed, {"k1": key}, asked)
        except LinkRefused:
            tried += 1
            continue
        # What is opened has to be what a genuine link opens, and one for a folder is for all in it.
        if not any(_opens(meant[each], parsed) for each in (link, other)):
            opened.append((link, path, pairs))
    report("forged links against the core", tried, len(opened))
    assert opened == []


def _opens(genuine: SealedLink, asked: SealedLink) -> bool:
    scope = genuine.says("in")
    return (
        scope is not None and str(asked.address).startswith(scope) and asked == replace(genuine, address=asked.address)
    )


def test_no_forged_link_is_let_through_by_the_service(start: Callable[..., Service]) -> None:
    chance = random.Random(7)
    files = {f"shared/{number}.txt": b"shared" for number in range(7)} | {"secret.txt": b"SECRET"}
    service = start(files=files, rules="")
    links = [service.link(f"files/shared/{n % 7}.txt", {"id": f"i{n}"}, until=4_000_000_000) for n in range(40)]
    strange = new_keys()
    forged = make_link(parse_address("files/secret.txt"), "k1", strange.keys[strange.current], {}.items(), [])
    let_through = 0
    with httpx.Client(base_url=service.url, trust_env=False, verify=NO_TLS, timeout=20) as client:
        assert client.get(links[0]).content == b"shared"
        for number in range(OVER_THE_NETWORK):
            link = chance.choice(links)
            path, _, query = link.partition("?")
            other = chance.choice(links).partition("?")[2].split("&")
            changed, pairs = chance.choice(CHANGES)(chance, path, query.split("&"), other)
            target = f"{changed}?{'&'.join(pairs)}" if number % 50 else link_target(forged)
            if any(ord(sign) < 33 or ord(sign) > 126 or sign == "#" for sign in target) or not target.startswith("/"):
                continue
            answer = client.get(target)
            same = target == link or (answer.status_code == 200 and _alike(target, link))
            let_through += answer.status_code == 200 and not same
            assert b"SECRET" not in answer.content
            assert answer.status_code < 500, (target, answer.text)
    report("forged links over the network", OVER_THE_NETWORK, let_through)
    assert let_through == 0


def _alike(target: str, link: str) -> bool:
    """Whether both are the same link, written in two ways."""
    one, two = (text.partition("?") for text in (target, link))
    return parse_link("".join(one).removeprefix("/get/")) == parse_link("".join(two).removeprefix("/get/"))
