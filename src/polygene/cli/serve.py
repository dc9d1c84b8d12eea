"""``polygene serve``."""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path
from typing import Any

import click

from polygene.cli import options, recording, show
from polygene.cli.asked import Asked, asks


@recording.command()
@options.some_inputs
@click.option("--port", type=click.IntRange(0, 65535), default=8080, help="The port to listen at.")
@click.option("--title", metavar="TEXT", help="What the service is called.")
@options.crs
@asks(Asked, options.quiet)
def serve(asked: Asked, port: int, title: str | None) -> None:
    """Let programs read layers over HTTP: OGC API - Features, on this machine.

    Collections, paging, boxes, coordinates in two CRS, and filters in CQL2 text. It is for reading
    only, listens to this machine alone, and stops with Ctrl-C. Without INPUT it serves the sample.

    \b
    Examples:
      polygene serve "tolva.gpkg#*" --port 8123
      polygene clip http://127.0.0.1:8123#sectors --with park.gpkg -o out.gpkg
    """
    from polygene.serving.listening import server_for

    with tempfile.TemporaryDirectory() as folder:
        inputs = asked.inputs
        if not inputs:
            from polygene.sample import tolva

            inputs = (f"{tolva.write(Path(folder))[0]}#*",)
        service = _service(inputs, asked, title or ("Tolva Sound" if not asked.inputs else None))
    try:
        server = server_for(
            service, "127.0.0.1", port, lambda text: None if asked.quiet else _tell(text)
        )
    except OSError as err:
        from polygene.errors import FileError, reason_of

        raise FileError(
            f"cannot listen at port {port}: {reason_of(err)}; --port takes another"
        ) from err
    where = f"http://127.0.0.1:{server.server_port}"
    names = ", ".join(service.layers)
    print(f"{service.title}: {where}", flush=True)
    if not asked.quiet:
        show.note(f"collections: {names}; Ctrl-C stops it")
    try:
        server.serve_forever()
    except KeyboardInterrupt:
        pass
    finally:
        server.server_close()


def _tell(text: str) -> None:
    print(text, file=sys.stderr, flush=True)


def _service(inputs: Any, asked: Asked, title: str | None) -> Any:
    """Read layers to be served."""
    import hashlib

    from polygene import reading
    from polygene.errors import DataError
    from polygene.formats.address import files_of
    from polygene.layer import distinct_name
    from polygene.record import checksum
    from polygene.serving.app import Service

    layers, notes = reading.read_all(inputs, asked.choice())
    for note in notes if not asked.quiet else ():
        show.note(note)
    named: dict[str, Any] = {}
    for layer in layers:
        if layer.crs is None:
            raise DataError(f"layer {layer.name!r} has no CRS; say with `crs` which it is in")
        named[distinct_name(layer.name, named)] = layer
    files = [checksum(path) for text in inputs for path in files_of(text)]
    tag = hashlib.sha256("".join([*inputs, *files]).encode()).hexdigest()
    return Service(title or Path(inputs[0].partition("#")[0]).stem, named, tag)
