import pytest

from invio.core.http.forwarded import original_network, read_networks

TRUSTED = read_networks(["10.0.0.0/8", "::1/128"])


@pytest.mark.parametrize(
    ("peer", "field", "client"),
    [
        ("10.1.1.1", "203.0.113.9", "203.0.113.9"),
        ("10.1.1.1", "1.2.3.4, 203.0.113.9", "203.0.113.9"),  # what the client wrote itself is hearsay
        ("10.1.1.1", "203.0.113.9, 10.2.2.2", "203.0.113.9"),  # two servers of ours, one behind the other
        ("::1", "2001:db8::7", "2001:db8::7"),
        ("::ffff:10.1.1.1", "203.0.113.9", "203.0.113.9"),
        ("203.0.113.1", "198.51.100.1", "203.0.113.1"),  # nobody we know
        ("10.1.1.1", None, "10.1.1.1"),
        ("10.1.1.1", "unknown", None),  # from nowhere, and not from the front server itself
        ("10.1.1.1", "203.0.113.9, nonsense", None),
        ("10.1.1.1", "203.0.113.9:4711", "203.0.113.9"),
        ("10.1.1.1", "[2001:db8::1]:443", "2001:db8::1"),
        ("10.1.1.1", "2001:db8::1", "2001:db8::1"),
        ("10.1.1.1", "fe80::1%" + "x" * 100_000, None),
        (None, "203.0.113.9", None),
    ],
)
def test_the_client_is_whom_trusted_servers_tell(peer: str | None, field: str | None, client: str | None) -> None:
    assert original_network(peer, field, TRUSTED) == client


def test_nobody_is_trusted_without_being_named() -> None:
    assert original_network("10.1.1.1", "203.0.113.9", ()) == "10.1.1.1"
    with pytest.raises(ValueError, match="has host bits set"):
        read_networks(["10.0.0.1/8"])
