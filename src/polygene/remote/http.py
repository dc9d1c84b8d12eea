"""Asking a server over HTTP: bounded in time and tries, with words for what goes wrong.

Proxies, certificates and ``.netrc`` are those of the environment (httpx). Redirects are followed
within HTTP only. What is secret in a URL is in no message.
"""

from __future__ import annotations

import functools
import os
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any
from urllib.parse import urlsplit, urlunsplit

from polygene import __version__
from polygene.classes import NamedTuple
from polygene.errors import FileError

SCHEMES = ("http://", "https://")
CONNECT, WAIT = 10.0, 60.0  # seconds: to connect, and for any byte
TRIES = 4
LONGEST_PAUSE = 20.0  # seconds between tries
MOST_JSON = 256 << 20  # bytes of one answer that is read whole
BLOCK = 1 << 20
AGENT = f"polygene/{__version__}"
_AGAIN = frozenset({429, 500, 502, 503, 504})
# Environment variables: what is sent as a bearer token, and to which host alone.
TOKEN, TOKEN_HOST = "POLYGENE_TOKEN", "POLYGENE_TOKEN_HOST"


_variables: ContextVar[Mapping[str, str] | None] = ContextVar("polygene_tokens", default=None)


@contextmanager
def asking_with(variables: Mapping[str, str]) -> Iterator[None]:
    """Say which environment variable has the token for each host, by its name in small letters."""
    token = _variables.set(variables)
    try:
        yield
    finally:
        _variables.reset(token)


def _token_for(host: str | None) -> str | None:
    """Return the token that a host gets: that of the variable named for it, and no other host's."""
    named = (_variables.get() or {}).get(host or "")
    if named is not None and os.environ.get(named):
        return os.environ[named]
    return os.environ.get(TOKEN) if host and host == os.environ.get(TOKEN_HOST) else None


class OfflineError(FileError):
    """A server cannot be reached at all."""


class RefusedError(FileError):
    """A server does not do what it is asked for (HTTP 400 to 499)."""


class Answer(NamedTuple):
    """What came: status, headers (names in small letters), the whole body, the address it came from."""

    status: int
    headers: Mapping[str, str]
    body: bytes
    url: str


def is_remote(text: str) -> bool:
    """Whether an address is one of the web."""
    return text.lower().startswith(SCHEMES)


def shown(url: str) -> str:
    """Return an address without name, password and whatever in its query is a key."""
    parts = urlsplit(url)
    host = parts.netloc.rpartition("@")[2]
    query = "&".join(
        f"{name}={'…' if _is_secret(name) else value}" if eq else name
        for name, eq, value in (own.partition("=") for own in parts.query.split("&"))
    )
    return urlunsplit(parts._replace(netloc=host, query=query))


def _is_secret(name: str) -> bool:
    folded = name.lower()
    return any(
        word in folded for word in ("key", "token", "secret", "sig", "password", "credential")
    )


@functools.cache
def _client() -> Any:
    import httpx

    names = os.environ.get("NETRC") or os.path.join(os.path.expanduser("~"), ".netrc")
    return httpx.Client(
        auth=httpx.NetRCAuth(names) if os.path.isfile(names) else None,
        timeout=httpx.Timeout(WAIT, connect=CONNECT),
        follow_redirects=True,
        max_redirects=5,
        headers={"User-Agent": AGENT},
        limits=httpx.Limits(max_connections=4, keepalive_expiry=30),
    )


def close() -> None:
    """Close the connections that are kept for the next request."""
    if _client.cache_info().currsize:
        _client().close()
        _client.cache_clear()


def get(url: str, headers: Mapping[str, str] | None = None, most: int | None = MOST_JSON) -> Answer:
    """Fetch a document whole; 304 and 206 are answers like 200.

    Raises
    ------
    OfflineError
        If the server cannot be reached.
    FileError
        If it refuses, or sends what it should not.
    """
    with streamed(url, headers) as (answer, blocks):
        body = bytearray()
        for block in blocks:
            body += block
            if most is None and answer.status != 206:
                break  # the whole of a file, of which but a part was asked for
            if most is not None and len(body) > most:
                raise FileError(
                    f"{shown(url)} sends more than {most:,} bytes, which is too much at once"
                )
    return answer._replace(body=bytes(body))


