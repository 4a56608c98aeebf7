"""What a kind says about itself, and where the kinds of a family are found.

A kind is a way of doing one thing: a chunking rule, a branch, a fusion method. It is one module that declares itself
as `KIND`, in the package of its family or in a package installed beside Doppio; nothing else knows it by name.
"""

import importlib
import pkgutil
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Generic, Protocol, TypeVar

from jsonschema import Draft202012Validator
from jsonschema.exceptions import SchemaError, ValidationError

from doppio.core import outside

Schema = dict[str, Any]
Settings = Mapping[str, Any]
# Where a kind stands in menus that does not say it.
LAST = 99
ANY = "any"
ENCODER = "encoder"
_MODEL = r"^[a-z0-9][a-z0-9-]{0,63}\Z"
# What a setting may name besides kinds and encoders.
REGISTERED = WRITER, ANSWERER, EXPANDER, TOKENIZER = ("writer", "answerer", "expander", "tokenizer")


@dataclass(frozen=True)
class Setting:
    """A setting of a kind.

    name : as it stands in a recipe
    title : for people
    schema : JSON schema of its values, with the default where there is one
    built : whether it is settled when something is built; otherwise it applies when a question is asked
    help : a few words more; for a number what its direction means
    when : settings of the same kind and the values of theirs under which this one does anything; `ANY` stands for
        all but an empty one
    choices : what people read for each value of an enumeration
    kinds : name of the family whose kinds its value is one of
    inside : settings of an object that is its value
    older : names that it had in older recipes, which are still read
    may_lack : whether it may be left out though it has no default
    many : whether its value is a list of kinds
    """

    name: str
    title: str
    schema: Schema
    built: bool = False
    help: str = ""
    when: Mapping[str, Sequence[str]] = field(default_factory=dict)
    choices: Mapping[str, str] = field(default_factory=dict)
    kinds: str = ""
    inside: tuple["Setting", ...] = ()
    older: tuple[str, ...] = ()
    may_lack: bool = False
    many: bool = False

    @property
    def required(self) -> bool:
        """Whether it has to be given."""
        return "default" not in self.schema and not self.may_lack

    @property
    def default(self) -> Any:
        return self.schema.get("default")


def whole(name: str, title: str, low: int, high: int, default: int | None = None, **more: Any) -> Setting:
    """A whole number from `low` to `high`; one without a default has to be given."""
    return Setting(name, title, {"type": "integer", "minimum": low, "maximum": high, **_given(default)}, **more)


def number(name: str, title: str, low: float, high: float, default: float | None = None, **more: Any) -> Setting:
    """A number from `low` to `high`."""
    return Setting(name, title, {"type": "number", "minimum": low, "maximum": high, **_given(default)}, **more)


def optional(setting: Setting, default: Any = None) -> Setting:
    """The same, or null; which is the default unless another is given."""
    schema = {"anyOf": [setting.schema, {"type": "null"}], "default": default}
    return Setting(**{**vars(setting), "schema": schema})


def choice(name: str, title: str, choices: Mapping[str, str], default: str | None = None, **more: Any) -> Setting:
    """One of some values, each with what people read for it."""
    return Setting(name, title, {"enum": list(choices), **_given(default)}, choices=choices, **more)


def switch(name: str, title: str, default: bool, **more: Any) -> Setting:
    """On or off."""
    return Setting(name, title, {"type": "boolean", "default": default}, **more)


def encoder(name: str, title: str, default: str, **more: Any) -> Setting:
    """The name of an encoder."""
    schema = {"type": "string", "pattern": _MODEL, "format": ENCODER, "default": default}
    return Setting(name, title, schema, **more)


def registered(name: str, title: str, what: str, **more: Any) -> Setting:
    """The name of something that `./doppio model` registered, of a sort that is one of `REGISTERED`."""
    assert what in REGISTERED
    return Setting(name, title, {"type": "string", "pattern": r"^[a-z0-9-]{1,64}\Z", "format": what}, **more)


def one_of_kinds(name: str, title: str, family: str, default: str, **more: Any) -> Setting:
    """A kind of another family with its settings."""
    key = family_of(family).key
    return Setting(name, title, {"type": "object", "default": {key: default}}, kinds=family, **more)


def several_of_kinds(name: str, title: str, family: str, most: int, **more: Any) -> Setting:
    """A list of kinds of another family, each with its settings; empty where it is left out."""
    schema = {"type": "array", "maxItems": most, "items": {"type": "object"}, "default": []}
    return Setting(name, title, schema, kinds=family, many=True, **more)


def group(name: str, title: str, inside: Sequence[Setting], default: Any = None, **more: Any) -> Setting:
    """Settings that stand together in an object."""
    return Setting(name, title, {**object_schema(inside, {}), **_given(default)}, inside=tuple(inside), **more)


def _given(default: Any) -> Schema:
    return {} if default is None else {"default": default}


class Kind(Protocol):
    """What every kind has.

    name : in a recipe
    title : for people
    settings : its own, beside those that all of its family have

    A number `order` says where it stands in menus, and a text `summary` what is said of its settings in a few words,
    with the names of settings in braces.
    """

    @property
    def name(self) -> str: ...
    @property
    def title(self) -> str: ...
    @property
    def settings(self) -> tuple[Setting, ...]: ...


K = TypeVar("K", bound=Kind)


