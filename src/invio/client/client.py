"""The client library: a service's addresses as Python calls.

with Client("http://127.0.0.1:8480", token="…") as client:
    client.fetch("charts/approach/north-channel.pdf", folder=Path("."))
"""

from __future__ import annotations

import json
import os
import time
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Any, BinaryIO
from urllib.parse import quote

import httpx

from invio.client.errors import Refused, ServiceUnreachable
from invio.client.fetching import Fetched, Report, fetch, raise_for_refusal, stream
from invio.client.partial import Existing
from invio.client.patience import USUAL_PATIENCE, Attempts, Patience
from invio.client.putting import put
from invio.client.webhooks import WebhookCalls
from invio.core.addresses import BadAddress, parse_address, parse_file_address, quoted
from invio.core.networks import is_host_name

_AGENT = {"user-agent": "invio-client/1"}
# A proxy cannot reach what is on this machine.
_OF_THIS_MACHINE = ("all://localhost", "all://127.0.0.1", "all://[::1]")


def _fault_of(url: str) -> str | None:
    """What is wrong with a URL; None: nothing."""
    try:
        host = httpx.URL(url).host
    except httpx.InvalidURL as error:
        return str(error)
    return None if is_host_name(host) else f"{host!r} is no name of a host"


class Client(WebhookCalls):
    """Talks to one service, as one recipient or as nobody in particular.

    Every call raises `Refused` when the service says no, and `ServiceUnreachable` when none
    answers. Answers are given as the API's JSON, described at `/api/docs`. Proxies and certificates are the
    environment's: `HTTPS_PROXY`, `NO_PROXY`, `SSL_CERT_FILE`.
    """

    def __init__(self, url: str, token: str | None = None, patience: Patience = USUAL_PATIENCE) -> None:
        """`patience` says how long to wait for answers, and how often to try again.

        Raises:
            ValueError: the URL is none of a service, or the token holds what none can.
        """
        if not url.startswith(("http://", "https://")):
            raise ValueError(f"{url!r} is no URL of a service; it begins with https:// or http://")
        if (fault := _fault_of(url)) is not None:
            raise ValueError(f"{url!r} is no URL of a service: {fault}")
        headers = dict(_AGENT)
        if token:
            if not token.isascii() or not token.isprintable() or " " in token:
                raise ValueError("the token holds characters that no token has; copy it again")
            headers["authorization"] = f"Bearer {token}"
        self.url = url.rstrip("/")
        self._patience = patience
        self._http = _http(headers, patience)

    def __enter__(self) -> Client:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Closes the connections; the client is not to be used afterwards."""
        self._http.close()

    def files(
        self, folder: str | None = None, *, search: str | None = None, sort: str | None = None
    ) -> Iterator[dict[str, Any]]:
        """What the caller may see in a folder (`store/folder/`), or the stores; fetched page by page.

        `search`: what is below it with this in its name or description. `sort`: by `name`, `size` or `modified`, with
        `-` before it the other way round.
        """
        after: str | None = None
        while True:
            asked = {"in": folder, "after": after, "search": search, "sort": sort}
            page = self._json("GET", "/api/files", params={k: v for k, v in asked.items() if v is not None})
            yield from page["files"]
            after = page["next"]
            if after is None:
                return

    def facts(self, address: str) -> dict[str, Any]:
        """What is known of one file. Raises BadAddress for what is no address."""
        return self._json("GET", _file_path(address))

    def fetch(
        self,
        source: str,
        *,
        target: str | os.PathLike[str] | None = None,
        folder: str | os.PathLike[str] = ".",
        report: Report | None = None,
        version: int | None = None,
        rendition: str | None = None,
        existing: Existing = "refuse",
    ) -> Fetched:
        """Downloads an address or a URL to the file `target`, or into `folder`; resumes what is there of it.

        `version` is the one of an address that is wanted, where its store keeps versions; else the newest; and
        `rendition` the one of an image, by its name in the service's settings. A file that is there already is
        refused, replaced (`overwrite`) or left (`skip`), as `existing` says.

        Raises:
            FileExistsError: there is such a file already, or another download of it is under way.
            BadAddress, OSError.
        """
        named = None if target is None else Path(target)
        return fetch(
            self._http_for(source),
            self._which(source, version, rendition),
            named,
            Path(folder),
            report=report,
            existing=existing,
            patience=self._patience,
        )

    def stream(
        self,
        source: str,
        file: BinaryIO,
        *,
        report: Report | None = None,
        version: int | None = None,
        rendition: str | None = None,
    ) -> Fetched:
        """Downloads an address or a URL into an open file, which need not be one on a disk; otherwise as `fetch`.

        Raises:
            FileChanged: what was written is not the file as it is now.
            BadAddress, OSError.
        """
        url = self._which(source, version, rendition)
        return stream(self._http_for(source), url, file, report=report, patience=self._patience)

    def _which(self, source: str, version: int | None, rendition: str | None) -> str:
        wanted = {"version": version, "rendition": rendition}
        query = "&".join(f"{name}={quote(str(value), safe='')}" for name, value in wanted.items() if value is not None)
        return self.url_of(source) + (f"?{query}" if query else "")

    def put(
        self,
        source: str | os.PathLike[str] | BinaryIO | bytes,
        address: str,
        *,
        media_type: str | None = None,
        description: str | None = None,
        only_new: bool = False,
        replaces: str | None = None,
        report: Report | None = None,
    ) -> dict[str, Any]:
        """Adds a file, or a new version of it; gives its facts, and in `new` whether there was none before.

        `source` is a path, an open file, or the content itself. Of a file that grows meanwhile, what it held at first
        is sent. `description` is a short text on what it is about, where its store keeps one.

        `only_new`: refused (`precondition`) where there is one. `replaces` is the entity tag of the content
        that it is to take the place of, and of no other.
        """
        given = {"content-type": media_type, "if-none-match": "*" if only_new else None, "if-match": replaces}
        headers = {name: value for name, value in given.items() if value is not None}
        url = self.url + _file_path(address)
        if description is not None:
            url += f"?description={quote(description, safe='')}"
        return put(self._http, url, source, headers, report=report, patience=self._patience)

    def remove(self, address: str, version: int | None = None) -> None:
        """Removes a file with all its versions, or one of them."""
        self._json("DELETE", _file_path(address), params={} if version is None else {"version": version})

    def renew(self, address: str, version: int) -> dict[str, Any]:
        """Makes an earlier version the newest again, as a further one; gives the file's facts."""
        path = f"/api/versions/{quoted(parse_file_address(address))}"
        return self._json("POST", path, params={"version": version})

    def versions(self, address: str) -> Iterator[dict[str, Any]]:
        """Versions of a file, the newest first."""
        before: int | None = None
        while True:
            asked = {} if before is None else {"before": before}
            page = self._json("GET", f"/api/versions/{quoted(parse_file_address(address))}", params=asked)
            yield from page["versions"]
            before = page["next"]
            if before is None:
                return

    def url_of(self, source: str) -> str:
        """The URL of an address; a URL stays one. Raises BadAddress."""
        if source.startswith(("http://", "https://")):
            if (fault := _fault_of(source)) is not None:
                raise BadAddress(f"{source[:200]!r} is no URL: {fault}")
            return source
        if "://" in source:
            raise BadAddress(f"{source!r}: only http:// and https:// can be fetched, or an address as store/path")
        return f"{self.url}/get/{quoted(parse_file_address(source))}"

    def bundle(
        self,
        files: Iterable[str],
        name: str | None = None,
        *,
        prepared: Callable[[int, int], None] | None = None,
        **options: Any,
    ) -> dict[str, Any]:
        """Makes an archive of a selection; what is given back has its `url`, exact `size` and `entries`.

        `options` are the API's: `format`, `folders`, `sums`, `on_problem`, `rendition`. `prepared` is called while the
        archive is planned, with the files that are in it and the bytes that were read for it so far.
        """
        selection = [str(parse_address(text)) for text in files]
        # What is not asked for is not sent: a service of an earlier version may not know it.
        wishes = {key: value for key, value in {"name": name, **options}.items() if value is not None}
        asked = {"files": selection, **wishes, "wait": prepared is None}
        made = self._json("POST", "/api/bundles", json=asked)
        pause = 0.02
        while prepared is not None and made["preparing"] is not None:
            prepared(made["preparing"]["files"], made["preparing"]["read"])
            time.sleep(pause)
            pause = min(0.25, 2 * pause)
            made = self._json("GET", f"/api/bundles/{made['id']}")
        made["url"] = self.url_of(made["address"])  # whatever path the service is offered below
        return made

    def bundle_entries(self, bundle_id: str, limit: int = 10_000) -> list[dict[str, Any]]:
        """The first entries of an archive: each one's `address`, `size`, and where it `ends` in the archive."""
        entries: list[dict[str, Any]] = []
        after: int | None = 0
        while after is not None and len(entries) < limit:
            page = self._json("GET", f"/api/bundles/{bundle_id}/entries", params={"after": after})
            entries += page["entries"]
            after = page["next"]
        return entries

    def make_link(self, address: str, **says: Any) -> dict[str, Any]:
        """Makes the service seal a link; `says` are the format's names (`in` and `as` through `**{}`)."""
        return self._json("POST", "/api/links", json={"address": address, **says})

    def links(self, maker: str | None = None) -> Iterator[dict[str, Any]]:
        """Links that one made, or for administrators those of everybody or of `maker`; the newest first."""
        before: float | None = None
        while True:
            asked: dict[str, Any] = {"before": before, "maker": maker}
            page = self._json("GET", "/api/links", params={k: v for k, v in asked.items() if v is not None})
            yield from page["links"]
            before = page["next"]
            if before is None:
                return

    def revoke_link(self, link_id: str) -> dict[str, Any]:
        """Revokes every link of this id."""
        return self._json("DELETE", f"/api/links/{quote(link_id, safe='')}")

    def revoke_links_of(self, maker: str) -> dict[str, Any]:
        """Revokes every link that a recipient had the service make; `revoked` of the answer is how many."""
        return self._json("DELETE", "/api/links", params={"maker": maker})

    def history(self, **filters: Any) -> Iterator[str]:
        """The history, line by line; `format` is `jsonl` or `csv`, the rest are the API's filters."""
        asked = {name: value for name, value in filters.items() if value is not None}
        try:
            with self._http.stream("GET", f"{self.url}/api/history", params=asked) as response:
                raise_for_refusal(response)
                yield from _lines(response)
        except httpx.TransportError as error:
            raise ServiceUnreachable(f"the history from {self.url} broke off: {error}") from None

    def audit(self, event: str | None = None, by: str | None = None) -> Iterator[dict[str, Any]]:
        """Sign-ins and changes of who may have what, the newest first; of an event or a kind (`token`), by somebody."""
        asked: dict[str, Any] = {name: value for name, value in (("event", event), ("by", by)) if value is not None}
        while True:
            page = self._json("GET", "/api/audit", params=asked)
            yield from page["lines"]
            if page["next"] is None:
                return
            asked["before"] = page["next"]

    def recipients(self) -> list[dict[str, Any]]:
        """Everybody, with what is known of their tokens."""
        listed: list[dict[str, Any]] = self._json("GET", "/api/recipients")["recipients"]
        return listed

    def save_recipient(
        self, recipient: str, name: str | None = None, groups: Iterable[str] = (), *, only_new: bool = False
    ) -> dict[str, Any]:
        """Adds a recipient, or replaces the name and groups of an existing one.

        Raises:
            Refused: `precondition`, with `only_new`, when there is such a recipient already.
        """
        headers = {"if-none-match": "*"} if only_new else {}
        return self._json("PUT", _path(recipient), json={"name": name, "groups": list(groups)}, headers=headers)

    def change_recipient(
        self,
        recipient: str,
        *,
        name: str | None = None,
        add_groups: Iterable[str] = (),
        remove_groups: Iterable[str] = (),
    ) -> dict[str, Any]:
        """Changes a recipient's name, or single groups; what is not named stays. Raises Refused (`missing`)."""
        asked = {"name": name, "add_groups": list(add_groups), "remove_groups": list(remove_groups)}
        return self._json("PATCH", _path(recipient), json=asked)

    def remove_recipient(self, recipient: str) -> None:
        """Removes a recipient with their personal data; what they obtained stays in the history, by the id."""
        self._json("DELETE", _path(recipient))

    def quotas(self, recipient: str | None = None) -> list[dict[str, Any]]:
        """Quotas and how much of each is used: the caller's own; for administrators, those of `recipient`."""
        asked = {} if recipient is None else {"recipient": recipient}
        listed: list[dict[str, Any]] = self._json("GET", "/api/quotas", params=asked)["quotas"]
        return listed

    def grant_quota(self, recipient: str, rule: str, *, files: int = 0, size: int = 0) -> list[dict[str, Any]]:
        """Grants a recipient more files and bytes under a rule's quota, for one of its periods."""
        asked = {"rule": rule, "files": files, "bytes": size}
        path = f"/api/quotas/{quote(recipient, safe='')}/grants"
        listed: list[dict[str, Any]] = self._json("POST", path, json=asked)["quotas"]
        return listed

    def reset_quota(self, recipient: str, rule: str) -> list[dict[str, Any]]:
        """Resets a recipient's quota of a rule."""
        path = f"/api/quotas/{quote(recipient, safe='')}"
        listed: list[dict[str, Any]] = self._json("DELETE", path, params={"rule": rule})["quotas"]
        return listed

    def add_token(self, recipient: str, label: str = "", seconds: int | None = None) -> dict[str, Any]:
        """Makes a token, which the answer tells for the only time. It holds for `seconds`, or without an end."""
        return self._json("POST", f"{_path(recipient)}/tokens", json={"label": label, "seconds": seconds})

    def end_token(self, recipient: str, token_id: str) -> None:
        """Ends a token by its id."""
        self._json("DELETE", f"{_path(recipient)}/tokens/{quote(token_id, safe='')}")

    def set_password(self, recipient: str, password: str | None, current: str | None = None) -> None:
        """Sets a password for the console, or takes it away; `current` is the one before it.

        Administrators need not give that.
        """
        self._json("PUT", f"{_path(recipient)}/password", json={"password": password, "current": current})

    def disable(self, recipient: str, *, disabled: bool = True) -> dict[str, Any]:
        """Disables or enables a recipient, with their tokens and sessions."""
        return self._json("POST", f"{_path(recipient)}/{'disable' if disabled else 'enable'}")

    def why(
        self, address: str, recipient: str | None = None, action: str = "read", version: int | None = None
    ) -> dict[str, Any]:
        """The decision on one question, and its reasons; `recipient` may be `anyone`."""
        asked = {"address": address, "action": action, "as": recipient, "version": version}
        return self._json("GET", "/api/decisions", params={k: v for k, v in asked.items() if v is not None})

    def transfers(self, limit: int = 50) -> list[dict[str, Any]]:
        """Transfers, newest first."""
        listed: list[dict[str, Any]] = self._json("GET", "/api/transfers", params={"limit": limit})["transfers"]
        return listed

    def transfer(self, transfer: str) -> dict[str, Any]:
        """All that is known of one transfer, by its id. Raises Refused (`missing`)."""
        return self._json("GET", f"/api/transfers/{quote(transfer, safe='')}")

    def transfer_requests(self, transfer: str) -> list[dict[str, Any]]:
        """The requests of a transfer that have ended, one by one. Raises Refused (`missing`)."""
        told = self._json("GET", f"/api/transfers/{quote(transfer, safe='')}/requests")
        requests: list[dict[str, Any]] = told["requests"]
        return requests

    def receipt(self, transfer: str) -> str:
        """A signed statement that a transfer arrived, as a compact JWS. Raises Refused (`not-arrived`, `missing`)."""
        return self._answer("GET", f"/api/transfers/{quote(transfer, safe='')}/receipt").text

    def public_keys(self) -> dict[str, Any]:
        """The keys that prove receipts, as a JWK Set."""
        return self._json("GET", "/api/public-keys")

    def follow(self) -> Iterator[dict[str, Any]]:
        """Yields a transfer each time one changes, for as long as the service runs."""
        try:
            with self._http.stream("GET", f"{self.url}/api/transfers/stream", timeout=None) as response:
                raise_for_refusal(response)
                for line in _lines(response):
                    if line.startswith("data: "):
                        yield json.loads(line[6:])
        except httpx.TransportError as error:
            raise ServiceUnreachable(f"the stream from {self.url} ended: {error}") from None

    def _http_for(self, source: str) -> httpx.Client:
        """A token is for this service alone; another's address gets none."""
        if "://" in source and not source.startswith(self.url + "/"):
            return _http(_AGENT, self._patience)
        return self._http

    def _json(self, method: str, path: str, **asked: Any) -> dict[str, Any]:
        return _object(self._answer(method, path, **asked))

    def _answer(self, method: str, path: str, **asked: Any) -> httpx.Response:
        attempts = Attempts(self._patience, self.url)
        while True:
            try:
                response = self._http.request(method, self.url + path, **asked)
                raise_for_refusal(response)
                return response
            except httpx.InvalidURL as error:
                raise ServiceUnreachable(f"{self.url} is no URL of a service: {error}") from None
            except httpx.TransportError as error:
                if method != "GET" and not isinstance(error, httpx.ConnectError):
                    raise ServiceUnreachable(f"the connection to {self.url} was lost: {error}") from None
                attempts.lost(error, begun=False)
            except Refused as refused:
                if method != "GET":  # what was refused may have been done in part
                    raise
                attempts.busy(refused)


