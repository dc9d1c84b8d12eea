"""A lineage as boxes and arrows."""

from __future__ import annotations

from polygene.pictures.diagram import Arrow, Box
from polygene.provenance import Lineage, described, history, nodes


def parts_of_diagram(own: Lineage) -> tuple[list[Box], list[Arrow]]:
    """Return the boxes and arrows of a lineage."""
    root = history(own)
    found = nodes(root)[::-1]
    boxes = [
        Box(
            node.key,
            node.made.name,
            described(node),
            "source" if not node.command else "result" if node.key == root.key else "step",
        )
        for node in found
    ]
    arrows = [
        Arrow(below.key, node.key, role == "OTHER") for node in found for role, below in node.used
    ]
    return boxes, arrows
