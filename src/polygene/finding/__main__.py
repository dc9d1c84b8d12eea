"""Print the page of the docs that is made of the table: ``python -m polygene.finding``."""

from __future__ import annotations

import sys

from polygene.finding import OPTIONS, Entry, entries

HEAD = """# Words of the trade

What they are called here. `polygene find WORD...` looks up a word or a whole phrase and fills the
command in with layers of the folder; a word typed as a command or option is answered the same way.
INPUT, OTHER, AREAS, POINTS stand for layers. This page is made of the program's own table.
"""


def page() -> str:
    """Return the page in Markdown."""
    lines, topic = [HEAD], ""
    for entry in entries():
        if entry.topic != topic:
            topic = entry.topic
            lines += [f"## {topic}\n", "| people say | here | |", "|---|---|---|"]
        here = f"`polygene {entry.example}`" if entry.example else "not here"
        lines.append(
            f"| {', '.join(entry.words)} | {here.replace('|', chr(92) + '|')} | {entry.sentence} |"
        )
        if _is_last(entry):
            lines.append("")
    lines += ["## Options\n", "| people say | here |", "|---|---|"]
    lines += [f"| `{name}` | {known} |" for name, known in sorted(OPTIONS.items())]
    return "\n".join(lines) + "\n"


def _is_last(entry: Entry) -> bool:
    all_entries = entries()
    k = all_entries.index(entry)
    return k + 1 == len(all_entries) or all_entries[k + 1].topic != all_entries[k].topic


if __name__ == "__main__":
    sys.stdout.write(page())
