"""The one way through: identify → decide → locate → decide → plan → admit → send → settle.

An ASGI application for everything below `/get/`. In the order in which they run:
- `Planner.plan` identifies (`_plan_for`, `_plan_sealed`), decides, locates and decides again (`_of_file`,
  `_of_bundle`), and plans (`_planned`).
- `_deliver` admits and sends; `_put_off` and `_deliver_whole` do, for a small content, without waiting for the records.
- `_Settling` settles.

Planning comes before admitting, for it is pure and tells whether anything will be delivered at all: a 304, a 416 or a
HEAD reserves nothing and leaves no transfer.
"""

from __future__ import annotations

import logging
from dataclasses import replace
from functools import partial
from typing import Any
from urllib.parse import unquote

from sqlalchemy.exc import SQLAlchemyError

from invio.core.archive.plan import ArchiveContent
from invio.core.http.digests import digest_field, wants_sha256
from invio.core.http.replies import METHODS, Reply
from invio.core.http.request_head import RequestHead
from invio.core.reasons import Refusal
from invio.delivery.archives.bundles import Bundles
from invio.delivery.planner import PREFIX, DeliveryServices, PlannedReply, Planner, Request, raw_target
from invio.delivery.problem_details import refusal_reply, unreachable
from invio.delivery.representation.digests import digest_of
from invio.delivery.sending.acknowledgement import Stopped
from invio.delivery.sending.eager import ensure_task
from invio.delivery.sending.errors import ClientGone, ProducerFailed, ReaderStuck, ReplyBroken
from invio.delivery.sending.senders import Sender
from invio.delivery.transfers.limits import Throttles
from invio.delivery.transfers.live import LiveTransfer, RequestProgress
from invio.delivery.transfers.settlement import Settlement
from invio.stores.store import StoreFault

log = logging.getLogger("invio.delivery")

# Bytes of a range, at most, that are read beforehand for its digest: what a page fetches and verifies piece by piece.
_DIGESTED = 4 * 1024 * 1024


class Delivery:
    """Every byte of a file, a range, an archive or a table leaves through here."""

    def __init__(self, way: DeliveryServices) -> None:
        self._way = way
        self._throttles = Throttles(way.limits, way.sharing)
        self._planner = Planner(way, self._throttles)
        self._watch = way.transfers.watch

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        """Answers one request: the stages of this module's first lines, in their order."""
        head = RequestHead(scope["method"], scope["headers"])
        client = scope.get("client")
        request = Request(
            head,
            scope.get("root_path", ""),
            raw_target(scope),
            client[0] if client else None,
        )
        sender = Sender(scope, receive, send, self._way.limits.idle)
        try:
            if not sender.on_own_server:  # which has checked that
                _check_host(head, scope)
            if head.method == "OPTIONS":
                await sender.send(self._options(head))
                return
            planned = await self._planner.plan(request, scope)
            if head.method == "GET" and planned.reply.status in (200, 206):
                if planned.handed_off is None:
                    asking = planned.asking
                    sender.limit(self._throttles.holding(asking.principal, asking.link, planned.terms))
                    if planned.reply.status == 200 and sender.sends_at_once(planned.reply):
                        self._put_off(sender, request, planned)
                        return
                await self._deliver(sender, request, planned)
                return
            reply = planned.reply
        except ClientGone:
            return
        except (Refusal, StoreFault, SQLAlchemyError) as error:
            reply = self._refused(request, _said(error))
        try:
            await sender.send(self._shared(head, reply))
        except ClientGone:
            pass

    def _refused(self, request: Request, refusal: Refusal) -> Reply:
        """Answers a refused request, and records the refusal in the history."""
        head = request.head
        if request.caller is not None and head.method == "GET":
            self._way.transfers.refused.note(request.caller, _said_address(request.path), request.link, refusal)
        pages = self._way.pages.below(request.root)
        signed_in = request.caller is not None and request.caller.recipient is not None
        target = request.root + request.target
        return refusal_reply(refusal, head.method, head.get(b"accept"), target, pages, signed_in=signed_in)

    def _options(self, head: RequestHead) -> Reply:
        """Answers OPTIONS (RFC 9110 §9.3.7), including a browser's preflight."""
        cross_origin = self._way.cross_origin
        fields = [(b"allow", METHODS.encode()), *cross_origin.preflight(head, METHODS)]
        vary = cross_origin.vary
        return Reply(204, [*fields, (b"vary", vary.encode())] if vary else fields, [], 0)

    def _shared(self, head: RequestHead, reply: Reply) -> Reply:
        """The reply with the headers another origin's page needs to read it."""
        cross_origin = self._way.cross_origin
        if not cross_origin.origins:
            return reply
        return replace(reply, headers=cross_origin.added_to(reply.headers, head))

    async def _deliver(self, sender: Sender, request: Request, planned: PlannedReply) -> None:
        way, head, asking, reply = self._way, request.head, planned.asking, planned.reply
        if reply.status == 206 and head.wants_digest and wants_sha256(head.get(b"want-content-digest")):
            reply = await _with_content_digest(reply)
        content = planned.representation.content
        archive = content if isinstance(content, ArchiveContent) else None
        live, segment = await way.transfers.admission.admit(
            asking,
            reply,
            meter=sender.meter,
            etag=planned.etag,
            size=planned.representation.size,
            earlier=planned.earlier,
            archive=archive,
        )
        live.estimate = planned.representation.estimate
        if planned.handed_off is not None:
            way.transfers.settlement.hand_off(live, segment)
            await sender.send(self._shared(head, planned.handed_off))
            return
        ended = _Settling(way.transfers.settlement, way.archives, live, segment)
        reply = self._shared(head, reply)
        try:
            if sender.hand_over(reply, self._watch, ended):
                return
        except ReplyBroken as broken:  # before anything was sent
            ended(broken)
            await sender.send(self._shared(head, _not_delivered(broken, asking.address, head)))
            return
        except Exception as error:
            ended(error)
            raise
        await self._send(sender, head, asking.address, reply, ended)

    def _put_off(self, sender: Sender, request: Request, planned: PlannedReply) -> None:
        """Queues a small, whole content; the journal's callback sends it once the transfer is durable."""
        on_admitted = partial(self._deliver_whole, sender, request, planned)
        sender.defer()
        try:
            self._way.transfers.admission.admit_whole(
                planned.asking, planned.reply, sender.meter, planned.etag, on_admitted
            )
        except BaseException:
            sender.resume()
            raise

    def _deliver_whole(  # noqa: PLR0917 - the last three are the admission's to give
        self,
        sender: Sender,
        request: Request,
        planned: PlannedReply,
        live: LiveTransfer,
        segment: RequestProgress,
        error: BaseException | None,
    ) -> None:
        """Sends a small, whole content whose transfer is now durable, or answers why it was refused."""
        head = request.head
        sender.resume()
        if error is not None:
            if not isinstance(error, Refusal):
                log.error("delivery.failed", exc_info=error)
                error = Refusal("unavailable", "the delivery failed; the operator's log says why")
            sender.spawn(sender.send(self._shared(head, self._refused(request, error))))
            return
        ended = _Settling(self._way.transfers.settlement, self._way.archives, live, segment)
        reply, address = self._shared(head, planned.reply), planned.asking.address
        try:
            if sender.send_at_once(reply):
                sender.end_on_arrival(self._watch, ended)
                return
        except ReplyBroken as broken:
            ended(broken)
            sender.spawn(sender.send(self._shared(head, _not_delivered(broken, address, head))))
            return
        sender.spawn(self._send(sender, head, address, reply, ended))

    async def _send(self, sender: Sender, head: RequestHead, address: str, reply: Reply, ended: _Settling) -> None:
        """Sends a reply to its end, and settles it once it has arrived."""
        await ensure_task()
        try:
            await sender.send(reply)
        except ReplyBroken as error:
            ended(error)
            if not sender.untouched:
                raise
            sender.limit(())
            await sender.send(self._shared(head, _not_delivered(error, address, head)))
        except Exception as error:
            ended(error)
            raise
        except BaseException:
            ended(Stopped("the service was stopped"))
            raise
        else:
            sender.end_on_arrival(self._watch, ended)

    def stop(self) -> None:
        """Breaks off deliveries that are under way, and records them. Call it in the event loop."""
        self._watch.stop()
        self._way.transfers.settlement.tell(everything=True)


