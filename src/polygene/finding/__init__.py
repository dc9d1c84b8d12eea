"""From a word or phrase of the trade to what it comes to here (`words.txt`)."""

from __future__ import annotations

import difflib
import functools
import math
import re
from collections import Counter
from importlib import resources

from polygene.classes import dataclass

_NOT_TOLD = {
    "a", "an", "and", "be", "by", "can", "do", "each", "every", "feature", "for", "get",
    "how", "i", "in", "into", "is", "it", "its", "layer", "make", "me", "my", "need", "of", "on", "or",
    "please", "that", "the", "their", "them", "they", "this", "to", "tool", "two", "want", "we",
    "what",
}  # fmt: skip
# Words that people put one for another.
_SAME = {
    "polygon": "area", "sector": "area", "zone": "area", "region": "area", "district": "area",
    "parcel": "area", "road": "line", "river": "line", "cable": "line", "street": "line",
    "attribute": "field", "column": "field", "property": "field", "value": "field", "calc": "calculate",
    "compute": "calculate", "remove": "delete", "drop": "delete", "distinct": "different",
    "shp": "shapefile", "geom": "geometry",
}  # fmt: skip
# Words of place tell less than what lies there.
_FAINT = {
    "around", "within", "inside", "outside", "with", "all", "only", "both", "same", "not", "between",
}  # fmt: skip
# Words for what there is in layers tell less than those for what is done with it.
_KINDS = {"area", "line", "point", "field", "table"}
# A length, as in "within 200 m of", is a distance.
_LENGTHS = re.compile(
    r"\b(\d[\d.,]*)\s*(m|km|mi|ft|yd|metres?|meters?|kilomet(?:re|er)s?|miles?|feet|yards?)\b"
)
_UNITS = {"met": "m", "kil": "km", "mil": "mi", "fee": "ft", "yar": "yd"}
_LEAST = 0.34  # of the weight of a phrase that what was asked must have


@dataclass(frozen=True)
class Entry:
    """Words for one thing, an example to fill in, and a sentence.

    In examples stand INPUT, OTHER, AREAS or POINTS for layers, FIELD, and OUT.

    Without an example Polygene does not do it, and the sentence says so, or the way round.
    """

    words: tuple[str, ...]
    example: str
    sentence: str
    topic: str

    @property
    def command(self) -> str:
        return self.example.split(" ")[0] if self.example else ""


@functools.cache
def entries() -> tuple[Entry, ...]:
    """Return the whole table, in its order."""
    found, topic = [], ""
    text = resources.files(__name__).joinpath("words.txt").read_text(encoding="utf-8")
    for line in text.splitlines():
        if line.startswith("## "):
            topic = line[3:]
        elif "|" in line and not line.startswith("#"):
            words, example, sentence = (part.strip() for part in line.split("|"))
            own = tuple(word.strip() for word in words.split(";"))
            found.append(Entry(own, "" if example == "-" else example, sentence, topic))
    return tuple(found)


def _tokens(text: str) -> list[str]:
    plain = _LENGTHS.sub(" distance ", text.casefold())
    words = re.findall(r"[^\W_]+", plain.replace("-", " ").replace("_", " "))
    told = [word for word in words if word not in _NOT_TOLD]
    return [_stems().get(word, word) for word in map(_stem, told)]


def length_in(text: str) -> str:
    """Return the first length in a text as options take it, such as 200m; empty if there is none."""
    found = _LENGTHS.search(text.casefold())
    if found is None or not re.fullmatch(r"\d+(\.\d+)?", found[1]):  # 1,500 may be one or the other
        return ""
    return found[1] + _UNITS.get(found[2][:3], found[2])


@functools.cache
def _stems() -> dict[str, str]:
    return {_stem(word): _stem(other) for word, other in _SAME.items()}


def _stem(word: str) -> str:
    for ending, other in (("ies", "y"), ("sses", "ss"), ("shes", "sh"), ("xes", "x")):
        if word.endswith(ending) and len(word) > len(ending) + 2:
            return word[: -len(ending)] + other
    if word.endswith("s") and not word.endswith("ss") and len(word) > 3:
        word = word[:-1]
    for ending in ("ing", "ed"):
        stem = word.removesuffix(ending)
        if stem != word and len(stem) > 2 and re.search("[aeiouy]", stem):
            # clipping, but crossing
            word = stem[:-1] if stem[-1] == stem[-2] and stem[-1] not in "lsz" else stem
    return word.removesuffix("e") if len(word) > 4 else word


@functools.cache
def _weights() -> dict[str, float]:
    """Return how much a word tells: less, the more entries have it."""
    counts = Counter(t for e in entries() for t in {t for w in e.words for t in _tokens(w)})
    return {
        token: math.log(1 + len(entries()) / n) * (0.4 if token in _FAINT | _KINDS else 1.0)
        for token, n in counts.items()
    }


