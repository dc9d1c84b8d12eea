"""Write the golden pages anew from their commands."""

import tempfile
from pathlib import Path

from polygene.sample import tolva
from tests.golden import PAGES, played

with tempfile.TemporaryDirectory() as place:
    tolva.write(Path(place))
    tolva.write_recipe(Path(place))
    for page in sorted(PAGES.glob("*.txt")):
        page.write_text(played(page, Path(place)), encoding="utf-8")
