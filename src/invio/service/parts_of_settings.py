"""Single parts of a service, each of what the settings say of it; they are put together in `invio.service.assembly`."""

from __future__ import annotations

from importlib.util import find_spec
from urllib.parse import urlsplit

import sqlalchemy as sa

from invio.core.http.cors import CrossOrigin
from invio.core.http.forwarded import read_networks
from invio.core.renditions import Rendition
from invio.delivery.access.catalogue import Catalogue
from invio.delivery.archives.bundles import Bundles
from invio.delivery.offload import Front
from invio.delivery.problem_details import SIGN_IN_PAGE, Pages
from invio.delivery.representation.renditions import Renditions
from invio.delivery.transfers.limits import BundleLimits
from invio.pages.rendering import SHIPPED, Renderer
from invio.producers.image_workers import ImageWorkers
from invio.producers.room import Room
from invio.service.settings import UNIX, Settings
from invio.service.store_settings import DirectorySettings
from invio.service.streams import Streams
from invio.stores.disk_cache import DiskCache
from invio.workers.shared import Sharing


def pages_of(settings: Settings) -> Pages:
    """The pages that refusals are shown on.

    Raises:
        ConfigurationError: something of the operator's own cannot be used.
    """
    given = settings.pages
    renderer = SHIPPED if given.folder is None else Renderer(settings.path(given.folder))
    return Pages(
        sign_in=given.sign_in or SIGN_IN_PAGE,
        contact=settings.service.contact,
        contact_link=settings.service.contact_link,
        quota=given.quota,
        refusal=given.refusal,
        base=_origin_of(settings.service.public_url or ""),
        renderer=renderer,
    )


def _origin_of(url: str) -> str:
    parts = urlsplit(url)
    return f"{parts.scheme}://{parts.netloc}" if parts.netloc else ""


def streams_of(settings: Settings, sharing: Sharing | None) -> Streams:
    """How many streams there may be."""
    given = settings.limits
    return Streams(given.streams, given.recipient_streams, given.network_streams, sharing)


def renditions_of(settings: Settings, *, alone: bool) -> Renditions:
    """What makes and keeps renditions. Raises BadSettings."""
    given = settings.images
    if settings.renditions and find_spec("PIL") is None:
        raise settings.fault(("renditions",), "renditions need a package; pip install 'invio[renditions]'")
    cache = DiskCache(settings.path(settings.service.data) / "renditions", given.cache_bytes)
    if alone:
        cache.sweep()
    named = {name: Rendition(**one.model_dump()) for name, one in settings.renditions.items()}
    return Renditions(named, ImageWorkers(given.processes, given.seconds, given.pixels), cache, given.bytes)


def bundles_of(
    settings: Settings, catalogue: Catalogue, engine: sa.Engine, renditions: Renditions, room: Room, *, alone: bool
) -> Bundles:
    """What plans and keeps archives; `room` is for files that are made."""
    given = settings.bundles
    limits = BundleLimits(given.entries, given.bytes, given.seconds, wait_for=given.wait_for)
    packing = None
    if given.cache_bytes:
        from invio.delivery.archives.deflate_cache import DeflateCache

        packing = DeflateCache(settings.path(settings.service.data) / "deflated", given.cache_bytes)
        if alone:
            packing.sweep()
    urls = None
    if given.origins:
        from invio.stores.urls import Urls  # the library for it is loaded where there are such files

        urls = Urls(given.origins)
    return Bundles(catalogue, engine, limits, packing, renditions=renditions, urls=urls, room=room)


def cross_origin_of(settings: Settings) -> CrossOrigin:
    """Which other origins may read what."""
    given = settings.cors
    return CrossOrigin(frozenset(given.origins), given.credentials, given.seconds, given.resource_policy)


def front_of(settings: Settings) -> Front:
    """What a front server may be told to do."""
    given = settings.front
    prefixes = {
        name: store.front
        for name, store in settings.stores.items()
        if isinstance(store, DirectorySettings) and store.front is not None
    }
    secret = "" if given.secret is None else given.secret.get_secret_value()
    return Front(
        read_networks([text for text in given.networks if text != UNIX]),
        UNIX in given.networks,
        given.redirect_header,
        given.rate_header,
        prefixes,
        given.secret_header,
        secret,
        given.redirect_paths == "plain",
    )