class _Settling:
    """Settles a request when its answer has ended; small, for a thousand of them wait at once."""

    __slots__ = ("_archives", "_live", "_segment", "_settlement")

    def __init__(self, settlement: Settlement, archives: Bundles, live: LiveTransfer, segment: RequestProgress) -> None:
        self._settlement = settlement
        self._archives = archives
        self._live = live
        self._segment = segment

    def __call__(self, error: Exception | None) -> None:
        """The response was sent, or failed with `error`."""
        if error is None:
            self._settlement.settle(self._live, self._segment, None)
            return
        broken = str(error) or type(error).__name__
        if isinstance(error, ClientGone) and not isinstance(error, ReaderStuck):
            broken = "the client went away"
        elif not isinstance(error, (ClientGone, Stopped)):
            row = self._live.row
            said = {"address": row.address, "transfer": row.id, "reason": broken}
            log.warning("delivery.broken", extra={"fields": said})
        self._settlement.settle(self._live, self._segment, broken)
        if isinstance(error, ReplyBroken):
            self._archives.broken(self._live.row.address)


def _said(error: Refusal | StoreFault | SQLAlchemyError) -> Refusal:
    """The response to a request that could not be planned or recorded."""
    if isinstance(error, Refusal):
        return error
    if isinstance(error, StoreFault):
        return unreachable(error)
    log.error("records.failed", extra={"fields": {"error": str(error)[:500]}})
    return Refusal("unavailable", "the records cannot be used at present", retry_after=5)


def _not_delivered(error: ReplyBroken, address: str, head: RequestHead) -> Reply:
    """The response in place of a reply of which nothing was sent yet."""
    refusal = Refusal("changed", f"{address}: {error}")
    if isinstance(error, ProducerFailed):
        said = f"{address}: {error}" if error.word != "not-made" else f"{address} could not be made"
        refusal = Refusal(error.word, f"{said}; the operator's log says why", retry_after=5)
    return refusal_reply(refusal, head.method, head.get(b"accept"))


async def _with_content_digest(reply: Reply) -> Reply:
    """The reply with its Content-Digest, if its body is small enough to be read first."""
    if reply.length is None or reply.length > _DIGESTED:
        return reply
    value = digest_field(await digest_of(reply.parts))
    return replace(reply, headers=[*reply.headers, (b"content-digest", value)])


def _check_host(head: RequestHead, scope: Any) -> None:
    """RFC 9110 §7.2: an HTTP/1.1 request has exactly one Host. Raises Refusal (`bad-request`)."""
    host = head.get(b"host")
    if scope["http_version"] == "1.1" and (host is None or "," in host):
        raise Refusal("bad-request", "an HTTP/1.1 request needs exactly one Host field")


def _said_address(path: str) -> str:
    """The requested address as the history records it, well-formed or not."""
    return unquote(path[len(PREFIX) :], errors="backslashreplace")
