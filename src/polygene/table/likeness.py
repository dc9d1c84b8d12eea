"""How much two fields are alike: by name, by type, by the values they hold."""

from __future__ import annotations

import functools
import re
from collections import Counter
from typing import Any

import numpy as np
import pyarrow as pa

from polygene import computing as pc
from polygene.classes import dataclass
from polygene.table.casting import TRUTH, recast
from polygene.table.types import kind_of, typed_field

MOST_VALUES = 1000  # distinct values looked at
DATE_FORMS = ("YYYY-MM-DD", "DD.MM.YYYY", "DD/MM/YYYY", "MM/DD/YYYY", "YYYY/MM/DD", "DD-MM-YYYY")

# Words that mean much the same in names of fields; the first stands for all.
_ALIKE = """
id no nr num number code key ref identifier fid uid
name nm naam nom title label
type typ kind class category cat
note notes remark remarks rem comment comments memo
observer obs surveyor recorder collector observed_by
date day surveyed observed visited recorded sampled dated
species spec sp taxon
percent pct perc prc percentage
area surface
length len lgth
width wid wdt
height hgt ht elevation elev alt altitude
depth dep dpt
description desc descr dscr
population pop people inhabitants residents
distance dist
quantity qty amount amt
temperature temp
status stat state condition
address addr
street str st
organisation organization org agency
owner own ownership
minimum min lowest
maximum max highest
average avg mean
year yr
month mth
latitude lat
longitude lon lng long
district distr dist
region reg
municipality mun munic
cover cov coverage
value val
group grp
weight wt
category cat
"""
_MEANS = {
    word: line.split()[0] for line in reversed(_ALIKE.strip().splitlines()) for word in line.split()
}


def tokens(name: str) -> list[str]:
    """Return the words of a name: apart at separators, digits and capitals, in small letters."""
    apart = re.sub(r"(?<=[a-zà-ÿ0-9])(?=[A-ZÀ-Þ])", " ", name)
    return [t.casefold() for t in re.split(r"[\W_]+|(?<=\D)(?=\d)|(?<=\d)(?=\D)", apart) if t]


@functools.lru_cache(maxsize=4096)
def _shape_of(name: str) -> tuple[str, frozenset[str], frozenset[str]]:
    words = tokens(name)
    joined = "".join(words)
    bigrams = frozenset(joined[k : k + 2] for k in range(len(joined) - 1))
    return joined, frozenset(_MEANS.get(w, w) for w in words), bigrams


def name_likeness(one: str, other: str) -> float:
    """Return how much two names are alike, 0 to 1.

    After folding case and separators; words that mean the same, and beginnings of each other, count.
    """
    joined, words, bigrams = _shape_of(one)
    joined_2, words_2, bigrams_2 = _shape_of(other)
    if not joined or not joined_2:
        return 0.0
    if joined == joined_2:
        return 1.0
    if words == words_2:
        return 0.95
    short, long = (joined, joined_2) if len(joined) <= len(joined_2) else (joined_2, joined)
    if len(short) >= 3 and long.startswith(short):
        return 0.85
    shared = len(words & words_2) or sum(
        any(_is_stem(w, v) for v in words_2) for w in words if len(w) >= 4
    )
    by_words = 0.0
    if shared:
        by_words = 0.45 + 0.4 * shared / max(len(words), len(words_2))
        if shared == min(len(words), len(words_2)):
            by_words = max(by_words, 0.75)
    # ``spcs`` for ``species``: the letters of a short name in order within the long one.
    if len(short) >= 3 and short[0] == long[0] and _is_within(short, long):
        by_words = max(by_words, 0.65)
    dice = 2 * len(bigrams & bigrams_2) / max(1, len(bigrams) + len(bigrams_2))
    return max(by_words, 0.8 * dice)


def _is_stem(one: str, other: str) -> bool:
    """Whether one of two words, of four letters at least, begins the other: drill, drilled."""
    short, long = sorted((one, other), key=len)
    return len(short) >= 4 and long.startswith(short)


def _is_within(short: str, long: str) -> bool:
    rest = iter(long)
    return all(letter in rest for letter in short)


@dataclass(frozen=True)
class Profile:
    """What is known of a field's values.

    as_numbers, dates : how a text can be read, if it can: what to leave out, how dates are written
    values : distinct texts, folded; shapes : how often each form occurs, as shares
    low, high : range of numbers or dates
    digits : whole numbers and texts of digits alone, without zeros in front
    code_width : of texts of digits that are all as long, some with zeros in front: how long; else 0
    has_codes : some are digits with zeros in front, which a number would not have
    """

    field: pa.Field
    kind: str
    is_unique: bool
    n_distinct: int
    values: frozenset[str]
    shapes: dict[str, float]
    low: float | None
    high: float | None
    as_numbers: str | None
    dates: str | None
    digits: frozenset[str] = frozenset()
    code_width: int = 0
    has_codes: bool = False


