"""Write the golden pages anew from their commands."""

import tempfile
from pathlib import Path

from polygene.commands import COMMANDS
from polygene.sample import tolva
from tests.golden import PAGES, PROMPT, examples, played

for name in sorted(COMMANDS.keys() - {"demo"}):
    if not (PAGES / f"{name}.txt").exists():
        (PAGES / f"{name}.txt").write_text("".join(f"{PROMPT}{line}\n" for line in examples(name)))

with tempfile.TemporaryDirectory() as place:
    tolva.write(Path(place))
    tolva.write_recipe(Path(place))
    for page in sorted(PAGES.glob("*.txt")):
        page.write_text(played(page, Path(place)), encoding="utf-8")
