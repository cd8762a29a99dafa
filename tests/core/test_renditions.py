"""Which part of an image a rendition shows, and how large: against what the words mean."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from invio.core.renditions import Rendition, geometry

SIDE = st.integers(1, 20_000)


@given(SIDE, SIDE, SIDE, SIDE)
def test_contain_fits_into_the_size_and_keeps_the_shape(width: int, height: int, wide: int, high: int) -> None:
    shown = geometry(Rendition(wide, high, "contain"), width, height)
    assert shown.box == (0, 0, width, height)
    assert shown.size[0] <= min(wide, width)
    assert shown.size[1] <= min(high, height)
    assert shown.size[0] in (wide, width) or shown.size[1] in (high, height) or 1 in shown.size
    for ours, theirs in zip(shown.size, (width, height), strict=True):
        scale = min(1, wide / width, high / height)
        assert abs(ours - max(1, theirs * scale)) <= 0.5


@given(SIDE, SIDE, SIDE, SIDE)
def test_cover_fills_the_size_with_the_middle_and_keeps_the_shape(
    width: int, height: int, wide: int, high: int
) -> None:
    shown = geometry(Rendition(wide, high, "cover"), width, height)
    left, top, right, bottom = shown.box
    assert shown.size == (wide, high)
    assert -1e-6 <= left <= right <= width + 1e-6
    assert -1e-6 <= top <= bottom <= height + 1e-6
    assert abs((right - left) * high - (bottom - top) * wide) < 1e-6 * max(width, height) * max(wide, high)
    assert abs(left - (width - right)) < 1e-6 * width
    assert abs(top - (height - bottom)) < 1e-6 * height
    assert min(left, top) < 1e-6 * max(width, height), "nothing is cut off in both directions"


def test_exact_is_stretched_and_marks_tell_renditions_apart() -> None:
    assert geometry(Rendition(30, 40, "exact"), 7, 5).size == (30, 40)
    marks = {
        one.mark for one in (Rendition(1, 2), Rendition(2, 1), Rendition(1, 2, "cover"), Rendition(1, 2, quality=9))
    }
    assert len(marks) == 4
