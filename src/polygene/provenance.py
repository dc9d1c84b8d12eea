"""How a layer came about: sources, steps, parameters, credits, as W3C PROV (PROV-JSON).

A lineage is a document with an entity for each layer and an activity for each command. What it is
the lineage of is the entity marked ``pg:this``. Identifiers are hashes of what they name, so the
documents of several layers go together by their keys.
"""

from __future__ import annotations

import copy
import hashlib
import json
from collections.abc import Mapping, Sequence
from dataclasses import field
from typing import Any

import orjson

from polygene.classes import dataclass
from polygene.notes import Changed

STANDARD = "http://www.w3.org/ns/prov#"
PREFIXES = {
    "prov": STANDARD,
    "dct": "http://purl.org/dc/terms/",
    "pg": "urn:polygene:lineage:",
}
_THIS = "pg:this"
_SOFTWARE = "pg:software"
_OPTION = "pg:option-"
PART = "part"  # an option that nobody types: the values of fields that a result was parted by
_RELATIONS = ("used", "wasGeneratedBy", "wasAssociatedWith", "wasAttributedTo")


@dataclass(frozen=True)
class Made:
    """A layer as a lineage knows it: what it is called, where it was, how large.

    checksum : SHA-256 of the file a source was read from, empty for results
    retrieved, validator : when a source came over the web, and what its server tells its states by
    """

    name: str
    place: str
    features: int
    crs: str
    checksum: str = ""
    credit: str = ""
    licence: str = ""
    retrieved: str = ""
    validator: str = ""


@dataclass(frozen=True)
class Step:
    """One command: its options as a recipe has them, the layers it used by role, when it ran.

    used : (role, lineage) of each layer, in the order they were given; roles are INPUT and OTHER
    """

    command: str
    options: Mapping[str, Any]
    began: str
    ended: str
    version: str
    person: str = ""
    used: Sequence[tuple[str, Lineage]] = ()


@dataclass(frozen=True)
class Lineage:
    """A PROV-JSON document and which of its entities it is about."""

    document: Mapping[str, Any]
    entity: str

    def to_json(self) -> str:
        return _json(self.document).decode()

    @property
    def this(self) -> Mapping[str, Any]:
        """What is known of the layer itself."""
        found: Mapping[str, Any] = self.document["entity"][self.entity]
        return found


def parse(text: str | bytes) -> Lineage | None:
    """Return the lineage in a PROV-JSON text; None if it is none, or not about one layer."""
    try:
        document = orjson.loads(text)
        about = [k for k, entity in document["entity"].items() if entity.get(_THIS)]
        for relation in _RELATIONS:
            assert all(isinstance(v, dict) for v in document.get(relation, {}).values())
    except (orjson.JSONDecodeError, KeyError, AttributeError, TypeError, AssertionError):
        return None
    return Lineage(document, about[0]) if len(about) == 1 else None


def source(made: Made) -> Lineage:
    """Return the lineage of a layer of which nothing more is known than the file it came in."""
    key = _key("layer", made.name, made.checksum, made.place)
    entity = {**_entity(made), _THIS: True}
    return Lineage({"prefix": PREFIXES, "entity": {key: entity}}, key)


def derived(made: Made, step: Step) -> Lineage:
    """Return the lineage of a layer that a command made, with all that its sources bring along."""
    document = _merged([lineage.document for _, lineage in step.used])
    options = {f"{_OPTION}{name}": _literal(value) for name, value in step.options.items()}
    used = [lineage.entity for _, lineage in step.used]
    run = _key("run", step.command, options, used, step.began)
    key = _key("layer", run, made.name)
    document["activity"][run] = {
        "prov:startTime": step.began,
        "prov:endTime": step.ended,
        "pg:command": step.command,
        "pg:version": step.version,
        **options,
    }
    for k, (role, lineage) in enumerate(step.used):
        document["used"][f"_:{run[3:]}-{k:04}"] = {
            "prov:activity": run,
            "prov:entity": lineage.entity,
            "prov:role": role,
        }
    document["entity"][key] = {**_entity(made), _THIS: True}
    document["wasGeneratedBy"][f"_:{key[3:]}"] = {"prov:entity": key, "prov:activity": run}
    document["agent"][_SOFTWARE] = {"prov:type": "prov:SoftwareAgent", "dct:title": "Polygene"}
    document["wasAssociatedWith"][f"_:{run[3:]}-by"] = {
        "prov:activity": run,
        "prov:agent": _SOFTWARE,
    }
    if step.person:
        person = _key("person", step.person)
        document["agent"][person] = {"prov:type": "prov:Person", "dct:title": step.person}
        document["wasAssociatedWith"][f"_:{run[3:]}-for"] = {
            "prov:activity": run,
            "prov:agent": person,
        }
    return Lineage({k: v for k, v in document.items() if v}, key)


def moved(own: Lineage, name: str, place: str) -> Lineage:
    """Return the lineage of the same layer under another name, in another place."""
    entities = dict(own.document["entity"])
    entities[own.entity] = {**own.this, "dct:title": name, "prov:location": place}
    return Lineage({**own.document, "entity": entities}, own.entity)


def told(own: Lineage | None, notes: Sequence[str]) -> Lineage | None:
    """Return a lineage that says what the format of its file could not hold as it was."""
    said = [str(note) for note in notes if isinstance(note, Changed)]
    if own is None or not said:
        return own
    entities = dict(own.document["entity"])
    entities[own.entity] = {**own.this, "pg:changed": said}
    return Lineage({**own.document, "entity": entities}, own.entity)


