"""What annotations and classes need of :mod:`typing`, at next to no cost when the program runs.

To a type checker these are that module's. But it takes three milliseconds to
load, and a quarter of one for each class of named tuples, to check its
annotations and to compile how it is called: with the fifty classes of a short
command, that was a quarter of its time. Here annotations stand for nothing,
nothing is checked, and nothing compiled before it is worth while.
"""

TYPE_CHECKING = False

if TYPE_CHECKING:
    from typing import Any as Any
    from typing import Generic as Generic
    from typing import NamedTuple as NamedTuple
    from typing import NoReturn as NoReturn
    from typing import Protocol as Protocol
    from typing import TextIO as TextIO
    from typing import TypeVar as TypeVar
    from typing import final as final
else:

    class TypeVar:
        """Stands for a type in an annotation."""

        def __init__(self, name: str, bound: object = None) -> None:
            self.name = name

        def __getitem__(self, types: object) -> "TypeVar":
            return self

        def __or__(self, other: object) -> "TypeVar":
            return self

        __ror__ = __or__

    Any, NoReturn, TextIO = map(TypeVar, ("Any", "NoReturn", "TextIO"))

    class Generic:
        """A base for classes that annotations give types to."""

        __slots__ = ()

        def __class_getitem__(cls, types: object) -> type:
            return cls

    class Protocol(Generic):
        """A base for classes that tell what others must have."""

    def final(one: type) -> type:
        """The class has no subclasses."""
        return one

    try:
        from _collections import _tuplegetter as _field
    except ImportError:  # another Python than CPython
        from operator import itemgetter

        def _field(place: int, about: str) -> property:
            return property(itemgetter(place), doc=about)

    _MANY = 20
    """So often a class is called before it is worth compiling how."""

    class _Making(type):
        """Makes the class of fields from the annotations of one."""

        def __new__(cls, name: str, bases: tuple[type, ...], given: dict[str, Any]) -> type:
            fields = tuple(given.get("__annotations__", ()))
            if not fields:  # the first of all, or one that adds methods to another
                return super().__new__(cls, name, bases, {"__slots__": (), **given})
            defaults = {field: given.pop(field) for field in fields if field in given}
            given |= {field: _field(place, field) for place, field in enumerate(fields)}
            given |= {"__slots__": (), "__match_args__": fields, "_fields": fields, "_field_defaults": defaults}

            calls = 0

            def first(of: type, *values: Any, **named: Any) -> tuple[Any, ...]:
                nonlocal calls
                calls += 1
                if calls == _MANY:
                    made.__new__ = staticmethod(_maker(fields, defaults))
                known = {**defaults, **named}
                rest = [known[field] for field in fields[len(values) :] if field in known]
                if len(values) + len(rest) != len(fields) or not named.keys() <= set(fields[len(values) :]):
                    return _maker(fields, defaults)(of, *values, **named)  # which says what is wrong
                return tuple.__new__(of, (*values, *rest))

            given["__new__"] = first
            made = super().__new__(cls, name, bases, given)
            return made

    class NamedTuple(tuple, metaclass=_Making):
        """A tuple whose places have names, those of the annotations."""

        @classmethod
        def _make(cls, values: Any) -> Any:
            made = tuple.__new__(cls, values)
            if len(made) != len(cls._fields):
                raise TypeError(f"{cls.__name__} has {len(cls._fields)} fields, and not {len(made)}")
            return made

        def _replace(self, **named: Any) -> Any:
            values = [named.pop(field, value) for field, value in zip(self._fields, self, strict=True)]
            if named:
                raise ValueError(f"{type(self).__name__} has no field {', '.join(named)}")
            return tuple.__new__(type(self), values)

        def _asdict(self) -> dict[str, Any]:
            return dict(zip(self._fields, self, strict=True))

        def __repr__(self) -> str:
            return f"{type(self).__name__}({', '.join(f'{name}={value!r}' for name, value in self._asdict().items())})"

        def __getnewargs__(self) -> tuple[Any, ...]:
            return tuple(self)

    def _maker(fields: tuple[str, ...], defaults: dict[str, Any]) -> Any:
        """What makes a tuple of its fields; compiled, for it is called millions of times."""
        names = ", ".join(fields)
        maker = eval(f"lambda _of, {names}: _new(_of, ({names},))", {"_new": tuple.__new__})
        maker.__defaults__ = tuple(defaults.values())
        return maker
