"""The version that a field of its document prefers: such as the one that is in force, or in the reader's language."""

from collections.abc import Sequence
from datetime import date

from doppio.core.kinds import Setting, Settings
from doppio.core.select.pool import Pool
from doppio.core.select.versions.kind import ALIKE
from doppio.core.text.metadata import DATE, kind_of

TEXT = {"type": "string", "minLength": 1, "maxLength": 120}


class Preferred:
    """A version whose field holds the value stands before all others, and else the better score.

    A field that holds dates, asked for `today`, prefers what has not ended: `valid until` today or later.
    """

    name, title, order, chooses = "preferred", "the version that a field prefers", 3, True
    settings: tuple[Setting, ...] = (
        Setting("field", "Field", TEXT, help="of the documents' metadata, such as `status`"),
        Setting("value", "Value", TEXT, help="such as `in force`; `today` for a date that has not passed"),
        ALIKE,
    )

    def best(self, pool: Pool, places: Sequence[int], settings: Settings) -> int:
        return next((place for place in places if self._holds(pool, place, settings)), places[0])

    def _holds(self, pool: Pool, place: int, settings: Settings) -> bool:
        value = pool.metadata[place].get(settings["field"])
        if value is None:
            return False
        wanted = settings["value"].strip().lower()
        if wanted == "today" and isinstance(value, str) and kind_of(value) == DATE:
            return value[:10] >= date.today().isoformat()
        held = value if isinstance(value, list) else [value]
        return any(str(one).strip().lower() == wanted for one in held)


KIND = Preferred()
