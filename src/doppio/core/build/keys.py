"""What a recipe needs over a corpus: the key of its reading list, and its indexes."""

from collections.abc import Mapping
from dataclasses import dataclass, field

from doppio.core.branches.kind import BRANCHES, kind_of
from doppio.core.build.texts import TEXTS
from doppio.core.fingerprint import fingerprint
from doppio.core.models.encoder import Encoder
from doppio.core.models.registry import Models
from doppio.core.recipe.recipe import Recipe
from doppio.core.reranking.kind import SCORERS, kind_of_scorer
from doppio.core.reranking.late_interaction import token_needs
from doppio.core.store.pieces import Maker, Needs, Piece, Planning, Whole

# Builds of the first kind could read a document's text that was not the one that had been cut, and nothing in what
# they wrote tells it: they are made again. Those of the second cut inside of signs and after abbreviations.
BUILD = 3


@dataclass(frozen=True)
class Keys:
    """What a recipe needs over a corpus.

    chunks : str, key of the reading list
    family : str, how the chunks are cut
    branches : what each branch needs, by its id
    scorers : what each scorer needs, in the order of the recipe
    windows : what is needed to choose windows of passages
    beside : pieces that are made with the others and that can be lacking
    """

    chunks: str
    family: str
    branches: Mapping[str, Needs]
    scorers: tuple[Needs, ...] = ()
    windows: Needs = field(default_factory=Needs)
    beside: tuple[Piece, ...] = (TEXTS,)

    def _needs(self) -> list[Needs]:
        return [*self.branches.values(), *self.scorers, self.windows]

    def made(self) -> list[Piece]:
        """All that a build makes for segments, in its order."""
        return [*self.beside, *self.pieces()]

    def pieces(self) -> list[Piece]:
        """All indexes, none twice, in the order in which they are made."""
        found = [piece for needs in self._needs() for piece in needs.pieces.values()]
        once = {(piece.kind, piece.of): piece for piece in found}
        return sorted(once.values(), key=lambda piece: piece.maker.order)

    @property
    def wholes(self) -> list[Whole]:
        """What is made once for the list, none twice."""
        found = [whole for needs in self._needs() for whole in needs.wholes]
        return list({whole.key: whole for whole in found}.values())


def counter_of(recipe: Recipe, models: Models) -> Encoder:
    """The encoder that counts tokens, and that gives the vectors of all tokens."""
    return models.local(recipe.encoder)


def family_of(recipe: Recipe, models: Models) -> str:
    """The digest of how a recipe cuts."""
    return fingerprint(BUILD, recipe.chunking, counter_of(recipe, models).digest)


def keys_of_list(chunks: str, recipe: Recipe, models: Models) -> Keys:
    """What the recipe needs over the corpus of a list."""
    planning = Planning(models, counter_of(recipe, models), chunks)
    scorers = tuple(kind_of_scorer(one["scorer"], models).needs(one["scorer"], planning) for one in recipe.scorers)
    chooses = recipe.rerank is not None and recipe.rerank["windows"] is not None
    windows = token_needs(planning) if chooses else Needs()
    branches = {branch["id"]: kind_of(branch).needs(branch, planning) for branch in recipe.branches}
    return Keys(chunks, family_of(recipe, models), branches, scorers, windows)


def makers() -> list[Maker]:
    """The makers of all kinds that there are, in their order."""
    found = [TEXTS.maker, *(maker for kind in [*BRANCHES, *SCORERS] for maker in kind.makers)]
    return sorted({id(maker): maker for maker in found}.values(), key=lambda maker: maker.order)