def find(words: str) -> list[Entry]:
    """Return what a word or phrase may mean, the likeliest first; nothing if it is not known."""
    exact = exactly(words)
    if exact is not None:
        return [exact]
    asked, weights = set(_tokens(words)), _weights()
    found = []
    for entry in entries():
        score = _score(entry, asked, weights)
        if score > 0:
            found.append((score, entry))
    found.sort(key=lambda pair: -pair[0])
    if found:
        best = found[0][0]
        return [entry for score, entry in found[:3] if score > 0.6 * best]
    return _misspelt(words)


def _score(entry: Entry, asked: set[str], weights: dict[str, float]) -> float:
    """Return how well what was asked fits the best phrase of an entry, and a little the others."""
    scores = []
    for word in entry.words:
        own = set(_tokens(word))
        # Rounded once, whatever the order: what fits as well comes as the table has it.
        whole = math.fsum(weights[t] for t in own)
        has = math.fsum(weights[t] for t in own & asked)
        if own and has > _LEAST * whole:
            scores.append(has * (has / whole) ** 2)
    if not scores:
        return 0.0
    told = set(_tokens(entry.sentence)) & asked
    named = 1.5 if entry.command and _stem(entry.command) in asked else 0.0
    return (
        named + max(scores) + 0.1 * sum(scores) + 0.2 * math.fsum(weights.get(t, 0.5) for t in told)
    )


def exactly(text: str) -> Entry | None:
    """Return the entry that has just these words; None if there is none."""
    asked = _plain(text)
    return next((e for e in entries() if asked in map(_plain, e.words)), None)


def _plain(text: str) -> str:
    return "".join(re.findall(r"[^\W_]+", text.casefold()))


def _misspelt(text: str) -> list[Entry]:
    """Return the entry of a word that is nearly as it should be."""
    known = {_plain(word): entry for entry in entries() for word in entry.words}
    close = difflib.get_close_matches(_plain(text), known, n=1, cutoff=0.84)
    return [known[word] for word in close]


# Options as they are called elsewhere, or were here, and what they are called.
OPTIONS = {
    "--drop-slivers": "--give-slivers", "--distance-from": "--distance-by", "--melt": "--dissolve",
    "--within": "--up-to", "--single": "--best", "--unmatched": "--alone", "--take": "--aggregate",
    "--inside": "--label-point", "--mask": "--with", "--overlay": "--with", "--clip-layer": "--with",
    "--other": "--with", "--by-layer": "--with", "--output": "--out", "--outfile": "--out",
    "--dest": "--out", "--destination": "--out", "--overwrite": "--replace", "--force": "--replace",
    "--append": "--out file.gpkg#layer, which leaves the other layers",
    "--input": "INPUT, without an option", "--in": "INPUT, without an option",
    "--layer": "file.gpkg#layer in the address", "--layers": "file.gpkg#* in the address",
    "--filter": "--where", "--query": "--where", "--sql": "--where", "--expression": "--where",
    "--select": "--keep", "--fields": "--keep", "--field": "--by or --keep", "--columns": "--keep",
    "--exclude": "--drop", "--group-by": "--by", "--groupby": "--by", "--group": "--by",
    "--stats": "--aggregate", "--statistics": "--aggregate", "--agg": "--aggregate",
    "--sum": "--aggregate 'name = sum(field)'", "--mean": "--aggregate 'name = mean(field)'",
    "--bbox": "--box", "--extent": "--box", "--spat": "--box", "--srs": "--crs", "--epsg": "--crs",
    "--projection": "--crs", "--to-crs": "--to", "--target-crs": "--to", "--dst-crs": "--to",
    "--radius": "--distance", "--width": "--distance", "--dist": "--distance",
    "--max-distance": "--up-to", "--search-radius": "--up-to", "--tolerance": "--snap or --precision",
    "--grid-size": "--precision", "--resolution": "--precision", "--predicate": "--relation",
    "--op": "--relation", "--how": "--relation", "--join-type": "--alone", "--inner": "--alone drop",
    "--dissolved": "--dissolve", "--merge": "--dissolve", "--explode": "--single-parts",
    "--singlepart": "--single-parts", "--key": "--key of compare",
    "--format": "the ending of --out", "--driver": "the ending of --out", "--fix": "--invalid mend",
    "--make-valid": "--invalid mend", "--repair": "--invalid mend",
    "--skip-invalid": "--invalid leave-out",
    "--nearest": "--relation nearest",
    "--descending": "a minus in --sort -field", "--silent": "--quiet", "--threads": "POLYGENE_THREADS",
}  # fmt: skip
