"""A web server on loopback: files of a folder, in parts too, and mischief where that is told."""

from __future__ import annotations

import contextlib
import hashlib
import re
import threading
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

from polygene.remote import http


@dataclass
class Web:
    """What a server was asked, and what it is to do.

    asked : each request with its status and how many bytes it got
    tricks : path → what answers instead: the handler is given, and its own answer as a function
    """

    folder: Path
    address: str = ""
    asked: list[tuple[str, int, int]] = field(default_factory=list)
    tricks: dict[str, Callable] = field(default_factory=dict)
    ranges: bool = True

    @property
    def n_bytes(self) -> int:
        return sum(n for _, _, n in self.asked)


def send(
    handler: BaseHTTPRequestHandler, web: Web, status: int, body: bytes = b"", **headers: str
) -> None:
    """Answer a request; names of headers with ``_`` for ``-``."""
    handler.send_response(status)
    given = {name.replace("_", "-"): value for name, value in headers.items()}
    for name, value in given.items():
        handler.send_header(name, value)
    if status != 304 and "Content-Length" not in given:
        handler.send_header("Content-Length", str(len(body)))
    handler.end_headers()
    if status != 304:
        handler.wfile.write(body)
    web.asked.append((handler.path, status, len(body)))


def file_of(handler: BaseHTTPRequestHandler, web: Web) -> None:
    place = web.folder / handler.path.partition("?")[0].lstrip("/")
    if not place.is_file():
        send(handler, web, 404)
        return
    body = place.read_bytes()
    tag = f'"{hashlib.sha256(body).hexdigest()[:16]}"'
    if handler.headers.get("If-None-Match") == tag:
        send(handler, web, 304, ETag=tag)
        return
    asked = re.fullmatch(r"bytes=(\d+)-(\d+)", handler.headers.get("Range", ""))
    if asked and web.ranges:
        first, last = int(asked[1]), min(int(asked[2]), len(body) - 1)
        told = f"bytes {first}-{last}/{len(body)}"
        send(handler, web, 206, body[first : last + 1], ETag=tag, Content_Range=told)
        return
    send(handler, web, 200, body, ETag=tag)


@contextlib.contextmanager
def serving(folder: Path) -> Iterator[Web]:
    """Serve a folder while this lasts."""
    web = Web(folder)

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def do_GET(self) -> None:
            trick = web.tricks.get(self.path.partition("?")[0])
            with contextlib.suppress(BrokenPipeError, ConnectionResetError):
                if trick is not None:
                    trick(self, web)
                else:
                    file_of(self, web)

        def log_message(self, *_: object) -> None:
            pass

    class Server(ThreadingHTTPServer):
        def handle_error(self, *_: object) -> None:
            """Clients that leave early are what some tests are about."""

    server = Server(("127.0.0.1", 0), Handler)
    server.daemon_threads = False
    web.address = f"http://127.0.0.1:{server.server_port}"
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield web
    finally:
        http.close()
        server.shutdown()
        server.server_close()
        thread.join()
