"""Data classes and named tuples that cost little when they are made: each command makes some 130.

Those of the standard library write up to half a dozen functions for each class and have Python compile
them, 1.5 ms a data class and 0.4 a named tuple on a machine where all else of a start takes 400 ms.
Here the functions are the same for all and look up the fields, and annotations, which are texts, are
not compiled; an object costs about the same. ``fields``, ``replace`` and ``field`` of the standard
library work with the data classes.
"""

from __future__ import annotations

import dataclasses
import functools
import operator
import types
from collections import _tuplegetter  # type: ignore[attr-defined]
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from collections.abc import Callable
    from dataclasses import dataclass
    from inspect import Signature
    from typing import NamedTuple
else:

    class _Named(type):
        """What makes a class with `NamedTuple` as its base a tuple with names."""

        def __new__(mcls, name: str, bases: tuple[type, ...], space: dict[str, Any]) -> type:
            return (
                _tuple_with_names(name, space) if bases else super().__new__(mcls, name, (), space)
            )

    class NamedTuple(metaclass=_Named):
        """The base of tuples with names, as ``typing.NamedTuple`` is."""

    def dataclass(
        cls: type | None = None, /, *, frozen: bool = False, repr: bool = True
    ) -> type | Callable[[type], type]:
        """Make a data class, as ``dataclasses.dataclass`` does with these options."""

        def made(cls: type) -> type:
            said, cls.__doc__ = cls.__doc__, "-"  # where there is none one is made of the signature
            plain = dataclasses.dataclass(init=False, repr=False, eq=False)(cls)
            plain.__doc__ = said
            return _with_methods(plain, frozen, repr)

        return made if cls is None else made(cls)


__all__ = ["NamedTuple", "dataclass"]
NONE = dataclasses.MISSING


def _with_methods(cls: Any, frozen: bool, shown: bool) -> Any:
    fields = dataclasses.fields(cls)
    get = _all_of([field.name for field in fields])
    cls.__init__ = _start_of(fields, getattr(cls, "__post_init__", None))
    cls.__signature__ = _Signature(fields)
    if "__eq__" not in vars(cls):
        cls.__eq__ = _equals(get)
        cls.__hash__ = _hash(get) if frozen else None
    if shown and "__repr__" not in vars(cls):
        cls.__repr__ = _repr
    if frozen:
        cls.__setattr__, cls.__delattr__ = _refuse, _refuse
    return cls


def _start_of(
    fields: tuple[dataclasses.Field[Any], ...], after: Callable[[Any], None] | None
) -> Callable[..., None]:
    fields = tuple(field for field in fields if field.init)
    names = tuple(field.name for field in fields)
    known, n = frozenset(names), len(names)
    values = {f.name: f.default for f in fields if f.default is not NONE}
    makers = {f.name: f.default_factory for f in fields if f.default_factory is not NONE}

    def __init__(self: Any, /, *given: Any, **named: Any) -> None:
        own = self.__dict__  # past what refuses changes
        own.update(zip(names, given, strict=False))
        if len(given) > n or (named and (not named.keys() <= known or own.keys() & named.keys())):
            raise TypeError(_complaint(type(self).__name__, names, given, named))
        own.update(named)
        if len(own) < n:
            for name, value in values.items():
                own.setdefault(name, value)
            for name, maker in makers.items():
                if name not in own:
                    own[name] = maker()
            if len(own) < n:
                raise TypeError(_complaint(type(self).__name__, names, given, named))
        if after is not None:
            self.__post_init__()

    return __init__


def _complaint(
    cls: str, names: tuple[str, ...], given: tuple[Any, ...], named: dict[str, Any]
) -> str:
    """Return what is wrong with the arguments that an object was to be made of."""
    if len(given) > len(names):
        return f"{cls}() takes at most {len(names)} arguments, and there are {len(given)}"
    for name in named:
        if name not in names:
            return f"{cls}() has no field {name!r}"
        if name in names[: len(given)]:
            return f"{cls}() got {name!r} twice"
    return f"{cls}() needs more arguments: it has {', '.join(names)}"


