"""Postings as pieces of an index: one for every field of every sparse branch."""

from collections.abc import Callable, Mapping, Sequence

from doppio.core.branches.sparse.building import build_postings, join_postings, part_of
from doppio.core.branches.sparse.fields import BODY, FIELDS, HEADINGS, TITLE
from doppio.core.branches.sparse.merging import merge_postings
from doppio.core.branches.sparse.postings import KIND, Postings
from doppio.core.chunking.table import ChunkTexts
from doppio.core.errors import DocumentError
from doppio.core.fingerprint import fingerprint
from doppio.core.kinds import Settings
from doppio.core.store.crew import Place
from doppio.core.store.pieces import (
    TEXTS_AT_ONCE,
    Arrays,
    Building,
    Costing,
    Estimate,
    Facts,
    Merging,
    Piece,
    Source,
    texts_in_parts,
)
from doppio.core.text.analysis import VERSION, Analysis
from doppio.core.text.pictures import Shown

INDEXED, PICTURE_WORDS = "indexed", "picture-words"
STEP = "index terms"
# Bytes a posting takes once it is packed, with its share of the bounds, and postings a token; both measured.
A_POSTING, POSTINGS_A_TOKEN = 2.5, 0.7


class PostingsMaker:
    """See the module."""

    kinds: Mapping[str, str] = {KIND: STEP}
    wholes: Sequence[str] = ()
    order = 1

    def make(self, lacking: Sequence[tuple[int, Piece]], building: Building) -> None:
        for place, piece in lacking:
            numbers = building.numbers(place)
            read, analysis = _reader(building.texts, piece.facts["field"]), piece.facts["analysis"]
            with building.store.scratch() as folder:
                if building.hands.alone:
                    made = build_postings(
                        texts_in_parts(read, numbers), len(numbers), Analysis.of(analysis), building.progress, folder
                    )
                else:
                    firsts = range(0, len(numbers), TEXTS_AT_ONCE)
                    tasks = ((analysis, read(numbers[at : at + TEXTS_AT_ONCE].tolist())) for at in firsts)
                    parts = building.hands.each(part_there, tasks)
                    made = join_postings(parts, len(numbers), building.progress, folder)
                building.write(piece, place, made.arrays(), **_facts(made))

    def merge(
        self, kind: str, sources: Sequence[Source], count: int, meta: Facts, merging: Merging
    ) -> tuple[Arrays, Facts]:
        parts = [(Postings.opened(source.artifact.arrays), source.now) for source in sources]
        merged = merge_postings(parts, count, merging.scratch)
        return merged.arrays(), _facts(merged)

    def cost(self, piece: Piece, chunks: int, tokens: int, costing: Costing) -> Estimate:
        seconds = chunks / costing.rate(STEP, 3000.0)
        return Estimate(seconds, tokens * POSTINGS_A_TOKEN * A_POSTING, tokens * 8.0)


POSTINGS = PostingsMaker()


def part_there(place: Place, analysis: Settings, texts: list[str]) -> Postings:
    """Postings of some of the texts of a segment."""
    return part_of(texts, Analysis.of(analysis))


def pieces(branch: Settings) -> dict[str, Piece]:
    """The pieces of a sparse branch by field."""
    return pieces_of(analyses(branch))


def pieces_of(fields: Mapping[str, Settings]) -> dict[str, Piece]:
    """The pieces over some fields, given how each is analysed."""
    return {
        name: Piece(KIND, fingerprint(VERSION, name, analysis), {"field": name, "analysis": analysis}, POSTINGS)
        for name, analysis in fields.items()
    }


def analyses(branch: Settings) -> dict[str, Settings]:
    """How each field of a sparse branch is analysed; without fields there is one, the chunk as it is indexed."""
    if not branch["fields"]:
        return {INDEXED: branch["analysis"]}
    return {
        name: branch["fields"][name]["analysis"] or branch["analysis"] for name in FIELDS if name in branch["fields"]
    }


def _reader(texts: ChunkTexts, field: str) -> Callable[[Sequence[int]], list[str]]:
    return {
        INDEXED: texts.indexed, BODY: texts.texts, TITLE: texts.titles, HEADINGS: texts.headings,
        PICTURE_WORDS: lambda chunks: _picture_words(texts, chunks),
    }[field]  # fmt: skip


def _picture_words(texts: ChunkTexts, chunks: Sequence[int]) -> list[str]:
    """What can be read on the pictures of each chunk, and what is said of them."""
    return ["\n\n".join(f"{shown.said}\n{read_on(shown)}" for shown in own) for own in texts.pictures(chunks)]


def read_on(shown: Shown) -> str:
    """The words that can be read on a picture; none on one that is broken."""
    try:
        return shown.read()
    except DocumentError:
        return ""


def _facts(made: Postings) -> Facts:
    return {"terms": made.terms, "entries": int(made.held.sum())}
