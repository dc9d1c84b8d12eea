"""Twins of the kernels on bytes: `lists`, `wkb`."""

from __future__ import annotations

import json
import math
import re
from collections.abc import Sequence
from typing import Any

from polygene.kernels.plain.base import Ints


def lift_lists(data: bytes, key: bytes) -> list[Any] | None:
    """Return the lists of a document that are values of a key.

    None if one is not even, or has none, or if a value is a number itself.
    """
    text, found = data.decode("latin-1"), []
    for name in re.finditer(r'"(?:\\.|[^"\\])*"', text, re.DOTALL):
        begin = re.compile(r"[ \n\r\t]*:[ \n\r\t]*(?=[\[0-9])").match(text, name.end())
        if begin and name[0][1:-1] == key.decode():
            if text[begin.end()] != "[":
                return None
            try:
                found.append(json.JSONDecoder().raw_decode(text, begin.end())[0])
            except ValueError:
                return None
    return found if all(1 <= (_levels(some) or 0) <= 4 for some in found) else None


def _levels(value: Any) -> int | None:
    """Return how many levels of lists numbers are in; None if not all in as many, or there are none."""
    if not isinstance(value, list):
        is_number = type(value) in (int, float) and math.isfinite(value)
        return 0 if is_number else None
    levels = set(map(_levels, value))
    return None if len(levels) != 1 or None in levels else 1 + levels.pop()


def lift_texts(texts: Sequence[str]) -> list[tuple[int, Any]] | None:
    """Return the number of the type of each text of WKT, and its numbers; None if one is not even."""
    number = r"[+-]?(?:[0-9]+\.?[0-9]*|\.[0-9]+)(?:[eE][+-]?[0-9]+)?"
    position = rf"{number}(?:[ \n\r\t]+{number}){{1,3}}"
    one = rf"[ \n\r\t]*{position}[ \n\r\t]*"

    def several(inner: str) -> str:
        return rf"[ \n\r\t]*\({inner}(?:,{inner})*\)[ \n\r\t]*"

    alone = rf"[ \n\r\t]*\({one}\)[ \n\r\t]*"
    lines = several(several(one))
    forms = [alone, several(f"(?:{one}|{alone})"), several(one), lines, lines, several(lines)]
    found: list[tuple[int, Any]] = []
    for text in texts:
        names = "point|multipoint|linestring|multilinestring|polygon|multipolygon"
        head = re.match(rf"[ \n\r\t]*({names})[ \n\r\t]*(zm?)?[ \n\r\t]*", text, re.I | re.A)
        if not text:
            found.append((0, None))
            continue
        kind = 1 + names.split("|").index(head[1].lower()) if head else 0
        body = text[head.end() :] if head else ""
        if re.fullmatch(r"empty[ \n\r\t]*", body, re.I | re.A):
            found.append((kind + 16, None))
        elif head and re.fullmatch(forms[kind - 1], body):
            if kind == 2:
                body = f"({body.strip()[1:-1].replace('(', '').replace(')', '')})"
            listed = re.sub(position, lambda m: str([*map(float, m[0].split())]), body)
            value = json.loads(listed.replace("(", "[").replace(")", "]"))
            found.append((kind, value[0] if kind == 1 else value))
        else:
            return None
    return found


def scan(data: bytes) -> tuple[int, list[tuple[int, list[int]]]]:
    """Return the outermost type of well-known binary, and its simple parts: family, ring sizes."""
    import struct

    parts: list[tuple[int, list[int]]] = []

    def geometry(at: int) -> tuple[int, int]:
        order = "<" if data[at] else ">"
        code = struct.unpack_from(f"{order}I", data, at + 1)[0]
        at += 9 if code & 0x20000000 else 5
        iso = (code & 0x1FFFFFFF) // 1000
        has_z, has_m = code >> 31 or iso in (1, 3), code >> 30 & 1 or iso >= 2
        size, kind = 8 * (2 + bool(has_z) + bool(has_m)), (code & 0x1FFFFFFF) % 1000
        if kind == 1:
            parts.append((0, [1]))
            return kind, at + size
        n = struct.unpack_from(f"{order}I", data, at)[0]
        at += 4
        if kind == 2:
            if n:
                parts.append((1, [n]))
            return kind, at + n * size
        if kind == 3:
            rings = []
            for _ in range(n):
                rings.append(struct.unpack_from(f"{order}I", data, at)[0])
                at += 4 + rings[-1] * size
            if rings:
                parts.append((2, rings))
            return kind, at
        for _ in range(n):
            _, at = geometry(at)
        return kind, at

    return geometry(0)[0], parts


def gather_ranges(data: bytes, starts: Ints, lengths: Ints) -> bytes:
    """Return byte ranges in a row."""
    return b"".join(data[s : s + n] for s, n in zip(starts, lengths, strict=True))


def take_numbers(data: bytes, at: Ints, size: int) -> bytes:
    """Return the bytes of numbers that begin at places, in a row."""
    return gather_ranges(data, at, [size] * len(at))


def scatter_ranges(source: bytes, starts: Ints, lengths: Ints, data: bytes) -> bytes:
    """Return data with ranges that lie in a row in ``source`` put where they start."""
    found, at = bytearray(data), 0
    for s, n in zip(starts, lengths, strict=True):
        found[s : s + n] = source[at : at + n]
        at += n
    return bytes(found)


def follow_sizes(data: bytes, first: int) -> list[int] | None:
    """Return where records begin, each with its size in front; None if the last is cut short."""
    places = []
    while first < len(data):
        size = int.from_bytes(data[first : first + 4], "little")
        if first + 4 > len(data) or size == 0 or first + 4 + size > len(data):
            return None
        places.append(first)
        first += 4 + size
    return places
