"""What a refusal carries, of each kind."""

from __future__ import annotations

from invio.core.reasons import QuotaRefused, RangeRefused, Refusal, RulesRefused


def test_each_kind_of_refusal_carries_its_own_and_no_other() -> None:
    plain = Refusal("busy", "too much at once", retry_after=7)
    assert (plain.reason.status, str(plain), plain.detail, plain.retry_after) == (
        503,
        "too much at once",
        "too much at once",
        7,
    )
    assert (plain.size, plain.text, plain.link, plain.reasons, plain.decided_by, plain.allow, plain.names) == (
        None, "", "", (), None, "", (),
    )  # fmt: skip
    ranged = RangeRefused("the file has 10 bytes", 10)
    assert (ranged.reason.status, str(ranged), ranged.size, ranged.retry_after) == (416, "the file has 10 bytes", 10, 1)
    quota = QuotaRefused("3 files a day", text="Ask the desk", link="mailto:desk@example.org", retry_after=60)
    assert (quota.reason.word, str(quota), quota.retry_after) == ("quota", "3 files a day", 60)
    assert (quota.text, quota.link) == ("Ask the desk", "mailto:desk@example.org")
    ruled = RulesRefused("not-allowed", "the rules do not let you", decided_by="rule 2", reasons=(1, 2))
    assert (ruled.reason.status, str(ruled)) == (403, "the rules do not let you")
    assert (ruled.decided_by, ruled.reasons) == ("rule 2", (1, 2))