def profile(field: pa.Field, column: pa.ChunkedArray) -> Profile:
    """Look at a field's values once."""
    kind = kind_of(field.type)
    known = pc.drop_null(column)
    if pa.types.is_dictionary(known.type):
        known = pc.cast(known, known.type.value_type)
    distinct = pc.unique(known) if kind != "blob" else known[:0]
    n_distinct = len(distinct)
    some = distinct[:MOST_VALUES]
    digits: list[str] = []
    code_width = 0
    values: frozenset[str] = frozenset()
    shapes: dict[str, float] = {}
    as_numbers = dates = None
    low = high = None
    if kind == "text":
        texts = [v for v in some.to_pylist() if v.strip()]
        values = frozenset(v.casefold().strip() for v in texts)
        chunked = pa.chunked_array([pa.array(texts, pa.string())])
        digits = [v for v in map(str.strip, texts) if v.isascii() and v.isdigit()]
        widths = {len(v) for v in digits}
        if len(digits) == len(texts) and len(widths) == 1 and any(v[0] == "0" for v in digits):
            code_width = widths.pop()
        counts = Counter(map(_form, texts))
        shapes = {form: n / max(1, len(texts)) for form, n in counts.most_common(30)}
        as_numbers = _number_form(chunked)
        dates = None if as_numbers == "" else _date_form(chunked)
        numbers = _as_real(chunked, as_numbers, dates)
    elif kind in ("number", "date", "time"):
        numbers = _as_real(pa.chunked_array([some]), "", None)
        if pa.types.is_integer(field.type):
            digits = [str(v) for v in some.to_pylist() if v >= 0]
    else:
        numbers = np.zeros(0)
    if len(numbers):
        low, high = (float(v) for v in np.quantile(numbers, (0.05, 0.95)))
    is_unique = n_distinct == len(known) > 1
    return Profile(
        field=field,
        kind=kind,
        is_unique=is_unique,
        n_distinct=n_distinct,
        values=values,
        shapes=shapes,
        low=low,
        high=high,
        as_numbers=as_numbers,
        dates=dates,
        digits=frozenset(v.lstrip("0") or "0" for v in digits),
        code_width=code_width,
        has_codes=kind == "text" and any(v[0] == "0" and len(v) > 1 for v in digits),
    )


class _Letters(dict[int, str]):
    """What stands for a character in the form of a text; found out once for each."""

    def __missing__(self, code: int) -> str:
        letter = chr(code)
        for test, stands in ((str.isupper, "A"), (str.isalpha, "a"), (str.isdigit, "9")):
            if test(letter):
                letter = stands
                break
        self[code] = letter
        return letter


_LETTERS = _Letters()
_RUNS = re.compile("a+|9+")
_BEGIN = re.compile(r"\s*[-+]?[.,]?\d[\d.,]*(?=\D|$)")


def _form(text: str) -> str:
    """Return the form of a text: K/014 is A/9, M. Ardlow is A. Aa."""
    return _RUNS.sub(lambda match: match[0][0], text[:60].translate(_LETTERS))[:30]


def _number_form(texts: pa.ChunkedArray) -> str | None:
    """Return what to leave out so that nearly all texts are numbers: ``%``, `` m`` or nothing."""
    if len(texts) == 0:
        return None
    begins = [_BEGIN.match(t) for t in texts.to_pylist()[:200]]
    endings = Counter(None if m is None else m.string[m.end() :] for m in begins)
    ending, times = endings.most_common(1)[0]
    if ending is None or len(ending) > 6 or times < 0.8 * endings.total():
        return None
    if any(c.isdigit() for c in ending):
        ending = ""  # 5e3 is a number without a unit
    bare = pc.replace_substring(texts, ending, "") if ending else texts
    lost = recast(bare, typed_field("x", "real")).lost
    return ending.strip() if lost.mean() <= 0.1 else None


def _date_form(texts: pa.ChunkedArray) -> str | None:
    digits = [sum(c.isdigit() for c in t) for t in texts.slice(0, 20).to_pylist()]
    if not digits or max(digits) < 6:
        return None  # a day, a month and a year have more
    for form in DATE_FORMS:
        if recast(texts, typed_field("x", "date"), form).lost.mean() <= 0.1:
            return form
    return None


