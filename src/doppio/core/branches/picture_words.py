"""Terms of the words that go with pictures: what is read on them, and what their document says of them.

Part numbers and codes of a drawing are found by it as those of the text are by terms.
"""

from collections.abc import Iterator, Sequence

from doppio.core.branches.bm25 import SparseBranch
from doppio.core.branches.kind import SPARSE, Branch
from doppio.core.branches.picture.making import PICTURES, PICTURES_MAKER, pictures_piece
from doppio.core.branches.sparse.making import PICTURE_WORDS, POSTINGS, pieces_of
from doppio.core.branches.sparse.settings import ANALYSIS, analysis_problems
from doppio.core.branches.sparse.spread import open_sparse
from doppio.core.branches.sparse.weighting import OKAPI
from doppio.core.kinds import Setting, Settings, group, number
from doppio.core.store.pieces import Facts, Maker, Needs, Opening, Planning

# What a branch of terms has and this one does not let be set.
PLAIN = {"variant": OKAPI, "nearness": 0, "fields": None, "delta": None, "mu": 1000}


class PictureWords:
    """See the module."""

    name, title, order = "picture-words", "terms read on pictures", 7
    family = SPARSE
    makers: Sequence[Maker] = (PICTURES_MAKER, POSTINGS)
    settings: tuple[Setting, ...] = (
        number("k1", "k1", 0, 10, 1.2, help="repeats of a term count for more as it rises"),
        number("b", "b", 0, 1, 0.4, help="holds pictures with many words back"),
        group("analysis", "Analysis", ANALYSIS, {}, built=True),
    )

    def problems(self, branch: Settings) -> Iterator[tuple[str, str]]:
        for field, wrong in analysis_problems(branch["analysis"]):
            yield f"analysis.{field}", wrong

    def needs(self, branch: Settings, planning: Planning) -> Needs:
        # Pictures are looked at first: that tells how far it is, and what is read stays at hand.
        return Needs({PICTURES: pictures_piece(), **pieces_of({PICTURE_WORDS: branch["analysis"]})})

    def open(self, branch: Settings, opening: Opening) -> Branch:
        return SparseBranch({**branch, **PLAIN}, opening.texts, open_sparse(opening, PICTURE_WORDS, spread=False))

    def facts(self, branch: Settings, built: Sequence[Facts]) -> list[str]:
        terms = max((facts.get("terms", 0) for facts in built), default=0)
        return [f"{terms:,} terms on pictures"] if terms else ["terms on pictures"]


KIND = PictureWords()
