"""Renditions of images, through a running service: what comes back, and images that are none, or hostile."""

from __future__ import annotations

import io
import json
import random
import struct
import time
import zipfile
import zlib
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor

import pytest
from PIL import Image, ImageCms

from invio.core.figures import size_text
from tests.running import SETTINGS, Service, make_folder, until

Start = Callable[..., Service]
RENDITIONS = """
[renditions.thumb]
width = 32
height = 24
fit = "cover"
format = "webp"

[renditions.page]
width = 100
height = 100

[renditions.square]
width = 16
height = 16
fit = "exact"
format = "jpeg"

[images]
pixels = 4_000_000
seconds = 4
"""


def picture(width: int = 200, height: int = 100, form: str = "PNG", mode: str = "RGB", **options: object) -> bytes:
    """Red on the left, blue on the right."""
    image = Image.new("RGB", (width, height), (255, 0, 0))
    image.paste((0, 0, 255), (width // 2, 0, width, height))
    held = io.BytesIO()
    image.convert(mode).save(held, form, **options)
    return held.getvalue()


def noise(number: int) -> bytes:
    held = io.BytesIO()
    Image.frombytes("RGB", (80, 80), random.Random(number).randbytes(80 * 80 * 3)).save(held, "PNG")
    return held.getvalue()


def turned() -> bytes:
    """A photograph that lies on its side, and says so; with where it was taken."""
    exif = Image.Exif()
    exif[0x0112] = 6  # to be turned clockwise by a quarter
    exif[0x010E] = "PRIVATE description"
    exif.get_ifd(0x8825)[1] = "N"
    return picture(form="JPEG", exif=exif, quality=95)


def bomb() -> bytes:
    """A PNG of 60,000 × 60,000 pixels in few bytes."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    head = struct.pack(">IIBBBBB", 60_000, 60_000, 8, 2, 0, 0, 0)
    return (
        b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(bytes(10_000))) + chunk(b"IEND", b"")
    )


FILES = {
    "wide.png": picture(),
    "small.png": picture(20, 10),
    "photo.jpg": turned(),
    "clear.png": picture(mode="RGBA"),
    "grey.tif": picture(form="TIFF", mode="L"),
    "print.jpg": picture(form="JPEG", mode="CMYK"),
    "coloured.png": picture(icc_profile=ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()),
    "moving.gif": picture(form="GIF"),
    "bomb.png": bomb(),
    "text.txt": b"no image",
    "lying.png": b"\x89PNG\r\n\x1a\n" + b"no image" * 50,
    "empty.png": b"",
    "vector.svg": b"<svg xmlns='http://www.w3.org/2000/svg'/>",
    "large.png": picture(2001, 2000),
    **{f"cut.{form.lower()}": picture(400, 400, form=form)[:-200] for form in ("PNG", "JPEG", "WEBP", "TIFF", "BMP")},
}
BAD = [
    "bomb.png",
    "text.txt",
    "lying.png",
    "empty.png",
    "vector.svg",
    "large.png",
    *(n for n in FILES if n[:3] == "cut"),
]


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    folder = tmp_path_factory.mktemp("images") / "service"
    make_folder(folder, FILES, settings=SETTINGS + RENDITIONS)
    service = Service.start(folder)
    yield service
    assert service.stop() == 0


def rendition(service: Service, name: str, which: str) -> Image.Image:
    reply = service.get(f"/get/files/{name}?rendition={which}&as=inline")
    assert reply.status_code == 200, reply.text
    assert int(reply.headers["content-length"]) == len(reply.content)
    return Image.open(io.BytesIO(reply.content))


def test_a_rendition_has_its_own_size_type_tag_and_name(service: Service) -> None:
    whole = service.get("/get/files/wide.png")
    reply = service.get("/get/files/wide.png?rendition=thumb")
    assert reply.headers["content-type"] == "image/webp"
    assert 'filename="wide-thumb.webp"' in reply.headers["content-disposition"]
    assert reply.headers["etag"] != whole.headers["etag"]
    image = Image.open(io.BytesIO(reply.content))
    assert image.size == (32, 24)
    again = service.get("/get/files/wide.png?rendition=thumb", if_none_match=reply.headers["etag"])
    assert again.status_code == 304
    part = service.get("/get/files/wide.png?rendition=thumb", range="bytes=5-14")
    assert (part.status_code, part.content) == (206, reply.content[5:15])
    assert service.get("/get/files/wide.png").content == whole.content, "the image itself is what it was"


@pytest.mark.parametrize(
    ("name", "which", "size", "form"),
    [
        ("wide.png", "page", (100, 50), "PNG"), ("small.png", "page", (20, 10), "PNG"),
        ("photo.jpg", "page", (50, 100), "JPEG"), ("wide.png", "square", (16, 16), "JPEG"),
        ("grey.tif", "page", (100, 50), "PNG"), ("moving.gif", "page", (100, 50), "PNG"),
        ("print.jpg", "thumb", (32, 24), "WEBP"), ("coloured.png", "page", (100, 50), "PNG"),
    ],
)  # fmt: skip
def test_it_is_as_large_as_was_asked_and_of_its_format(
    service: Service, name: str, which: str, size: tuple[int, int], form: str
) -> None:
    image = rendition(service, name, which)
    assert (image.size, image.format) == (size, form)


def test_colours_stay_and_what_is_private_goes(service: Service) -> None:
    for name in ("wide.png", "coloured.png", "print.jpg"):
        image = rendition(service, name, "page").convert("RGB")
        left, right = image.getpixel((10, 25)), image.getpixel((90, 25))
        assert isinstance(left, tuple)
        assert isinstance(right, tuple)
        assert left[0] > 200 > 90 > left[2], name
        assert right[2] > 200 > 90 > right[0], name
    photo = rendition(service, "photo.jpg", "page")
    assert not photo.getexif()
    assert b"PRIVATE" not in service.get("/get/files/photo.jpg?rendition=page").content
    top = photo.convert("RGB").getpixel((25, 10))
    assert isinstance(top, tuple)
    assert top[0] > 200, "it was turned: what was on the left is at the top"
    assert rendition(service, "clear.png", "page").mode == "RGBA"
    assert rendition(service, "clear.png", "square").mode == "RGB"


@pytest.mark.parametrize("name", BAD)
def test_what_is_no_image_or_too_much_of_one_is_refused_and_nothing_else_suffers(service: Service, name: str) -> None:
    began = time.monotonic()
    reply = service.get(f"/get/files/{name}?rendition=page")
    assert (reply.status_code, reply.json()["reason"]) == (422, "not-an-image")
    assert time.monotonic() - began < 6
    assert service.get(f"/get/files/{name}").status_code == 200, "the file itself is delivered as ever"
    assert service.get("/get/files/wide.png?rendition=page").status_code == 200


def test_a_rendition_that_nobody_named_is_none(service: Service) -> None:
    assert service.get("/get/files/wide.png?rendition=huge").status_code == 404
    assert service.get("/get/files/wide.png?rendition=../x").status_code == 400


def test_many_who_ask_at_once_get_the_same(service: Service) -> None:
    (service.folder / "files" / "new.png").write_bytes(picture(300, 200))
    with ThreadPoolExecutor(30) as pool:
        replies = list(pool.map(lambda _: service.get("/get/files/new.png?rendition=thumb"), range(60)))
    assert {reply.status_code for reply in replies} == {200}
    assert len({reply.content for reply in replies}) == 1
    before = replies[0].content
    (service.folder / "files" / "new.png").write_bytes(picture(300, 200).replace(b"IDAT", b"IDAT") + b" ")
    (service.folder / "files" / "new.png").write_bytes(picture(200, 300, mode="L"))
    assert service.get("/get/files/new.png?rendition=thumb").content != before, "another image, another rendition"


def test_a_link_fixes_its_rendition(service: Service) -> None:
    link = service.link("files/wide.png", {"rendition": "thumb"}, until=int(time.time()) + 60)
    assert Image.open(io.BytesIO(service.get(link).content)).size == (32, 24)
    assert service.get(link.replace("rendition=thumb", "rendition=page")).json()["reason"] == "bad-seal"
    assert service.get(link.replace("rendition=thumb&", "")).json()["reason"] == "bad-seal"
    with service.client("ann") as client:
        asked = {"address": "files/wide.png", "rendition": "huge"}
        assert client.post("/api/links", json=asked).status_code == 400
        made = client.post("/api/links", json={**asked, "rendition": "page"}).json()
    assert Image.open(io.BytesIO(service.get(made["target"]).content)).size == (100, 50)


def test_its_pickup_page_shows_what_will_be_had(service: Service) -> None:
    link = service.link("files/grey.tif", {"rendition": "thumb", "name": "for you.webp"})
    for target, name in ((link, "for you.webp"), ("/get/files/grey.tif?rendition=thumb", "grey-thumb.webp")):
        page = service.get(target.replace("/get/", "/pickup/"))
        size = int(service.get(target).headers["content-length"])
        assert page.status_code == 200
        for shown in (name, "image/webp", size_text(size), "<dd>thumb</dd>", 'class="preview"'):
            assert shown in page.text, shown
        assert "As an image of another size" not in page.text
    for target in (service.link("files/text.txt", {"rendition": "thumb"}), "/get/files/text.txt?rendition=thumb"):
        page = service.get(target.replace("/get/", "/pickup/"))
        assert page.status_code == service.get(target).status_code == 422
        assert "There is no rendition of this file" in page.text
    assert service.get("/pickup/files/wide.png?rendition=huge").status_code == 404


def test_an_archive_has_renditions_of_its_images(service: Service) -> None:
    files = ["files/wide.png", "files/photo.jpg", "files/text.txt"]
    with service.client("ann") as client:
        made = client.post("/api/bundles", json={"files": files, "rendition": "thumb"}).json()
        archive = zipfile.ZipFile(io.BytesIO(client.get(made["url"]).content))
        assert archive.namelist() == ["wide-thumb.webp", "photo-thumb.webp", "text.txt"]
        assert Image.open(archive.open("photo-thumb.webp")).size == (32, 24)
        until(lambda: service.transfers()[0]["state"] == "complete")
        assert service.transfers()[0]["rendition"] == "thumb", "it is not the images that were had"
        assert client.post("/api/bundles", json={"files": files, "rendition": "huge"}).status_code == 404
        bad = {"files": ["files/wide.png", "files/bomb.png"], "rendition": "thumb"}
        refused = client.post("/api/bundles", json=bad)
        assert (refused.status_code, refused.json()["reason"]) == (403, "bad-selection")
        left = client.post("/api/bundles", json={**bad, "on_problem": "leave-out"}).json()
        assert [(one["address"], one["reason"]) for one in left["left_out"]] == [("files/bomb.png", "not-an-image")]


def test_a_bundle_of_more_renditions_than_are_kept_is_had_whole_and_from_anywhere(start: Start) -> None:
    images = {f"{number:02}.png": noise(number) for number in range(8)}
    small = "\n[renditions.small]\nwidth = 40\nheight = 40\n\n[images]\ncache_bytes = 20_000\n"
    service = start(files=images, settings=SETTINGS + small)
    with service.client() as client:
        made = client.post("/api/bundles", json={"files": ["files/"], "rendition": "small"}).json()
        whole = client.get(made["url"]).content
        part = client.get(made["url"], headers={"range": "bytes=1000-"})
    assert sum(path.stat().st_size for path in (service.folder / "data" / "renditions").iterdir()) <= 20_000
    assert len(whole) == made["size"] > 30_000
    archive = zipfile.ZipFile(io.BytesIO(whole))
    assert archive.testzip() is None
    assert [Image.open(archive.open(name)).size for name in archive.namelist()] == [(40, 40)] * len(images)
    assert (part.status_code, part.content) == (206, whole[1000:])


def test_rights_are_those_of_the_image(service: Service) -> None:
    rules = service.folder / "rules.toml"
    before = rules.read_text()
    rules.write_text(before + '\n[[rule]]\nname = "no"\neffect = "deny"\nwho = ["anyone"]\nwhat = ["files/small.png"]\n'
                     'actions = ["read"]\n')  # fmt: skip
    try:
        end = time.monotonic() + 10
        while service.get("/get/files/small.png", "bob").status_code == 200:
            assert time.monotonic() < end
            time.sleep(0.05)
        assert service.get("/get/files/small.png?rendition=page", "bob").status_code == 403
    finally:
        rules.write_text(before)


def test_they_are_kept_and_what_was_damaged_is_made_again(service: Service) -> None:
    first = service.get("/get/files/wide.png?rendition=thumb").content
    folder = service.folder / "data" / "renditions"
    kept = [path for path in folder.iterdir() if path.read_bytes() == first]
    assert kept
    for path in kept:
        assert path.stat().st_mode & 0o777 == 0o600
        path.write_bytes(first[:-10])
    assert service.get("/get/files/wide.png?rendition=thumb").content == first
    names = [file["renditions"] for file in service.get("/api/files?in=files/").json()["files"]
             if file["name"] == "wide.png"]  # fmt: skip
    assert names == [["thumb", "page", "square"]]
    assert json.loads(json.dumps(names))
