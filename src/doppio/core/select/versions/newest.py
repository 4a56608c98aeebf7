"""The newest version stands for the others: by a date or a number that documents say of themselves."""

from collections.abc import Sequence
from typing import Any

from doppio.core.kinds import Setting, Settings
from doppio.core.select.pool import Pool
from doppio.core.select.versions.kind import ALIKE
from doppio.core.text.metadata import DATE, NUMBER, kind_of, read_number

# Names that documents have for it, the most telling first.
FIELDS = ("valid from", "in force since", "edition", "version", "date", "modified", "updated", "created", "year")


class Newest:
    """The first field that any two versions have decides: the later date, or the larger number.

    Where none does, or it is the same, the better score stands.
    """

    name, title, order, chooses = "newest", "the newest version", 2, True
    settings: tuple[Setting, ...] = (
        Setting(
            "field",
            "By the field",
            {"type": "string", "maxLength": 120, "default": ""},
            help=f"of the documents' metadata; empty: the first of {', '.join(FIELDS)}",
        ),
        ALIKE,
    )

    def best(self, pool: Pool, places: Sequence[int], settings: Settings) -> int:
        told = [{_plain(name): value for name, value in pool.metadata[place].items()} for place in places]
        for field in [_plain(settings["field"])] if settings["field"] else FIELDS:
            known = [(rank(one[field]), -at) for at, one in enumerate(told) if field in one]
            known = [one for one in known if one[0] is not None]
            if len(known) > 1:
                return places[-max(known)[1]]
        return places[0]


def rank(value: Any) -> tuple[int, Any] | None:
    """By what two values are compared: dates after numbers, never with each other; None for what has no order."""
    if isinstance(value, list):
        return None
    kind = kind_of(value)
    if kind == NUMBER:
        return 0, float(value)
    if kind == DATE:
        return 1, str(value)
    number = read_number(str(value).strip())
    return None if number is None else (0, float(number))


def _plain(name: str) -> str:
    return " ".join(name.replace("_", " ").replace("-", " ").lower().split())


KIND = Newest()