def _as_real(column: Any, as_numbers: str | None, dates: str | None) -> np.ndarray:
    kind = kind_of(column.type)
    if kind == "text":
        if as_numbers is not None:
            bare = pc.replace_substring(column, as_numbers, "") if as_numbers else column
            data = recast(bare, typed_field("x", "real")).data
        elif dates is not None:
            data = recast(column, typed_field("x", "date"), dates).data
            return np.asarray(pc.cast(pc.drop_null(data), pa.int32())).astype(float)
        else:
            return np.zeros(0)
    elif kind == "time":
        data = pc.cast(column, pa.timestamp("ms", tz="UTC"), safe=False)
        return np.asarray(pc.cast(pc.drop_null(data), pa.int64())).astype(float) / 86_400_000
    elif kind == "date":
        return np.asarray(pc.cast(pc.drop_null(column), pa.int32())).astype(float)
    else:
        data = pc.cast(column, pa.float64(), safe=False)
    found = np.asarray(pc.drop_null(data), float)
    return found[np.isfinite(found)]


@dataclass(frozen=True)
class Evidence:
    """How alike two fields are: each 0 to 1, and the confidence that they hold the same."""

    name: float
    type: float
    values: float
    common: float
    confidence: float
    padded: str = ""

    @property
    def words(self) -> str:
        words = (
            f"confidence {self.confidence:.2f}: name {self.name:.2f}, type {self.type:.2f}, values "
            f"{self.values:.2f}"
        )
        return f"{words}; {self.padded}" if self.padded else words


def evidence(one: Profile, other: Profile) -> Evidence:
    """Weigh name, type and values of two fields."""
    name = name_likeness(one.field.name, other.field.name)
    fit = _type_fit(one, other)
    common, values = _value_likeness(one, other)
    padded = ""
    if width_of_codes(one, other):
        shared = len(one.digits & other.digits)
        least = min(len(one.digits), len(other.digits))
        if least >= 3 and 2 * shared >= least:
            fit, common = 0.9, shared / least
            values = max(values, common)
            width = width_of_codes(one, other)
            padded = f"{shared:,} of {least:,} codes in common once filled up to {width} digits"
    confidence = 0.55 * name + 0.2 * fit + 0.25 * values
    if padded or (common >= 0.5 and min(len(one.values), len(other.values)) >= 3):
        # Texts in common say more than names do.
        confidence = max(confidence, 0.2 * fit + 0.75 * common)
    elif one.values and other.values and common == 0 and _are_codes(one) and _are_codes(other):
        confidence -= 0.15
    if fit <= 0.2:
        confidence *= 0.4
    return Evidence(name, fit, values, common, max(0.0, min(1.0, confidence)), padded)


def width_of_codes(*profiles: Profile) -> int:
    """Return how long codes are of which some fields have lost the zeros in front; else 0."""
    widths = {p.code_width for p in profiles if p.code_width}
    bare = [p for p in profiles if not p.code_width]
    if len(widths) != 1 or not bare or not all(p.digits for p in bare):
        return 0
    width = widths.pop()
    is_short = all(len(v) <= width for p in bare for v in p.digits)
    is_bare = all(p.kind == "number" or len(p.digits) == p.n_distinct for p in bare)
    return width if is_short and is_bare else 0


def _are_codes(one: Profile) -> bool:
    return one.kind == "text" and one.n_distinct <= 50


def _type_fit(one: Profile, other: Profile) -> float:
    kinds = {one.kind, other.kind}
    if len(kinds) == 1 or "null" in kinds:
        return 1.0
    if kinds == {"date", "time"}:
        return 0.9
    if "text" in kinds:
        text = one if one.kind == "text" else other
        if "number" in kinds and text.as_numbers is not None:
            return 0.8
        if kinds & {"date", "time"} and text.dates is not None:
            return 0.9
        if "boolean" in kinds and text.values <= TRUTH:
            return 0.8
        if one.is_unique and other.is_unique and "number" in kinds:
            return 0.6  # two ways of numbering things
    if kinds == {"number", "boolean"}:
        return 0.5
    return 0.1


def _value_likeness(one: Profile, other: Profile) -> tuple[float, float]:
    """Return the share of texts in common, and how alike the values are in all."""
    if one.values and other.values and one.kind == other.kind == "text":
        least = min(len(one.values), len(other.values))
        common = len(one.values & other.values) / least
        alike = sum(min(share, other.shapes.get(form, 0.0)) for form, share in one.shapes.items())
        return common, max(common, 0.7 * alike)
    if None not in (one.low, one.high, other.low, other.high):
        return 0.0, 0.8 * _overlap(one, other)
    if one.is_unique and other.is_unique:
        return 0.0, 0.6
    return 0.0, 0.3 if one.kind == other.kind else 0.0


def _overlap(one: Profile, other: Profile) -> float:
    """Return the share of the narrower range that lies in the other; near ones count a little."""
    assert one.low is not None and one.high is not None
    assert other.low is not None and other.high is not None
    shared = min(one.high, other.high) - max(one.low, other.low)
    least = min(one.high - one.low, other.high - other.low)
    if shared < 0:
        whole = max(one.high, other.high) - min(one.low, other.low)
        return 0.4 if -shared < 0.5 * whole else 0.0
    return 1.0 if least == 0 else shared / least
