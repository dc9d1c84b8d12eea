"""Pages of HTML that need nothing else: script and looks inside, and a rule that nothing is fetched."""

from __future__ import annotations

import base64
import hashlib
import re
from collections.abc import Sequence
from functools import cache
from html import escape
from importlib.resources import files

_IMPORT = re.compile(r'^import \{ ([^}]+) \} from "\./(\w+)\.js";$', re.MULTILINE)
_EXPORT = re.compile(r"^export (?=(?:async )?(?:function\*?|class|const) (\w+))", re.MULTILINE)
ENTRY = "main"


def document(title: str, styles: Sequence[str], body: str, script: str = "") -> str:
    """Return a page; its own script and styles run in it, by their checksums, and nothing else does."""
    own = _allowed([script]) if script else "'none'"
    policy = "; ".join(
        [
            "default-src 'none'",
            f"script-src {own}",
            f"style-src {_allowed(styles)}",
            "worker-src blob:",
            "img-src data: blob:",
            "base-uri 'none'",
            "form-action 'none'",
        ]
    )
    code = f'<script type="module" id="polygene-page">{script}</script>' if script else ""
    return (
        '<!doctype html>\n<html lang="en"><head><meta charset="utf-8">'
        f'<meta http-equiv="Content-Security-Policy" content="{policy}">'
        '<meta name="viewport" content="width=device-width, initial-scale=1">'
        f"<title>{escape(title)}</title>"
        f"{''.join(f'<style>{style}</style>' for style in styles)}</head>"
        f"<body>\n{body}\n{code}</body></html>\n"
    )


def _allowed(texts: Sequence[str]) -> str:
    """Return inline texts as the policy names them (Content Security Policy Level 3, 2.3.1)."""
    sums = (base64.b64encode(hashlib.sha256(text.encode()).digest()).decode() for text in texts)
    return " ".join(f"'sha256-{one}'" for one in sums)


@cache
def style() -> str:
    """Return the looks of what `script` shows."""
    return _file("page.css")


@cache
def script() -> str:
    """Return the modules of `script/` in one text, each in a scope of its own, after what it needs."""
    told: list[str] = []
    done: set[str] = set()

    def tell(name: str, above: tuple[str, ...]) -> None:
        assert name not in above, f"{name}.js needs itself"
        text = _file("script", f"{name}.js")
        for _, other in _IMPORT.findall(text):
            if other not in done:
                tell(other, (*above, name))
        done.add(name)
        told.append(_scoped(name, text))

    tell(ENTRY, ())
    return '"use strict";\nconst modules = {};\n' + "\n".join(told)


def _scoped(name: str, text: str) -> str:
    exported = ", ".join(_EXPORT.findall(text))
    body = _EXPORT.sub("", _IMPORT.sub(r"const { \1 } = modules.\2;", text))
    return f"modules.{name} = (() => {{\n{body}\nreturn {{ {exported} }};\n}})();"


def _file(*names: str) -> str:
    return files("polygene.pages").joinpath(*names).read_text("utf-8")