def _http(headers: dict[str, str], patience: Patience) -> httpx.Client:
    """Connections through the environment's proxies, but to this machine straight."""
    return httpx.Client(headers=headers, timeout=patience.timeouts(), mounts=dict.fromkeys(_OF_THIS_MACHINE))


def _object(response: httpx.Response) -> dict[str, Any]:
    """The JSON of an answer. Raises Refused, when what answers is no such service."""
    try:
        answer = response.json() if response.content else {}
    except (ValueError, RecursionError):
        answer = None
    if not isinstance(answer, dict):
        host = f"{response.url.scheme}://{response.url.netloc.decode()}"
        said = f"what answers at {host} is not this service; check --url or INVIO_URL"
        raise Refused(response.status_code, "unknown", said, [])
    return answer


def _lines(response: httpx.Response) -> Iterator[str]:
    r"""The lines of an answer, which `\n` alone ends: texts in them may hold U+2028 and its like."""
    rest = b""
    for piece in response.iter_bytes():
        *lines, rest = (rest + piece).split(b"\n")
        for line in lines:
            yield line.decode("utf-8", "replace").removesuffix("\r")
    if rest:
        yield rest.decode("utf-8", "replace")


def _file_path(address: str) -> str:
    return f"/api/files/{quoted(parse_file_address(address))}"


def _path(recipient: str) -> str:
    return f"/api/recipients/{quote(recipient, safe='')}"
