"""Whether a document is as a JSON Schema says: the words of it that ours uses, and no others."""

from __future__ import annotations

from typing import Any

KINDS = {
    "string": str, "array": list, "object": dict, "boolean": bool, "null": type(None),
    "integer": int, "number": (int, float),
}  # fmt: skip
KNOWN = {
    "$schema", "$defs", "$ref", "title", "description", "type", "properties", "required", "items",
    "additionalProperties", "anyOf", "allOf", "if", "then", "const", "enum", "minimum", "prefixItems",
}  # fmt: skip


def faults(value: Any, rule: dict[str, Any], whole: dict[str, Any], at: str = "") -> list[str]:
    """Return what is wrong with a value, with its place; nothing if it is as the rule says."""
    assert set(rule) <= KNOWN, set(rule) - KNOWN
    if "$ref" in rule:
        return faults(value, whole["$defs"][rule["$ref"].removeprefix("#/$defs/")], whole, at)
    found = []
    kinds = rule.get("type", [])
    kinds = [kinds] if isinstance(kinds, str) else kinds
    is_bool = isinstance(value, bool) and "boolean" not in kinds
    if kinds and (is_bool or not any(isinstance(value, KINDS[kind]) for kind in kinds)):
        return [f"{at}: {value!r} is no {kinds}"]
    if "const" in rule and value != rule["const"]:
        found.append(f"{at}: {value!r} is not {rule['const']!r}")
    if "enum" in rule and value not in rule["enum"]:
        found.append(f"{at}: {value!r} is none of {rule['enum']}")
    if "minimum" in rule and value < rule["minimum"]:
        found.append(f"{at}: {value!r} is too small")
    if "anyOf" in rule:
        ways = [faults(value, one, whole, at) for one in rule["anyOf"]]
        found += min(ways, key=len) if all(ways) else []
    for one in rule.get("allOf", ()):
        if "if" not in one or not faults(value, one["if"], whole, at):
            found += faults(value, one.get("then", one), whole, at)
    if isinstance(value, dict):
        own, more = rule.get("properties", {}), rule.get("additionalProperties", {})
        found += [f"{at}: no {name!r}" for name in rule.get("required", ()) if name not in value]
        for name, item in value.items():
            if name in own or isinstance(more, dict):
                found += faults(item, own.get(name, more), whole, f"{at}/{name}")
            else:
                found.append(f"{at}: {name!r} is not told of")
    if isinstance(value, list):
        rules = rule.get("prefixItems", [rule.get("items", {})] * len(value))
        for k, (item, one) in enumerate(zip(value, rules, strict=True)):
            found += faults(item, one, whole, f"{at}/{k}")
    return found