@contextmanager
def streamed(
    url: str, headers: Mapping[str, str] | None = None
) -> Iterator[tuple[Answer, Iterator[bytes]]]:
    """Ask for a document; give the answer without its body, and the body in blocks.

    Only until the first byte is it tried again: what breaks off later is an error.
    """
    import httpx

    given = dict(headers or {})
    if "Range" in given:
        given["Accept-Encoding"] = "identity"  # else ranges were of the compressed bytes
    token = _token_for(urlsplit(url).hostname)
    if token:
        given["Authorization"] = f"Bearer {token}"
    response = _asked(url, given)
    try:
        place = str(response.url)
        if not is_remote(place):
            raise FileError(f"{shown(url)} leads to {shown(place)}, which is nothing of the web")
        _check_status(url, response, given)
        found = {k.lower(): v for k, v in response.headers.items()}
        try:
            yield Answer(response.status_code, found, b"", place), response.iter_bytes(BLOCK)
        except (httpx.TransportError, httpx.DecodingError) as err:
            raise FileError(
                f"{shown(url)} broke off ({_reason(err)}); try again, or fetch it by other means"
            ) from err
    finally:
        response.close()


def _asked(url: str, headers: Mapping[str, str]) -> Any:
    """Return a response, tried again after pauses where the server is busy or the connection cut."""
    import httpx

    client = _client()
    for k in range(TRIES):
        pause = min(0.5 * 2**k, LONGEST_PAUSE)
        try:
            response = client.send(client.build_request("GET", url, headers=headers), stream=True)
        except (httpx.InvalidURL, httpx.UnsupportedProtocol) as err:
            raise FileError(f"{shown(url)} is no address of the web ({err})") from err
        except httpx.TooManyRedirects as err:
            raise FileError(f"{shown(url)} leads round in a circle") from err
        except (httpx.ConnectError, httpx.ConnectTimeout) as err:
            if "CERTIFICATE" in str(err).upper():
                raise FileError(
                    f"{shown(url)}: its certificate does not hold ({_reason(err)}); SSL_CERT_FILE "
                    "names the certificates that are trusted"
                ) from err
            raise OfflineError(f"{shown(url)} cannot be reached: {_reason(err)}") from err
        except httpx.TransportError as err:
            if k + 1 == TRIES:
                raise FileError(
                    f"{shown(url)} does not answer: {_reason(err)}, {TRIES} times; try later"
                ) from err
            time.sleep(pause)
            continue
        if response.status_code not in _AGAIN or k + 1 == TRIES:
            return response
        response.close()
        time.sleep(_pause_of(response.headers.get("retry-after", ""), pause))
    raise AssertionError


def _pause_of(text: str, otherwise: float) -> float:
    return min(float(text), LONGEST_PAUSE) if text.isdigit() else otherwise


def _reason(err: Exception) -> str:
    text = str(err).strip() or type(err).__name__
    return (
        "it takes too long"
        if "timed out" in text.lower() or "Timeout" in type(err).__name__
        else text
    )


def _check_status(url: str, response: Any, asked: Mapping[str, str]) -> None:
    status = response.status_code
    is_asked = {
        200: True,
        206: "Range" in asked,
        304: "If-None-Match" in asked or "If-Modified-Since" in asked,
    }
    if is_asked.get(status):
        return
    who = (
        f"put name and password into .netrc, or a token into {TOKEN} and its host into {TOKEN_HOST}, "
        "or name host and variable in polygene.toml (tokens)"
    )
    what = {
        401: f"wants to know who asks; {who}",
        403: f"does not let everybody in; {who}",
        404: "is not there; look at the address",
        410: "is not there any more",
        416: "has no such part; it was changed meanwhile",
    }.get(status, "is refused")
    said = ""
    if 400 <= status < 500 and status not in (401, 403, 404):
        said = _said(response)
    kind = RefusedError if 400 <= status < 500 else FileError
    raise kind(f"{shown(url)} {what} (HTTP {status}){said}")


def _said(response: Any) -> str:
    """Return what a server says of an error, if it says it plainly (OGC 17-069r4, 7.5; RFC 9457)."""
    import orjson

    try:
        told = orjson.loads(response.read()[:100_000])
        text = told.get("description") or told.get("detail") or told.get("title")
    except Exception:  # whatever it sent, the status has been told
        return ""
    return f": {str(text)[:300]}" if text else ""