def _all_of(names: list[str]) -> Callable[[Any], tuple[Any, ...]]:
    """Return what gets the values of fields, in a tuple."""
    if len(names) > 1:
        return operator.attrgetter(*names)
    return lambda self: tuple([getattr(self, name) for name in names])


def _equals(get: Callable[[Any], Any]) -> Callable[[Any, object], bool]:
    def __eq__(self: Any, other: object) -> bool:
        if other.__class__ is not self.__class__:
            return NotImplemented
        return bool(get(self) == get(other))

    return __eq__


def _hash(get: Callable[[Any], Any]) -> Callable[[Any], int]:
    def __hash__(self: Any) -> int:
        return hash(get(self))

    return __hash__


def _repr(self: Any) -> str:
    texts = (f"{f.name}={getattr(self, f.name)!r}" for f in dataclasses.fields(self))
    return f"{type(self).__qualname__}({', '.join(texts)})"


def _refuse(self: Any, name: str, *value: Any) -> None:
    raise dataclasses.FrozenInstanceError(f"cannot assign to or delete field {name!r}")


class _Signature:
    """The arguments that an object is made of, put together when somebody asks."""

    def __init__(self, fields: tuple[dataclasses.Field[Any], ...]) -> None:
        self.fields = fields

    def __get__(self, made: Any, cls: type) -> Signature:
        from inspect import Parameter, Signature

        return Signature(
            [
                Parameter(
                    f.name, Parameter.POSITIONAL_OR_KEYWORD, annotation=f.type,
                    default=Parameter.empty if _is_needed(f) else f.default,
                )
                for f in self.fields if f.init
            ]
        )  # fmt: skip


def _is_needed(field: dataclasses.Field[Any]) -> bool:
    return field.default is NONE and field.default_factory is NONE


def _tuple_with_names(name: str, space: dict[str, Any]) -> type:
    """Return a class of tuples; it has all that those of ``collections.namedtuple`` have."""
    names = tuple(space.get("__annotations__", ()))
    defaults = {field: space.pop(field) for field in names if field in space}
    if tuple(defaults) != names[len(names) - len(defaults) :]:
        raise TypeError(f"in {name} a field without a default follows one that has one")
    getters = {field: _tuplegetter(k, f"Field {k}") for k, field in enumerate(names)}
    given = {"__doc__": f"{name}({', '.join(names)})", **_TUPLE, **getters, **space}
    known = {
        "__slots__": (),
        "__match_args__": names,
        "_fields": names,
        "_field_defaults": defaults,
    }
    new = _new_of(names, defaults)
    new.__annotations__ = space.get("__annotations__", {})
    return type(name, (tuple,), {**given, **known, "__new__": new})


def _new_of(names: tuple[str, ...], defaults: dict[str, Any]) -> Any:
    """Return what makes a tuple of fields with these names: compiled once for each number of them."""
    code = _code_for(len(names)).replace(co_varnames=("_cls", *names))
    return types.FunctionType(code, {"made": tuple.__new__}, "__new__", tuple(defaults.values()))


@functools.cache
def _code_for(n: int) -> types.CodeType:
    given = "".join(f"_{k}, " for k in range(n))
    code: types.CodeType = eval(f"lambda _cls, {given}: made(_cls, ({given}))").__code__
    return code


def _made(cls: Any, values: Any) -> Any:
    found = tuple.__new__(cls, values)
    if len(found) != len(cls._fields):
        raise TypeError(f"{cls.__name__} has {len(cls._fields)} fields, not {len(found)}")
    return found


def _replaced(self: Any, /, **named: Any) -> Any:
    found = self._make(map(named.pop, self._fields, self))
    if named:
        raise ValueError(f"{type(self).__name__} has no field {', '.join(map(repr, named))}")
    return found


def _as_dict(self: Any) -> dict[str, Any]:
    return dict(zip(self._fields, self, strict=True))


def _shown(self: Any) -> str:
    texts = map("{}={!r}".format, self._fields, self)
    return f"{type(self).__name__}({', '.join(texts)})"


def _plain(self: Any) -> tuple[Any, ...]:
    return tuple(self)


_TUPLE = {
    "_make": classmethod(_made),
    "_replace": _replaced,
    "_asdict": _as_dict,
    "__repr__": _shown,
    "__getnewargs__": _plain,
}
