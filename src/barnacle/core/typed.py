"""The names of `typing` that this program uses, without loading it.

`typing` itself, and above all the code that it writes and compiles for each NamedTuple (0.3 ms; a command has fifty),
took a third of a command's start. A type checker sees the real ones. Annotations are never evaluated here, so that most
names need no more than to exist; what reads them as it runs imports `typing`.
"""

from __future__ import annotations

TYPE_CHECKING = False

if TYPE_CHECKING:
    from typing import IO as IO
    from typing import Any as Any
    from typing import BinaryIO as BinaryIO
    from typing import NamedTuple as NamedTuple
    from typing import NoReturn as NoReturn
    from typing import Protocol as Protocol
    from typing import Self as Self
    from typing import TextIO as TextIO
    from typing import TypeVar as TypeVar
    from typing import cast as cast
else:
    from _collections import _tuplegetter  # what the standard library's named tuples are made of

    IO = dict
    Any = BinaryIO = NoReturn = Protocol = Self = TextIO = object

    def TypeVar(name, **bounds):
        return object

    def cast(kind, value):
        return value

    class _Record(tuple):
        """A named tuple, as `collections.namedtuple` has them."""

        __slots__ = ()
        _fields = ()
        _field_defaults = {}  # noqa: RUF012

        @classmethod
        def _make(cls, values):
            made = tuple.__new__(cls, values)
            if len(made) != len(cls._fields):
                raise TypeError(f"{cls.__name__} takes {len(cls._fields)} values, not {len(made)}")
            return made

        def _replace(self, /, **changed):
            made = self._make(map(changed.pop, self._fields, self))
            if changed:
                raise ValueError(f"{type(self).__name__} has no {', '.join(changed)}")
            return made

        def _asdict(self):
            return dict(zip(self._fields, self, strict=True))

        def __repr__(self):
            return f"{type(self).__name__}({', '.join(f'{name}={value!r}' for name, value in self._asdict().items())})"

        def __getnewargs__(self):
            return tuple(self)

    class _Making(type):
        def __new__(meta, name, bases, space):
            if not bases:
                return type.__new__(meta, name, bases, space)
            fields = tuple(space.get("__annotations__", ()))
            defaults = {field: space.pop(field) for field in fields if field in space}

            # The constructor is compiled when the first one is made.
            def first(cls, /, *args, **kwargs):
                new = eval(
                    f"lambda _cls, {', '.join(fields)}: _new(_cls, ({', '.join(fields)},))", {"_new": tuple.__new__}
                )
                new.__defaults__ = tuple(defaults.values())
                new.__qualname__ = f"{name}.__new__"
                made.__new__ = staticmethod(new)
                return new(cls, *args, **kwargs)

            space |= {field: _tuplegetter(place, field) for place, field in enumerate(fields)}
            own = {
                "__slots__": (),
                "_fields": fields,
                "_field_defaults": defaults,
                "__match_args__": fields,
                "__new__": first,
            }
            made = type(name, (_Record,), space | own)
            return made

    class NamedTuple(metaclass=_Making):
        """As `typing.NamedTuple`: fields by their annotations, with defaults."""