class Family(Generic[K]):
    """The kinds of one family, found by the `KIND` of each module of its package, and in packages from outside.

    Parameters
    ----------
    name : str
        Under which the family stands in the catalogue, and in entry points.
    package : str
        Name of the package.
    protocol : type
        What its kinds are; one from outside that lacks something is refused.
    key : str
        The field of a recipe that holds the name of the kind; empty where no recipe names one.
    common : sequence of Setting
        Settings that all of its kinds have.
    """

    def __init__(
        self, name: str, package: str, protocol: type, *, key: str = "", common: Sequence[Setting] = ()
    ) -> None:
        self.name, self.key, self.common = name, key, tuple(common)
        self._package, self._protocol = package, protocol
        self._seen: tuple[int, Mapping[str, K], Mapping[str, Schema]] | None = None
        _FAMILIES[name] = self

    @property
    def kinds(self) -> Mapping[str, K]:
        """Kinds by name, in the order of menus."""
        return self._now()[1]

    def schemas(self) -> Mapping[str, Schema]:
        """JSON schema of the settings of each kind, its name and what all of them have included."""
        return self._now()[2]

    def origin(self, name: str) -> str:
        """The package that a kind came with; empty for Doppio's own."""
        found = outside.kinds_of(self.name).get(name)
        return found[1] if found else ""

    def _now(self) -> tuple[int, Mapping[str, K], Mapping[str, Schema]]:
        stamp = outside.stamp()
        if self._seen is None or self._seen[0] != stamp:
            kinds = self._found()
            self._seen = stamp, kinds, {kind.name: self._schema(kind) for kind in kinds.values()}
        return self._seen

    def _found(self) -> dict[str, K]:
        package = importlib.import_module(self._package)
        modules = [
            importlib.import_module(f"{self._package}.{entry.name}")
            for entry in pkgutil.iter_modules(package.__path__)
        ]
        own: list[K] = [module.KIND for module in modules if hasattr(module, "KIND")]
        taken = {kind.name for kind in own}
        for name, (kind, origin) in outside.kinds_of(self.name).items():
            wrong = f"a kind of Doppio has the name {name!r}" if name in taken else self._wrong(kind)
            if wrong:
                outside.refuse(f"{self.name}.{name}", origin, wrong)
            else:
                own.append(kind)
        return {kind.name: kind for kind in sorted(own, key=lambda kind: (getattr(kind, "order", LAST), kind.name))}

    def _wrong(self, kind: Any) -> str:
        """Why something is no kind of this family; empty where it is one."""
        lacking = [name for name in members(self._protocol) if not hasattr(kind, name)]
        if lacking:
            return f"it has no {', '.join(lacking)}"
        for setting in kind.settings:
            try:
                Draft202012Validator.check_schema(setting.schema)
                if "default" in setting.schema:
                    Draft202012Validator(setting.schema).validate(setting.default)
            except (SchemaError, ValidationError) as error:
                return f"its setting {setting.name!r} is wrong: {error.message}"
        return ""

    def _schema(self, kind: K) -> Schema:
        return object_schema(self.settings_of(kind), {self.key: {"enum": [kind.name]}} if self.key else {})

    def __iter__(self) -> Iterator[K]:
        return iter(self.kinds.values())

    def get(self, name: str) -> K:
        """The kind of that name.

        Raises
        ------
        ValueError
            If there is none; names those that there are.
        """
        if name not in self.kinds:
            raise ValueError(f"{name!r} is not one of {', '.join(self.kinds)}")
        return self.kinds[name]

    def settings_of(self, kind: K) -> tuple[Setting, ...]:
        """The settings of a kind: those of all of its family where it has none of that name, and its own."""
        own = {setting.name for setting in kind.settings}
        return (*(setting for setting in self.common if setting.name not in own), *kind.settings)


_FAMILIES: dict[str, Family[Any]] = {}


def family_of(name: str) -> Family[Any]:
    """A family by its name."""
    return _FAMILIES[name]


def families() -> Mapping[str, Family[Any]]:
    """All families whose modules have been imported."""
    return _FAMILIES


def load_all() -> None:
    """Import the kinds of all families whose modules have been imported."""
    for family in list(_FAMILIES.values()):
        _ = family.kinds


def refused() -> list[outside.Refused]:
    """Kinds from outside that are switched on and not used, with the reason; every family has been looked at."""
    load_all()
    for name in outside.known_families() - set(_FAMILIES):
        for kind, (_, origin) in outside.kinds_of(name).items():
            known = ", ".join(_FAMILIES)
            outside.refuse(f"{name}.{kind}", origin, f"there is no family {name!r}; there are {known}")
    return outside.refused()


def object_schema(settings: Sequence[Setting], more: Mapping[str, Schema]) -> Schema:
    """JSON schema of an object with some settings; those without a default have to be given."""
    return {
        "type": "object",
        "additionalProperties": False,
        "required": [*more, *(setting.name for setting in settings if setting.required)],
        "properties": {**more, **{setting.name: setting.schema for setting in settings}},
    }


def members(protocol: type) -> list[str]:
    """Names of what a protocol asks for."""
    found: dict[str, None] = {}
    for base in protocol.__mro__:
        if base not in (object, Protocol, Generic):
            found.update(dict.fromkeys(name for name in vars(base) if not name.startswith("_")))
    return list(found)
