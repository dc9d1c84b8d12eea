"""The documents of a service as pages for people (OGC 17-069r4, clause 8.2)."""

from __future__ import annotations

from collections.abc import Sequence
from html import escape
from typing import Any
from urllib.parse import unquote

_STYLE = """body { font: 16px/1.5 system-ui, sans-serif; margin: 2rem auto; max-width: 60rem;
padding: 0 1rem; color: #1b2a33; background: #fbfaf7 } a { color: #0b5c6b }
table { border-collapse: collapse; width: 100%; font-size: 14px; margin: 0 0 1.5rem }
td, th { text-align: left; border-bottom: 1px solid #d9d5cb; padding: 4px 10px 4px 0;
vertical-align: top } .number { text-align: right; font-variant-numeric: tabular-nums;
padding-right: 24px } .way { font-size: 14px; margin: 0 }"""


def html(title: str, told: dict[str, Any], base: str, path: str) -> bytes:
    """Return a document for people: the way to it, its collections or features, its links."""
    told = dict(told)
    title = str(told.pop("title", title))
    body = [_way(base, path), f"<h1>{escape(title)}</h1>"]
    if told.get("description"):
        body.append(f"<p>{escape(str(told.pop('description')))}</p>")
    links = told.pop("links", [])
    if "collections" in told:
        body.append(_collections(told.pop("collections")))
    if "features" in told:
        body.append(_features(told.pop("features"), f"{base}{path}"))
    if "paths" in told:
        body.append(_paths(told))
        told = {}
    if "properties" in told:
        is_schema = "geometry" not in told  # else a feature's own
        body.append(_fields(told.pop("properties") or {}, is_schema))
        told = {} if is_schema else told
    facts = [(escape(name), escape(_plainly(value))) for name, value in told.items()]
    body.append(_table(("", ""), facts) if facts else "")
    listed = [
        _anchor(own["href"], own.get("title") or own["rel"].rpartition("/")[2]) for own in links
    ]
    body.append(f"<p>{' · '.join(listed)}</p>")
    text = (
        f'<!doctype html><html lang="en"><meta charset="utf-8"><title>{escape(title)}</title>'
        f"<style>{_STYLE}</style><body>{''.join(body)}</body></html>"
    )
    return text.encode()


def _collections(found: Sequence[dict[str, Any]]) -> str:
    rows = [
        (
            _anchor(f"{_href(own, 'self')}?f=html", own["id"]),
            escape(": ".join(filter(None, (own["title"], own.get("description"))))),
            _anchor(f"{_href(own, 'items')}?f=html", "features"),
        )
        for own in found
    ]
    return _table(("collection", "what it is", ""), rows)


def _features(found: Sequence[dict[str, Any]], place: str) -> str:
    names = list(dict.fromkeys(name for own in found for name in own["properties"] or {}))
    values = [[own.get("id"), *map((own["properties"] or {}).get, names)] for own in found]
    is_number = [
        all(isinstance(v, (int, float, type(None))) and not isinstance(v, bool) for v in column)
        for column in zip(*values, strict=True)
    ]
    rows = [
        [_anchor(f"{place}/{own}?f=html", _plainly(own)), *(escape(_plainly(v)) for v in others)]
        for own, *others in values
    ]
    return _table(("id", *names), rows, is_number)


def _fields(own: dict[str, Any], is_schema: bool) -> str:
    """Return the fields of a schema with their types, or of a feature with their values."""
    rows = [
        (escape(name), escape(" ".join(value.values()) if is_schema else _plainly(value)))
        for name, value in own.items()
    ]
    return _table(("field", "type" if is_schema else "value"), rows)


def _paths(told: dict[str, Any]) -> str:
    """Return the addresses of a service with what they are and the parameters they take."""
    rows = []
    for path, ways in told["paths"].items():
        names = ", ".join(own["name"] for own in ways["get"]["parameters"])
        here = f"{told['servers'][0]['url']}{path}?f=html"
        address = escape(unquote(path)) if "{" in path else _anchor(here, unquote(path))
        rows.append((address, escape(ways["get"]["summary"]), escape(names)))
    return _table(("address", "what it is", "may be asked with"), rows)


def _href(told: dict[str, Any], rel: str) -> str:
    return str(next(link["href"] for link in told["links"] if link["rel"] == rel))


def _way(base: str, path: str) -> str:
    """Return links to all that a document is part of."""
    parts = [part for part in path.split("/") if part]
    places = [f"{base}/", *(f"{base}/{'/'.join(parts[:k])}" for k in range(1, len(parts)))]
    names = ["first page", *map(unquote, parts[:-1])]
    links = [_anchor(f"{at}?f=html", name) for at, name in zip(places, names, strict=False)]
    return f'<p class="way">{" / ".join(links)}</p>' if parts else ""


def _plainly(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return ", ".join(map(_plainly, value))
    if isinstance(value, dict):
        return "; ".join(f"{name}: {_plainly(own)}" for name, own in value.items())
    return str(value)


def _anchor(href: str, text: str) -> str:
    return f'<a href="{escape(href, quote=True)}">{escape(text)}</a>'


def _table(head: Any, rows: Any, is_number: Sequence[bool] = ()) -> str:
    marks = [' class="number"' if own else "" for own in is_number] or [""] * len(head)
    top = "".join(f"<th{mark}>{escape(name)}</th>" for mark, name in zip(marks, head, strict=False))
    cells = [
        "".join(f"<td{mark}>{cell}</td>" for mark, cell in zip(marks, row, strict=False))
        for row in rows
    ]
    lines = "".join(f"<tr>{row}</tr>" for row in cells)
    return f"<table>{f'<tr>{top}</tr>' if any(head) else ''}{lines}</table>"
