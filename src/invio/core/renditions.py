"""Renditions: which size and which part of an image one asks for. Pure arithmetic; no image is touched here."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from hashlib import blake2b

# What is made of the same image with the same rendition may differ from one of these to the next.
MAKER = "1"
FORMATS = {"jpeg": "image/jpeg", "png": "image/png", "webp": "image/webp"}
ENDINGS = {"jpeg": "jpg", "png": "png", "webp": "webp"}


@dataclass(frozen=True, slots=True)
class Rendition:
    """One entry of the settings. Sizes in pixels.

    `fit`: `cover` fills the size and cuts off what is beyond it; `contain` is as large as fits into it, and never
    larger than the original; `exact` is stretched. `format` None: the original's, or PNG where that is none of ours.
    `quality` of 1 to 100 is for JPEG and WebP.
    """

    width: int
    height: int
    fit: str = "contain"
    format: str | None = None
    quality: int = 80

    @property
    def mark(self) -> str:
        """What differs as soon as the result may."""
        return blake2b(repr((MAKER, sorted(asdict(self).items()))).encode(), digest_size=8).hexdigest()


@dataclass(frozen=True, slots=True)
class Geometry:
    """What is cut out of an image (left, top, right, bottom, of its own pixels), and the size that becomes."""

    box: tuple[float, float, float, float]
    size: tuple[int, int]


def geometry(rendition: Rendition, width: int, height: int) -> Geometry:
    """The part of an image of `width` × `height` that a rendition shows, and its size."""
    wanted_width, wanted_height = rendition.width, rendition.height
    whole = (0.0, 0.0, float(width), float(height))
    if rendition.fit == "exact":
        return Geometry(whole, (wanted_width, wanted_height))
    if rendition.fit == "contain":
        scale = min(1.0, wanted_width / width, wanted_height / height)
        return Geometry(whole, (max(1, round(width * scale)), max(1, round(height * scale))))
    scale = max(wanted_width / width, wanted_height / height)
    shown_width, shown_height = wanted_width / scale, wanted_height / scale
    left, top = (width - shown_width) / 2, (height - shown_height) / 2
    return Geometry((left, top, left + shown_width, top + shown_height), (wanted_width, wanted_height))
