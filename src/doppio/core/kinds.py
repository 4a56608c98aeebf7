"""What a kind says about itself, and where the kinds of a family are found.

A kind is a way of doing one thing: a fusion method, a dense structure. It is one module that declares itself as
`KIND`, in the package of its family; nothing else knows it by name.
"""

import importlib
import pkgutil
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any, Generic, Protocol, TypeVar

Schema = dict[str, Any]
# Where a kind stands in menus that does not say it.
LAST = 99


@dataclass(frozen=True)
class Setting:
    """A setting of a kind.

    name : as it stands in a recipe
    title : for people
    schema : JSON schema of its values, with the default
    built : whether it is settled when something is built; otherwise it applies when a question is asked
    """

    name: str
    title: str
    schema: Schema
    built: bool = False


def whole(name: str, title: str, low: int, high: int, default: int, *, built: bool = False) -> Setting:
    """A whole number from `low` to `high`."""
    return Setting(name, title, {"type": "integer", "minimum": low, "maximum": high, "default": default}, built)


def number(name: str, title: str, low: float, high: float, default: float, *, built: bool = False) -> Setting:
    """A number from `low` to `high`."""
    return Setting(name, title, {"type": "number", "minimum": low, "maximum": high, "default": default}, built)


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
    """The kinds of one family, found in its package by the `KIND` of each module.

    Parameters
    ----------
    package : str
        Name of the package.
    key : str
        The field of a recipe that holds the name of the kind.
    """

    def __init__(self, package: str, key: str) -> None:
        self.key = key
        self._package = package

    @cached_property
    def kinds(self) -> Mapping[str, K]:
        """Kinds by name."""
        package = importlib.import_module(self._package)
        modules = [
            importlib.import_module(f"{self._package}.{found.name}")
            for found in pkgutil.iter_modules(package.__path__)
        ]
        found: list[K] = [module.KIND for module in modules if hasattr(module, "KIND")]
        return {kind.name: kind for kind in sorted(found, key=lambda kind: (getattr(kind, "order", LAST), kind.name))}

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

    def schemas(self, common: Mapping[str, Schema]) -> dict[str, Schema]:
        """JSON schema of the settings of each kind, its name and what all of them have included."""
        return {
            kind.name: {
                "type": "object",
                "additionalProperties": False,
                "required": [self.key],
                "properties": {
                    self.key: {"enum": [kind.name]},
                    **{setting.name: setting.schema for setting in kind.settings},
                    **common,
                },
            }
            for kind in self
        }
