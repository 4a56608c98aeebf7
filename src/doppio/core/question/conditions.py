"""Conditions on documents and sections, in words: `document is handbook/*, edition from 5, section has wind`."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import regex
from numpy.typing import NDArray

from doppio.core.chunking.table import ChunkTable, ChunkTexts
from doppio.core.errors import DoppioError
from doppio.core.text.metadata import DATE, Value, kind_of, read_number

MOST_CONDITIONS, LONGEST = 20, 1000
DOCUMENT, TITLE, SECTION = OWN = ("document", "title", "section")
# Longer ones first: "is not" is no "is".
SAYS = ("is not", "has not", "is", "has", "from", "to")
_ONE = regex.compile(
    rf"^\s*(?P<field>\"[^\"]+\"|[\p{{L}}\p{{N}}_.\- ]+?)\s+(?P<says>{'|'.join(SAYS)})\s+(?P<value>\S.*?)\s*$"
)
_PARTS = regex.compile(r"(?:\"[^\"]*\"|[^\",])+")
_OR = regex.compile(r"\s+or\s+(?=(?:[^\"]*\"[^\"]*\")*[^\"]*$)")


class ConditionError(DoppioError):
    """A condition that cannot be read."""


@dataclass(frozen=True)
class Condition:
    """One condition; it holds where any of its values does.

    field : "document", "title", "section", or a field of the metadata in small letters
    says : one of `SAYS`
    """

    field: str
    says: str
    values: tuple[str, ...]

    @property
    def positive(self) -> bool:
        return not self.says.endswith(" not")

    def holds(self, held: Sequence[Value]) -> bool:
        """Whether it holds for what a document says under the field; one that says nothing fails all but "not"."""
        found = any(self._one(value, wanted) for value in held for wanted in self.values)
        return found if self.positive else not found

    def _one(self, value: Value, wanted: str) -> bool:
        if isinstance(value, list):
            return any(self._one(one, wanted) for one in value)
        word = self.says.split()[0]
        told, asked = _plain(str(value)), _plain(wanted)
        if word == "has":
            return asked in told
        if word == "is":
            return _pattern(asked).fullmatch(told) is not None
        order = _compared(value, wanted)
        return order is not None and (order >= 0 if word == "from" else order <= 0)


def together(*written: str) -> str:
    """Conditions of several places as one text: all of them must hold."""
    return ", ".join(text.strip() for text in written if text.strip())


def read_conditions(text: str) -> tuple[Condition, ...]:
    """Read conditions, all of which must hold.

    Parameters
    ----------
    text : str
        Separated by commas: `FIELD is VALUE`, `is not`, `has`, `has not`, `from`, `to`. The field is `document`,
        `title`, `section` or a field of the metadata. Values after `or` are others that would do; `*` in a value of
        `is` stands for anything; what holds a comma or " or " stands in double quotes.

    Raises
    ------
    ConditionError
        Names the condition and what would be right.
    """
    if len(text) > LONGEST:
        raise ConditionError(f"conditions: {len(text)} signs; at most {LONGEST}")
    if text.count('"') % 2:
        raise ConditionError(f"conditions: a quote in {text!r} is not closed")
    found = []
    for part in _PARTS.findall(text):
        if not part.strip():
            continue
        match = _ONE.match(part)
        if match is None:
            raise ConditionError(
                f"conditions: {part.strip()!r} is none; write a field, one of {', '.join(SAYS)}, and a value, "
                "such as `edition from 5`"
            )
        field = _plain(match["field"].strip('"'))
        says = match["says"]
        values = tuple(value.strip().strip('"') for value in _OR.split(match["value"]))
        if field in OWN and says in ("from", "to"):
            raise ConditionError(f"conditions: {part.strip()!r}: {field} has no order; use is or has")
        if says in ("from", "to") and any(_ordered(value) is None for value in values):
            raise ConditionError(f"conditions: {part.strip()!r}: {says} takes a number or a date like 2026-01-31")
        found.append(Condition(field, says, values))
    if len(found) > MOST_CONDITIONS:
        raise ConditionError(f"conditions: {len(found)} of them; at most {MOST_CONDITIONS}")
    return tuple(found)


def allowed_chunks(conditions: Sequence[Condition], table: ChunkTable, texts: ChunkTexts) -> NDArray[np.bool_]:
    """Which chunks all conditions hold for: (n,) bool.

    Notes
    -----
    A condition on the section holds where the heading of any section around the chunk meets it.
    """
    told = texts.documents_told()
    good = np.ones(len(told), bool)
    for condition in conditions:
        if condition.field == DOCUMENT:
            good &= [condition.holds([one.name]) for one in told]
        elif condition.field == TITLE:
            good &= [condition.holds([one.title]) for one in told]
        elif condition.field != SECTION:
            good &= [
                condition.holds([value for name, value in one.metadata.items() if _plain(name) == condition.field])
                for one in told
            ]
    kept = good[table.document]
    of_section = [condition for condition in conditions if condition.field == SECTION]
    if of_section and kept.any():
        chunks = np.flatnonzero(kept)
        pairs = np.stack([table.document[chunks], table.section[chunks]], axis=1)
        _, first, of = np.unique(pairs, axis=0, return_index=True, return_inverse=True)
        headings = texts.headings(chunks[first].tolist())
        met = [all(condition.holds(path.split("\n")) for condition in of_section) for path in headings]
        kept[chunks] = np.array(met, bool)[of.ravel()]
    return kept


@lru_cache(maxsize=256)
def _pattern(wanted: str) -> regex.Pattern[str]:
    return regex.compile(regex.escape(wanted).replace(r"\*", ".*"), regex.DOTALL)


def _compared(value: Value, wanted: str) -> int | None:
    """1 where a value is above another, 0 where they are the same, -1 below; a date stands before all of its times.

    None where the two have no order together.
    """
    asked = _ordered(wanted)
    held = None if isinstance(value, list) else float(value) if isinstance(value, int | float) else _ordered(value)
    if isinstance(held, float) and isinstance(asked, float):
        return (held > asked) - (held < asked)
    if isinstance(held, str) and isinstance(asked, str):
        length = min(len(held), len(asked))
        return (held[:length] > asked[:length]) - (held[:length] < asked[:length])
    return None


def _ordered(text: str) -> float | str | None:
    text = text.strip()
    number = read_number(text)
    if number is not None:
        return float(number)
    return text if kind_of(text) == DATE else None


def _plain(text: str) -> str:
    return " ".join(text.replace("_", " ").split()).casefold()
