"""Asks a service over HTTP: so many requests at once and a second, with patience where that helps and none where it does not."""

from __future__ import annotations

import json
import logging
import random
import re
import ssl
import threading
import time
import weakref
from collections.abc import Callable, Coroutine, Mapping
from concurrent.futures import Future
from dataclasses import dataclass
from email.utils import parsedate_to_datetime
from functools import cache
from typing import TYPE_CHECKING, Any, NamedTuple, TypeVar
from urllib.parse import urljoin, urlsplit

from mivrat.core.base.errors import InputError
from mivrat.core.base.lazy_module import LazyModule
from mivrat.core.base.text import printable
from mivrat.core.models.service.agreement import LOOPBACK
from mivrat.core.models.service.description import Description
from mivrat.core.models.service.keys import Blanker

if TYPE_CHECKING:
    import asyncio

    import httpx
else:
    asyncio = LazyModule("asyncio")

_T = TypeVar("_T")
log = logging.getLogger(__name__)

# What may pass by itself is asked for again; what these say is an answer, and asking again would not change it.
PASSING = (429, 502, 503, 504)
# A refusal of what was sent says nothing of the next image.
OF_IMAGE = (400, 413, 415, 422)
# An answer of scores is far smaller; of what went wrong, only the beginning is read.
MOST_BODY, MOST_WORDS = 16_000_000, 20_000
# An answer longer than so many bytes is read beside the others; one of more lists and objects is not.
_LONG, MOST_PARTS = 200_000, 300_000
# A server that wants to be left alone for longer than this ends the run: it can be gone on with.
LONGEST_REST = 600.0


class Refused(Exception):
    """The server refused this request, in these words; asking again would not change it. ``of_image``: for what is in it."""

    def __init__(self, words: str, of_image: bool) -> None:
        super().__init__(words)
        self.of_image = of_image


class BadAnswer(Exception):
    """An answer came that does not say what was asked; the message tells what is wrong with it."""


class NoAnswer(Exception):
    """All tries were in vain; the message tells what the last one came to."""


class _Passing(Exception):
    """This try failed, another one may not. ``rest``: the seconds the server asks for."""

    def __init__(self, words: str, rest: float = 0.0) -> None:
        super().__init__(words)
        self.rest = rest


class Answered(NamedTuple):
    """A body with its headers (names in lower case, values without the key); ``blanker`` takes the key out of what it says."""

    body: bytes
    headers: Mapping[str, str]
    blanker: Blanker

    def json(self, length: int | None = None) -> Any:
        """What the body, or its beginning, says in JSON, without the key. Raises BadAnswer."""
        text = self.body[:length]
        if text.count(b"[") + text.count(b"{") > MOST_PARTS:
            raise BadAnswer(f"an answer of more than {MOST_PARTS:,} lists and objects".replace(",", " "))
        try:
            return self.blanker.all_of(json.loads(text))
        except (ValueError, RecursionError) as error:
            raise BadAnswer(f"an answer that is no JSON ({str(error)[:80]})") from None


@dataclass(frozen=True)
class RetryPolicy:
    """How often a request is tried, the first wait in seconds (it doubles), the longest; and how often an answer that came, but is
    not what was asked for, is asked for again."""

    tries: int = 6
    first: float = 0.5
    longest: float = 30.0
    bad_tries: int = 3


@dataclass
class RequestCounts:
    """What was asked of a service since the program began: requests sent, those that repeated an earlier one, and those refused
    or given up."""

    sent: int = 0
    again: int = 0
    failed: int = 0


@cache
def _loop() -> asyncio.AbstractEventLoop:
    """The one thread in which requests wait for their answers; a request that is called off lets go of its connection at once."""
    loop = asyncio.new_event_loop()
    threading.Thread(target=loop.run_forever, name="requests", daemon=True).start()
    # Their own logs tell of headers, and a header may hold a key.
    for name in ("httpx", "httpcore", "asyncio"):
        logging.getLogger(name).setLevel(logging.WARNING)
    return loop


@cache
def _trusted() -> ssl.SSLContext:
    """Whom certificates are believed from; read once, as that takes a moment."""
    import httpx

    return httpx.create_ssl_context()


