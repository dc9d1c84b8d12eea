"""The layering of the house: imports point downwards, floor by floor, and nothing goes in a circle."""

from __future__ import annotations

import ast
import functools
import re
import unittest
from pathlib import Path

SOURCE = Path(__file__).parents[1] / "src" / "polygene"
# From the roof down; a room may use what lies on floors below its own, and nothing beside it.
FLOORS = (
    {"__main__"},
    {"cli"},
    {"sample", "recipe"},
    {"pages"},
    {"growing"},
    {"files", "pictures", "batch", "serving"},
    {"reading", "writing"},
    {"phrases"},
    {"ops"},
    {"record", "settings", "lined_yaml"},
    {"formats"},
    {"table"},
    {"globe", "remote"},
    {"plane"},
    {"text", "places", "winding"},
    {"longitudes", "units"},
    {"layer"},
    {"arrow", "glimpse", "between", "distortion"},
    {"crs", "measures", "provenance"},
    {"geometry"},
    {"arrays"},
    {"parallel"},
    {"kernels"},
    {"commit"},
    {"info"},
    {
        "crs_coded",
        "errors",
        "finding",
        "progress",
        "memory",
        "commands",
        "written",
        "notes",
        "clock",
    },
    {"computing", "proj", "classes"},
)
FLOOR = {room: k for k, rooms in enumerate(FLOORS) for room in rooms}


# Found in the text, since parsing all of it takes seconds; those in brackets go over several lines.
IMPORT = re.compile(r"^ *((?:from [\w.]+ import (?:\([^)]*\)|[^\n(]+))|import [^\n]+)$", re.M)
FOR_TYPES = re.compile(r"^if TYPE_CHECKING:\n(?:(?: [^\n]*)?\n)+", re.M)


@functools.cache
def imports(types: bool = True) -> dict[str, set[str]]:
    """Every module of the package, and those of it that each imports, wherever in its text.

    Those only for types are left out if told.
    """
    names = {
        ".".join(p.relative_to(SOURCE.parent).with_suffix("").parts): p
        for p in SOURCE.rglob("*.py")
    }
    modules = {name.removesuffix(".__init__"): path for name, path in names.items()}
    found = {}
    for name, path in modules.items():
        wanted = set()
        text = path.read_text()
        found_here = IMPORT.findall(text if types else FOR_TYPES.sub("", text))
        for node in ast.parse("\n".join(found_here)).body:
            if isinstance(node, ast.ImportFrom) and node.module:
                # A package stands for the module in it that is asked for.
                inside = [f"{node.module}.{alias.name}" for alias in node.names]
                wanted |= {one if one in modules else node.module for one in inside}
            elif isinstance(node, ast.Import):
                wanted |= {alias.name for alias in node.names}
        found[name] = (wanted & set(modules)) - {name, "polygene"}
    return found


def room_of(module: str) -> str:
    return module.split(".")[1]


class House(unittest.TestCase):
    def test_imports_point_downwards(self):
        upwards = [
            f"{module} imports {other}"
            for module, others in imports().items() if module != "polygene"
            for other in others
            if room_of(module) != room_of(other) and FLOOR[room_of(module)] >= FLOOR[room_of(other)]
        ]  # fmt: skip
        self.assertEqual(upwards, [])

    def test_no_module_needs_itself(self):
        """Found by taking away, again and again, what imports nothing that is left."""
        left = imports(types=False)
        while done := {module for module, others in left.items() if not others & set(left)}:
            left = {m: others - done for m, others in left.items() if m not in done}
        circles = {m: sorted(others & set(left)) for m, others in left.items()}
        self.assertEqual(circles, {})

    def test_every_room_is_on_a_floor(self):
        rooms = {room_of(module) for module in imports() if module != "polygene"}
        self.assertEqual(rooms, set(FLOOR))


if __name__ == "__main__":
    unittest.main()
