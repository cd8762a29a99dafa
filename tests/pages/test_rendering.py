"""Rendering: the operator's own templates and texts before those that ship, and what happens when they fail."""

from __future__ import annotations

import logging
from pathlib import Path

import pytest

from invio.core.errors import ConfigurationError
from invio.core.reasons import Refusal
from invio.delivery.problem_details import Pages
from invio.pages.rendering import Renderer

REFUSAL = Refusal("expired", "the link expired <yesterday>")


def refused(renderer: Renderer) -> str:
    return renderer.render("refusal.html", refusal=REFUSAL, reason=REFUSAL.reason, pages=Pages(), helps=False)


def test_what_comes_from_strangers_is_text() -> None:
    page = refused(Renderer())
    assert "&lt;yesterday&gt;" in page
    assert "<yesterday>" not in page


def test_an_operator_s_template_stands_before_the_shipped_one_and_may_extend_it(tmp_path: Path) -> None:
    (tmp_path / "base.html").write_text(
        "{% extends 'invio/base.html' %}{% block head %}<p>Brackwater</p>{% endblock %}"
    )
    (tmp_path / "style.css").write_text("h1 { color: teal } </style><script>")
    (tmp_path / "texts.toml").write_text('name = "Sound Survey"\nfooter = "Mind the shoals"\n')
    (tmp_path / "sign_in.html").write_text("{% extends 'base.html' %}{% block main %}Own form{% endblock %}")
    renderer = Renderer(tmp_path)
    page = renderer.render("sign_in.html")
    assert "<p>Brackwater</p>" in page
    assert "Own form" in page
    assert "Mind the shoals" in page
    assert "h1 { color: teal }" in page
    assert page.count("</style>") == page.count("<style>"), "a style sheet does not end its element"
    assert "--ground:" in page, "the style that ships is there, too"


def test_a_template_that_fails_is_told_in_the_log_and_the_shipped_one_is_shown(
    tmp_path: Path, caplog: pytest.LogCaptureFixture
) -> None:
    (tmp_path / "refusal.html").write_text("{{ refusal.no_such_thing.at_all() }}")
    with caplog.at_level(logging.ERROR):
        page = refused(Renderer(tmp_path))
    assert "The link has expired" in page
    assert [record.getMessage() for record in caplog.records] == ["pages.template-failed"]


@pytest.mark.parametrize(
    ("file", "content", "said"),
    [
        ("listing.html", "{% if %}", "listing.html:1: "),
        ("texts.toml", "name = ", "texts.toml: "),
        ("texts.toml", "nmae = 'x'", "there is no text 'nmae' (did you mean 'name'?)"),
        ("texts.toml", "name = 5", "name: expected a text in quotes"),
    ],
)
def test_a_file_that_cannot_be_used_is_told_at_the_start(tmp_path: Path, file: str, content: str, said: str) -> None:
    (tmp_path / file).write_text(content)
    with pytest.raises(ConfigurationError) as fault:
        Renderer(tmp_path)
    assert said in str(fault.value)
    assert str(tmp_path) in str(fault.value)


def test_a_folder_that_is_not_there_is_told(tmp_path: Path) -> None:
    with pytest.raises(ConfigurationError, match="is not a folder"):
        Renderer(tmp_path / "none")


def test_people_are_sent_to_pages_of_the_operator_s_own_with_where_they_wanted_to_go() -> None:
    quota, expired = Refusal("quota", "3 files a day"), REFUSAL
    here = Pages(base="https://files.example.org", quota="https://shop.example.org/more?from=files")
    assert here.elsewhere(quota, "/get/a?b=c", helps=False) == (
        "https://shop.example.org/more?from=files&then=https%3A%2F%2Ffiles.example.org%2Fget%2Fa%3Fb%3Dc&reason=quota"
    )
    assert here.elsewhere(expired, "/get/a", helps=False) is None
    own = Pages(refusal="/sorry", sign_in="https://id.example.org/", base="https://files.example.org")
    assert own.elsewhere(quota, "/get/a", helps=False) == "/sorry?then=%2Fget%2Fa&reason=quota"
    wanted = own.elsewhere(Refusal("sign-in", ""), "/get/a", helps=True)
    assert wanted == "https://id.example.org/?then=https%3A%2F%2Ffiles.example.org%2Fget%2Fa"
    assert Pages().below("/deep").elsewhere(Refusal("sign-in", ""), "/deep/get/a", helps=True) == (
        "/deep/sign-in?then=%2Fdeep%2Fget%2Fa"
    )