class ServiceClient:
    """Requests to one service, within the limits of its description. Safe to use from several threads."""

    def __init__(self, description: Description, key: str = "", patience: RetryPolicy | None = None) -> None:
        import httpx

        self.description, self._blanker = description, Blanker(key)
        self.patience = patience or RetryPolicy()
        self.tally = RequestCounts()
        limits, loopback = description.limits, urlsplit(description.url).hostname in LOOPBACK
        headers = {"Accept-Encoding": "identity", "User-Agent": "mivrat", **description.request.headers}
        if description.key is not None and key:
            headers[description.key.header] = f"{description.key.scheme} {key}".strip()
        self._http = httpx.AsyncClient(
            headers=headers,
            timeout=httpx.Timeout(limits.timeout),
            limits=httpx.Limits(max_connections=limits.at_once, max_keepalive_connections=limits.at_once),
            follow_redirects=False,
            verify=_trusted() if description.encrypted else False,
            trust_env=not loopback,  # what goes to this machine goes through no proxy
        )
        self._at_once = asyncio.Semaphore(limits.at_once)
        self._next = self._rest_until = 0.0
        weakref.finalize(self, lambda http: asyncio.run_coroutine_threadsafe(http.aclose(), _loop()), self._http)

    def get(self, url: str, read: Callable[[Answered], _T], patience: RetryPolicy | None = None) -> _T:
        """What ``read`` makes of the answer to a GET; waits for it. Raises as ``post`` does."""
        return self._begin(self._patient("GET", url, None, {}, read, patience or self.patience)).result()

    def post(self, url: str, content: bytes, headers: Mapping[str, str], read: Callable[[Answered], _T]) -> Future[_T]:
        """Ask for what ``read`` makes of the answer. The future raises Refused, BadAnswer (as ``read`` may), NoAnswer, and InputError
        where nothing may be asked of this service at all. Cancelling it calls the request off."""
        return self._begin(self._patient("POST", url, content, headers, read, self.patience))

    def _begin(self, asked: Coroutine[Any, Any, _T]) -> Future[_T]:
        return asyncio.run_coroutine_threadsafe(asked, _loop())

    async def _patient(
        self,
        method: str,
        url: str,
        content: bytes | None,
        headers: Mapping[str, str],
        read: Callable[[Answered], _T],
        patience: RetryPolicy,
    ) -> _T:
        tries = bad = 0
        while True:
            async with self._at_once:
                await self._slot()
                self.tally.sent += 1
                self.tally.again += tries + bad > 0
                try:
                    answer = await self._within(method, url, content, headers)
                    # What takes a while to read must not keep other requests waiting.
                    return await asyncio.to_thread(read, answer) if len(answer.body) > _LONG else read(answer)
                except BadAnswer as error:
                    bad += 1
                    if bad >= patience.bad_tries:
                        self.tally.failed += 1
                        raise BadAnswer(self.told(str(error))) from None
                    rest = 0.0
                except _Passing as error:
                    tries += 1
                    if tries >= patience.tries:
                        self.tally.failed += 1
                        raise NoAnswer(f"no answer in {tries} tries; the last: {error}") from None
                    rest = error.rest
                except Refused:
                    self.tally.failed += 1
                    raise
            wait = min(patience.longest, patience.first * 2.0 ** (tries + bad - 1)) * random.uniform(0.5, 1.0)
            await asyncio.sleep(max(wait, rest))

    async def _slot(self) -> None:
        """Wait until one more request may go."""
        now = time.monotonic()
        at = max(now, self._next, self._rest_until)
        if self.description.limits.per_second:
            self._next = at + 1.0 / self.description.limits.per_second
        if at > now:
            await asyncio.sleep(at - now)

    async def _within(self, method: str, url: str, content: bytes | None, headers: Mapping[str, str]) -> Answered:
        """One try, the answer read to its end within the time allowed."""
        import httpx

        timeout = self.description.limits.timeout
        try:
            async with asyncio.timeout(timeout):
                return await self._followed(method, url, content, headers)
        except (TimeoutError, httpx.TimeoutException):
            raise _Passing(f"nothing within {timeout:g} s") from None
        except httpx.TransportError as error:
            if (refusal := _certificate(error)) is not None:
                raise InputError(
                    f"cannot show that it is who it says it is ({refusal})",
                    where=self.description.host,
                    hint="correct the address; where your organisation has its own certificates, name their file in SSL_CERT_FILE",
                ) from None
            if isinstance(error, httpx.LocalProtocolError | httpx.UnsupportedProtocol):
                raise self._unusable("the request cannot be sent as described") from None
            what = "the server does not answer" if isinstance(error, httpx.ConnectError) else "the connection was cut"
            raise _Passing(f"{what} ({type(error).__name__})") from None
        except (httpx.InvalidURL, UnicodeError, ValueError):
            raise self._unusable("the request cannot be sent as described") from None

    def _unusable(self, what: str) -> InputError:
        return InputError(what, where=self.description.url, hint="correct the service description")

    async def _followed(self, method: str, url: str, content: bytes | None, headers: Mapping[str, str]) -> Answered:
        for _ in range(4):
            async with self._http.stream(method, url, content=content, headers=dict(headers)) as answer:
                if not answer.is_redirect:
                    return await self._read(answer)
                target = urljoin(url, answer.headers.get("location", ""))
            to, own = urlsplit(target), urlsplit(url)
            if (to.scheme, to.hostname, to.port) != (own.scheme, own.hostname, own.port):
                raise InputError(
                    f"sends requests on to another host, {self.told(to.hostname or 'none')[:80]}; that was refused",
                    where=self.description.host,
                    hint="if that host is meant, give its address",
                )
            if method != "GET" and answer.status_code not in (307, 308):
                raise self._unusable(f"sends requests on to {self.told(to.path)[:120]}")
            url = target
        raise self._unusable("sends requests on and on")

    async def _read(self, answer: httpx.Response) -> Answered:
        """The body, unless the status says otherwise or it has no end."""
        status, good = answer.status_code, answer.status_code == 200
        most = MOST_BODY if good else MOST_WORDS
        body = bytearray()
        async for piece in answer.aiter_raw():
            body += piece
            if len(body) > most:
                if good:
                    raise BadAnswer(f"an answer without end: more than {MOST_BODY / 1e6:.0f} MB")
                break
        if good:
            if answer.headers.get("content-encoding", "identity") != "identity":
                raise BadAnswer("an answer that is packed, though none was asked for")
            said = {name.lower(): self._blanker(value) for name, value in answer.headers.items()}
            return Answered(bytes(body), said, self._blanker)
        words = self.told(f"{status} {_words(bytes(body), answer.reason_phrase)}".strip())
        if status in PASSING:
            rest = _retry_after(answer.headers.get("retry-after", ""))
            if rest > LONGEST_REST:
                raise InputError(
                    f"asks to be left alone for {rest / 60:.0f} minutes ({words})",
                    where=self.description.host,
                    hint="go on then; what was answered is kept",
                )
            if status in (429, 503) and rest:
                self._rest_until = max(self._rest_until, time.monotonic() + rest)
            raise _Passing(words, rest)
        raise Refused(words, status in OF_IMAGE)

    def shown(self, content: bytes) -> str:
        """A body as it may be shown: shortened, without the key."""
        try:
            return printable(_shortened(self._blanker(content.decode())))
        except UnicodeDecodeError:  # what can be read stands at its beginning
            head = re.match(rb"[\t\n\r\x20-\x7e]*", content)
            text = self._blanker(head[0].decode()) if head else ""
            return f"{_shortened(text)} … {len(content)} bytes in all"

    def told(self, text: str) -> str:
        """A server's words as they may be shown: short, on one line, without the key."""
        return printable(" ".join(self._blanker(text).split()))[:300]


