"""What a chunking rule is: it says where the chunks of a text begin and end."""

from collections.abc import Iterator
from typing import Protocol

from doppio.core.chunking.context import CONTEXT_TITLES, NONE
from doppio.core.kinds import Family, Kind, Setting, Settings, choice, group, optional, whole
from doppio.core.text.document import Document
from doppio.core.text.units import Offsets, SentenceVectors, Units

UNITS, SENTENCES = "units", "sentences"
UNIT = choice("unit", "Unit", {unit: unit for unit in ("tokens", "words", "characters")}, built=True)
SIZE = whole("size", "Size, in units", 8, 100_000, built=True)
OVERLAP = whole("overlap", "Overlap, in units", 0, 50_000, 0, built=True)
OVERLAP_IN_SENTENCES = whole("overlap", "Overlap, in sentences", 0, 50, 0, built=True)
MINIMUM = whole("minimum", "At least, in units", 0, 100_000, 0, built=True)
CONTEXT = choice("context", "Indexed with", CONTEXT_TITLES, NONE, built=True)
HOST = optional(group("host", "in host chunks", [whole("size", "Size of hosts, in units", 16, 200_000, built=True)],
                      built=True))  # fmt: skip


class ChunkingRule(Kind, Protocol):
    """A rule; its module holds one as `KIND`.

    overlap_in : "units" or "sentences", what its overlap counts
    joins_short : whether chunks below the minimum are joined with a neighbour afterwards
    """

    @property
    def overlap_in(self) -> str: ...
    @property
    def joins_short(self) -> bool: ...

    def cut(
        self, document: Document, units: Units, settings: Settings, encoder: SentenceVectors | None
    ) -> tuple[Offsets, Offsets]:
        """Starts and ends of the chunks of a text, in its order; white space at their ends is trimmed later.

        `units` is what the settings count, over `document.text`; `encoder` gives sentence vectors.
        """

    def hosts(
        self, document: Document, units: Units, settings: Settings, size: int
    ) -> tuple[Offsets, Offsets] | None:
        """Bounds of the host chunks of `size` units that the chunks are cut within; None for natural breaks."""

    def reads_vectors(self, settings: Settings) -> bool:
        """Whether it needs a vector of every sentence, which takes long over many documents."""

    def problems(self, settings: Settings) -> Iterator[tuple[str, str]]:
        """What is wrong beyond the range of each setting: the setting, and what would be right."""


class Rule:
    """What most rules have in common."""

    overlap_in, joins_short = UNITS, True
    settings: tuple[Setting, ...] = ()

    def hosts(
        self, document: Document, units: Units, settings: Settings, size: int
    ) -> tuple[Offsets, Offsets] | None:
        return None

    def reads_vectors(self, settings: Settings) -> bool:
        return False

    def problems(self, settings: Settings) -> Iterator[tuple[str, str]]:
        size, overlap = settings["size"], settings["overlap"]
        if self.overlap_in == UNITS and overlap >= size:
            yield "overlap", f"{overlap} is not below chunking.size, {size}"
        if settings["minimum"] > size:
            yield "minimum", f"{settings['minimum']} is above chunking.size, {size}"
        if settings["host"] and settings["host"]["size"] < size:
            yield "host.size", f"{settings['host']['size']} is below chunking.size, {size}"


RULES: Family[ChunkingRule] = Family(
    "chunking", "doppio.core.chunking", ChunkingRule, key="rule",
    common=(UNIT, SIZE, OVERLAP, MINIMUM, CONTEXT, HOST),
)  # fmt: skip


def filled(chunking: Settings) -> dict:
    """Chunking settings with everything that was left out."""
    known = RULES.settings_of(RULES.get(chunking["rule"]))
    return {**{one.name: one.default for one in known if "default" in one.schema}, **chunking}
