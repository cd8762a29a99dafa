from invio.core.http.cors import SAME_ORIGIN, CrossOrigin
from invio.core.http.request_head import RequestHead

APP = "https://app.example.org"


def head(method: str = "GET", **fields: str) -> RequestHead:
    return RequestHead(method, [(name.replace("_", "-").encode(), value.encode()) for name, value in fields.items()])


def fields(pairs: list[tuple[bytes, bytes]]) -> dict[str, str]:
    assert len({name for name, _ in pairs}) == len(pairs)
    return {name.decode(): value.decode() for name, value in pairs}


def test_without_settings_no_origin_may_read() -> None:
    assert SAME_ORIGIN.headers(head(origin=APP)) == []
    assert SAME_ORIGIN.preflight(head("OPTIONS", origin=APP, access_control_request_method="GET"), "GET") == []
    assert SAME_ORIGIN.added_to([(b"etag", b"x")], head(origin=APP)) == [(b"etag", b"x")]


def test_an_origin_that_is_named_may_read_and_another_may_not() -> None:
    policy = CrossOrigin(frozenset([APP]), credentials=True)
    granted = fields(policy.headers(head(origin=APP)))
    assert granted["access-control-allow-origin"] == APP
    assert granted["access-control-allow-credentials"] == "true"
    for needed in ("Content-Range", "Content-Length", "ETag", "Accept-Ranges", "Repr-Digest", "Content-Disposition"):
        assert needed in granted["access-control-expose-headers"]
    for other in ("https://app.example.org.evil.test", "http://app.example.org", "null"):
        assert policy.headers(head(origin=other)) == []
    assert policy.headers(head()) == []


def test_an_answer_for_one_origin_is_not_kept_for_another() -> None:
    policy = CrossOrigin(frozenset([APP]))
    assert fields(policy.added_to([(b"vary", b"accept")], head(origin="https://x.test")))["vary"] == "accept, origin"
    assert fields(policy.added_to([], head()))["vary"] == "origin"
    assert fields(policy.added_to([(b"vary", b"accept-encoding, origin")], head()))["vary"] == "accept-encoding, origin"
    assert "vary" not in fields(CrossOrigin(frozenset("*")).added_to([], head(origin=APP)))


def test_a_preflight_is_told_what_may_be_asked() -> None:
    policy = CrossOrigin(frozenset("*"), seconds=60)
    asked = head("OPTIONS", origin=APP, access_control_request_method="GET", access_control_request_headers="range")
    granted = fields(policy.preflight(asked, "GET, HEAD, OPTIONS"))
    assert granted["access-control-allow-origin"] == "*"
    assert granted["access-control-allow-methods"] == "GET, HEAD, OPTIONS"
    assert granted["access-control-max-age"] == "60"
    for needed in ("Range", "If-Range", "Authorization", "Want-Repr-Digest"):
        assert needed in granted["access-control-allow-headers"].split(", ")
    assert policy.preflight(head("OPTIONS", origin=APP), "GET") == []