def _shortened(text: str) -> str:
    return text if len(text) <= 1200 else f"{text[:700]} … {text[-400:]} ({len(text)} characters)"


def _words(body: bytes, otherwise: str) -> str:
    """What a server says of a failure."""
    text = body.decode("utf-8", "replace").strip()
    try:
        found = json.loads(text)
    except (ValueError, RecursionError):
        return text if text and not text.startswith("<") else otherwise
    if isinstance(found, dict):
        said = next((found[name] for name in ("error", "detail", "message") if found.get(name)), found)
        return said if isinstance(said, str) else json.dumps(said, ensure_ascii=False)
    return text


def _retry_after(said: str) -> float:
    """The seconds that ``Retry-After`` asks for: a number, or a date (RFC 9110); 0 where it says neither."""
    if said.isascii() and said.isdigit():
        return float(said[:9])
    try:
        return max(0.0, parsedate_to_datetime(said).timestamp() - time.time())
    except (ValueError, TypeError, OverflowError):
        return 0.0


def _certificate(error: BaseException | None) -> str | None:
    """Why a certificate was not believed, where that is what lies behind an error."""
    while error is not None:
        if isinstance(error, ssl.SSLError):
            return str(getattr(error, "verify_message", "") or error.reason or "TLS failed")[:120]
        error = error.__cause__ or error.__context__
    return None
