"""A process that makes renditions, one after the other: `python -m invio.producers.imaging`.

An image is somebody's own bytes, and what decodes it has had holes. So it is decoded here: with a limit on memory and
on pixels, by few formats, in a process that the service ends when it takes too long. It gets a request (JSON), the
image and the file to write as two descriptors over a socket, and answers with one line of JSON.
"""

from __future__ import annotations

import io
import json
import os
import resource
import socket
import sys
from contextlib import suppress
from typing import Any

from invio.core.renditions import FORMATS, Rendition, geometry

# The formats that are decoded: each further one widens the attack surface.
_READS = ("JPEG", "PNG", "WEBP", "GIF", "TIFF", "BMP")
_OWN = {"JPEG": "jpeg", "PNG": "png", "WEBP": "webp"}
_REQUEST = 4096  # bytes
_MEMORY = 3 << 30  # bytes of addresses that this process may use
_WHITE = (255, 255, 255)
_NOT_AN_IMAGE = "it is no image that can be read, or a damaged one"


class NotAnImage(Exception):
    """The bytes are no image of which a rendition can be made. The message may be shown to anybody."""


def make(source: int, target: int, rendition: Rendition, pixels: int) -> str:
    """Reads an image from a descriptor and writes the rendition to another; gives its format.

    Raises:
        NotAnImage: it is none, is damaged, or has more than `pixels`.
    """
    from PIL import Image, ImageFile, ImageOps

    Image.MAX_IMAGE_PIXELS = None  # looked at below, before anything is decoded
    ImageFile.LOAD_TRUNCATED_IMAGES = False
    with os.fdopen(os.dup(source), "rb") as file:
        file.seek(0)
        try:
            image: Any = Image.open(file, formats=_READS)
            width, height = image.size
            if width * height > pixels:
                raise NotAnImage(f"it has {width} × {height} pixels; at most {pixels} are read")
            form = rendition.format or _OWN.get(str(image.format), "png")
            profile = image.info.get("icc_profile")
            # A JPEG is decoded at a fraction of its size where that is enough for what is wanted.
            image.draft(image.mode if image.mode == "L" else "RGB", (rendition.width * 2, rendition.height * 2))
            image.load()
            image = ImageOps.exif_transpose(image)
        except NotAnImage:
            raise
        except Exception as error:  # decoders raise any error
            raise NotAnImage(_NOT_AN_IMAGE) from error
    image = _in_plain_colours(image, profile)
    shown = geometry(rendition, *image.size)
    image = image.resize(shown.size, Image.Resampling.LANCZOS, box=shown.box)
    if form == "jpeg" and image.mode in ("RGBA", "LA"):
        ground = Image.new("RGB", image.size, _WHITE)
        ground.paste(image.convert("RGB"), mask=image.getchannel("A"))
        image = ground
    image.info = {}  # position, camera and comments are private
    held = io.BytesIO()
    options: dict[str, Any] = {"quality": rendition.quality} if form != "png" else {"optimize": False}
    image.save(held, form.upper(), **options)
    with os.fdopen(os.dup(target), "wb") as out:
        out.write(held.getbuffer())
    return form


def _in_plain_colours(image: Any, profile: bytes | None) -> Any:
    """The image in sRGB, with its transparency: what every program shows alike without a profile."""
    from PIL import ImageCms

    transparent = image.mode in ("RGBA", "LA", "PA") or "transparency" in image.info
    if profile:
        with suppress(Exception):  # an unreadable colour profile is ignored
            base = image if image.mode in ("RGB", "L", "CMYK", "RGBA") else image.convert("RGB")
            mode = "RGBA" if base.mode == "RGBA" else "RGB"
            image = ImageCms.profileToProfile(
                base, ImageCms.ImageCmsProfile(io.BytesIO(profile)), ImageCms.createProfile("sRGB"), outputMode=mode
            )
    if transparent:
        return image.convert("RGBA")
    return image if image.mode in ("RGB", "L") else image.convert("RGB")


def main(descriptor: int) -> None:
    """Answers requests on a socket until it is closed."""
    resource.setrlimit(resource.RLIMIT_AS, (_MEMORY, _MEMORY))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    with suppress(OSError):
        os.nice(5)  # others deliver meanwhile
    from PIL import Image  # before the first request, for it takes a while

    Image.init()
    with socket.socket(fileno=descriptor) as asked:
        while True:
            text, files, _, _ = socket.recv_fds(asked, _REQUEST, 2)
            if not text:
                return
            answer: dict[str, str]
            try:
                given = json.loads(text)
                form = make(files[0], files[1], Rendition(**given["rendition"]), given["pixels"])
                answer = {"media_type": FORMATS[form], "format": form}
            except NotAnImage as error:
                answer = {"refused": str(error)}
            except MemoryError:
                answer = {"refused": "it takes more memory than an image may"}
            except OSError as error:
                answer = {"failed": str(error), "errno": str(error.errno or 0)}
            finally:
                for one in files:
                    os.close(one)
            asked.sendall(json.dumps(answer).encode() + b"\n")


if __name__ == "__main__":
    main(int(sys.argv[1]))
