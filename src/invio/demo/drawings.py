"""Pictures and papers of the demo: chart sheets and notices, drawn from a seed."""

from __future__ import annotations

import math
import random
import time
from pathlib import Path

from PIL import Image, ImageDraw, ImageFont

_LAND, _SHOAL, _MID, _DEEP = (226, 211, 170), (176, 212, 222), (206, 228, 234), (240, 246, 247)
_INK = (60, 72, 84)


def chart_sheet(title: str, seed: int, size: tuple[int, int] = (1200, 850)) -> Image.Image:
    """A chart: depth zones around an invented coast, soundings in metres, a frame and a title."""
    chance = random.Random(seed)
    waves = [(chance.uniform(0.5, 3.2), chance.uniform(0.5, 3.2), chance.uniform(0, 6.3)) for _ in range(6)]

    def depth(x: float, y: float) -> float:
        """Metres; below zero is land. `x` and `y` run from 0 to 1."""
        rough = sum(math.sin(a * 6 * x + b * 5 * y + phase) for a, b, phase in waves)
        return 26 * y - 7 + 3.1 * rough

    small = Image.new("RGB", (size[0] // 8, size[1] // 8))
    for row in range(small.height):
        for column in range(small.width):
            metres = depth(column / small.width, row / small.height)
            colour = _LAND if metres < 0 else _SHOAL if metres < 5 else _MID if metres < 12 else _DEEP
            small.putpixel((column, row), colour)
    sheet = small.resize(size, Image.Resampling.BICUBIC)
    draw = ImageDraw.Draw(sheet)
    font, large = ImageFont.load_default(13), ImageFont.load_default(30)
    for _ in range(260):
        x, y = chance.random(), chance.random()
        metres = depth(x, y)
        if metres > 0.5:
            draw.text((x * size[0], y * size[1]), f"{metres:.1f}", fill=_INK, font=font)
    draw.rectangle((12, 12, size[0] - 13, size[1] - 13), outline=_INK, width=3)
    draw.rectangle((40, 40, 620, 128), fill=(255, 253, 247), outline=_INK)
    draw.text((58, 50), title, fill=_INK, font=large)
    draw.text((58, 98), "Brackwater Sound Survey · depths in metres · NOT FOR NAVIGATION", fill=_INK, font=font)
    return sheet


def notice_page(title: str, lines: list[str]) -> Image.Image:
    """A page of A4 at 100 dots an inch."""
    page = Image.new("RGB", (827, 1169), (255, 255, 255))
    draw = ImageDraw.Draw(page)
    draw.text((80, 80), "BRACKWATER SOUND SURVEY", fill=_INK, font=ImageFont.load_default(16))
    draw.text((80, 118), title, fill=(20, 30, 40), font=ImageFont.load_default(30))
    draw.line((80, 168, 747, 168), fill=_INK, width=2)
    for place, line in enumerate(lines):
        draw.text((80, 200 + 30 * place), line, fill=(30, 38, 46), font=ImageFont.load_default(18))
    return page


def save(image: Image.Image, path: Path) -> None:
    """Writes a PNG or, by the name, a PDF that is the same at every start."""
    if path.suffix == ".pdf":
        moment = time.struct_time((2026, 1, 15, 12, 0, 0, 3, 15, 0))
        image.save(path, "PDF", resolution=100, creationDate=moment, modDate=moment, producer="Brackwater Sound Survey")
    else:
        image.save(path)
