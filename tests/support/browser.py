"""A real browser for pages: Debian's Chromium without a screen, driven by Playwright."""

from __future__ import annotations

import shutil
import time
from pathlib import Path
from typing import Any

ROOT = "document.querySelector('.polygene-look')?.look"


def browser_or_reason() -> str:
    """Why there is no browser here; nothing if there is one."""
    try:
        import playwright.sync_api  # noqa: F401
    except ImportError:
        return "Playwright is not installed, so no browser can be driven"
    return "" if shutil.which("chromium") else "there is no Chromium here"


class Tab:
    """A page that is open, and what went wrong or out of it: errors, and requests to anywhere."""

    def __init__(self, page: Any) -> None:
        self.page = page
        self.wrong: list[str] = []
        self.requests: list[str] = []
        page.on("console", lambda m: self.wrong.append(m.text) if m.type == "error" else None)
        page.on("pageerror", lambda error: self.wrong.append(str(error)))
        page.on("request", lambda r: self.requests.append(r.url))

    def run(self, function: str, given: Any = None) -> Any:
        return self.page.evaluate(function, given)

    def ask(self, expression: str) -> Any:
        """The value of an expression about `look`, the page put together."""
        return self.page.evaluate(f"() => {{ const look = {ROOT}; return {expression}; }}")

    def until(self, expression: str, seconds: float = 10) -> None:
        """Wait until it is true."""
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            if self.ask(expression):
                return
            time.sleep(0.02)
        raise AssertionError(f"it did not come about: {expression}; {self.wrong}")

    def settle(self) -> None:
        """Wait until what is asked for is painted, and two frames have passed."""
        self.until("!look.map.painter.isBusy")
        self.page.evaluate(
            "() => new Promise((d) => requestAnimationFrame(() => requestAnimationFrame(d)))"
        )

    def close(self) -> None:
        self.page.close()


class Browser:
    """Use it with ``with``."""

    def __enter__(self) -> Browser:
        from playwright.sync_api import sync_playwright

        self._driver = sync_playwright().start()
        path = shutil.which("chromium")
        self._browser = self._driver.chromium.launch(
            executable_path=path, args=["--no-sandbox", "--disable-gpu"]
        )
        return self

    def __exit__(self, *_: object) -> None:
        self._browser.close()
        self._driver.stop()

    def open(self, path: Path, size: tuple[int, int] = (1280, 800), **given: Any) -> Tab:
        """Open a page, until its map has been painted once."""
        tab = Tab(self._browser.new_page(viewport={"width": size[0], "height": size[1]}, **given))
        tab.page.goto(path.resolve().as_uri())
        tab.until("look?.map?.picture != null")
        return tab
