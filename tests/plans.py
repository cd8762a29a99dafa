"""Archives as their plans give them, without anybody who obtains them."""

from __future__ import annotations

import io
import zipfile

from invio.core.http.replies import Part, Slice
from invio.delivery.archives.plan import Plan


def read(plan: Plan) -> bytes:
    return b"".join(map(data, plan.content.cut(0, plan.content.size)))


def data(part: Part) -> bytes:
    if isinstance(part, Slice):
        return part.source.read(part.offset, part.length)
    assert isinstance(part, bytes)
    return part


def compressed(plan: Plan) -> list[bool]:
    entries = zipfile.ZipFile(io.BytesIO(read(plan))).infolist()
    return [entry.compress_type == zipfile.ZIP_DEFLATED for entry in entries]
