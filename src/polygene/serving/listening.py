"""A service behind a port of this machine: Python's own HTTP server, for reading only."""

from __future__ import annotations

import gzip
from collections.abc import Callable
from dataclasses import replace
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, urlsplit

from polygene import __version__
from polygene.serving.app import Answer, Request, Service, error

_ZIPPED = '-gzip"'  # what the tag of a compressed body ends with
COMPRESSED = 10_000  # bytes from which on a body is compressed if the client takes that


def server_for(
    service: Service, host: str, port: int, tell: Callable[[str], None]
) -> ThreadingHTTPServer:
    """Return a server that listens at a port; 0 takes a free one. ``tell`` hears of each request.

    Raises
    ------
    OSError
        If the port is taken or may not be.
    """

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"
        server_version = f"Polygene/{__version__}"
        timeout = 60

        def do_GET(self) -> None:
            self._give(has_body=True)

        def do_HEAD(self) -> None:
            self._give(has_body=False)

        def _refuse(self) -> None:
            self.close_connection = True  # what may follow as a body is not read
            found = error(405, f"{self.command} is not answered: layers are for reading, with GET")
            self._send(replace(found, headers={**found.headers, "Allow": "GET, HEAD"}), True)

        do_POST = do_PUT = do_PATCH = do_DELETE = do_OPTIONS = _refuse

        def _give(self, has_body: bool) -> None:
            split = urlsplit(self.path)
            # A page of somebody's, whose name leads here, must not read what is served (rebinding).
            if urlsplit(f"//{self.headers.get('Host') or host}").hostname not in (
                host,
                "localhost",
            ):
                self._send(Answer(403, b"this service is for this machine alone\n"), has_body)
                return
            own = self.headers.get("Host") or f"{host}:{server.server_port}"
            accept = self.headers.get("Accept", "")
            request = Request(
                split.path,
                parse_qs(split.query, keep_blank_values=True),
                f"http://{own}",
                "text/html" in accept and "json" not in accept.partition("text/html")[0],
                self.headers.get("If-None-Match", "").replace(_ZIPPED, '"'),
            )
            try:
                found = service.answer(request)
            except Exception as err:
                found = error(500, f"a fault of polygene, please report it: {err!r}")
            self._send(found, has_body)

        def _send(self, found: Answer, has_body: bool) -> None:
            body, headers = found.body, dict(found.headers)
            if found.status == 304 and _ZIPPED in self.headers.get("If-None-Match", ""):
                headers["ETag"] = f"{headers['ETag'][:-1]}{_ZIPPED}"
            if len(body) > COMPRESSED and "gzip" in self.headers.get("Accept-Encoding", ""):
                body, headers["Content-Encoding"] = gzip.compress(body, 1), "gzip"
                if "ETag" in headers:  # other bytes, so another tag (RFC 9110, 8.8.3.3)
                    headers["ETag"] = f"{headers['ETag'][:-1]}{_ZIPPED}"
            self.send_response(found.status)
            for name, value in headers.items():
                self.send_header(name, value)
            if found.status != 304:
                self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            if has_body and found.status != 304:
                self.wfile.write(body)

        def log_message(self, form: str, *given: Any) -> None:
            tell(form % given)

    server = ThreadingHTTPServer((host, port), Handler)
    return server