def _json(value: Any) -> bytes:
    try:
        return orjson.dumps(value, option=orjson.OPT_SORT_KEYS)
    except TypeError:  # the name of a file that is not UTF-8: its bytes as escapes
        text = json.dumps(value, sort_keys=True, ensure_ascii=False)
        return text.encode("utf-8", "backslashreplace").replace(b"\\udc", b"\\\\udc")


def _key(kind: str, *what: Any) -> str:
    found = hashlib.sha256(_json(what)).hexdigest()
    return f"pg:{kind}-{found[:16]}"


def _entity(made: Made) -> dict[str, Any]:
    known = {
        "prov:type": "pg:Layer",
        "dct:title": made.name,
        "prov:location": made.place,
        "pg:features": made.features,
        "pg:crs": made.crs,
        "pg:sha256": made.checksum,
        "dct:bibliographicCitation": made.credit,
        "dct:license": made.licence,
        "pg:retrieved": made.retrieved,
        "pg:validator": made.validator,
    }
    return {name: value for name, value in known.items() if value != ""}


def _literal(value: Any) -> Any:
    if isinstance(value, (list, tuple)):
        return [str(item) for item in value]
    return value if isinstance(value, (bool, int, float)) else str(value)


def _merged(documents: Sequence[Mapping[str, Any]]) -> dict[str, dict[str, Any]]:
    found: dict[str, dict[str, Any]] = {"prefix": dict(PREFIXES), "entity": {}, "activity": {}}
    found |= {name: {} for name in ("agent", *_RELATIONS)}
    for document in documents:
        for section, items in document.items():
            found.setdefault(section, {}).update(copy.deepcopy(dict(items)))
    for entity in found["entity"].values():
        entity.pop(_THIS, None)
    return found


@dataclass(frozen=True)
class Node:
    """A layer in the history of another: what it is, and the command it came from if that is known.

    used : what that command worked on, by role; repeated : it was told further up
    """

    key: str
    made: Made
    command: str = ""
    options: Mapping[str, Any] = field(default_factory=dict)
    when: str = ""
    version: str = ""
    used: Sequence[tuple[str, Node]] = ()
    repeated: bool = False


def history(lineage: Lineage) -> Node:
    """Return a lineage as a tree, the layer itself at the root; each layer's origin is told once."""
    return _node(lineage.document, lineage.entity, set(), set())


def _node(document: Mapping[str, Any], key: str, told: set[str], above: set[str]) -> Node:
    made = _made(document["entity"].get(key, {}))
    run = next(
        (
            g["prov:activity"]
            for g in document.get("wasGeneratedBy", {}).values()
            if g.get("prov:entity") == key
        ),
        None,
    )
    activity = document.get("activity", {}).get(run)
    if activity is None or key in above:
        return Node(key, made)
    is_repeated = key in told
    told.add(key)
    uses = [(i, u) for i, u in document.get("used", {}).items() if u.get("prov:activity") == run]
    used = [
        (str(u.get("prov:role", "INPUT")), _node(document, u["prov:entity"], told, above | {key}))
        for _, u in (() if is_repeated else sorted(uses))
    ]
    return Node(
        key=key,
        made=made,
        command=str(activity.get("pg:command", "")),
        options={k.removeprefix(_OPTION): v for k, v in activity.items() if k.startswith(_OPTION)},
        when=str(activity.get("prov:startTime", "")),
        version=str(activity.get("pg:version", "")),
        used=used,
        repeated=is_repeated,
    )


def _made(entity: Mapping[str, Any]) -> Made:
    return Made(
        name=str(entity.get("dct:title", "?")),
        place=str(entity.get("prov:location", "")),
        features=int(entity.get("pg:features", 0)),
        crs=str(entity.get("pg:crs", "")),
        checksum=str(entity.get("pg:sha256", "")),
        credit=str(entity.get("dct:bibliographicCitation", "")),
        licence=str(entity.get("dct:license", "")),
        retrieved=str(entity.get("pg:retrieved", "")),
        validator=str(entity.get("pg:validator", "")),
    )


def nodes(root: Node) -> list[Node]:
    """Return every layer of a history once, results before what they were made of."""
    found: dict[str, Node] = {}

    def visit(node: Node) -> None:
        if node.key not in found or (node.used and not found[node.key].used):
            found[node.key] = node
        for _, below in node.used:
            visit(below)

    visit(root)
    return list(found.values())


def sources(lineage: Lineage) -> list[Made]:
    """Return the layers that came from outside, in the order in which the steps use them."""
    return [node.made for node in nodes(history(lineage)) if not node.command]


def credits_of(lineage: Lineage) -> list[str]:
    """Return whom to credit, each once: what was said of the sources and of results on the way."""
    found = [
        " · ".join(text for text in (node.made.credit, node.made.licence) if text)
        for node in nodes(history(lineage))
    ]
    return list(dict.fromkeys(text for text in found if text))


def described(node: Node) -> str:
    """Say how a layer came about: the command with its options, or the file it was read from."""
    if not node.command:
        return node.made.place
    words = [node.command]
    for key, value in node.options.items():
        if value is True:
            words.append(f", {key}")
        else:
            texts = [str(v) for v in value] if isinstance(value, (list, tuple)) else [str(value)]
            words.append(f", {key} {' and '.join(texts)}")
    return "".join(words)
