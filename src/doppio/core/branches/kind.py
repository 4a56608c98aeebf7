"""What a branch is: it ranks the chunks of a corpus for a question, on its own."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

from numpy.typing import NDArray

from doppio.core.branches.explained import Explained
from doppio.core.floors import FLOORS
from doppio.core.fusion.pouring import Ranking
from doppio.core.kinds import Family, Kind, Setting, Settings, whole
from doppio.core.models.encoder import TextEncoder
from doppio.core.store.pieces import Facts, Maker, Needs, Opening, Planning

# Which of the two blocks of the line a branch belongs to.
SPARSE, DENSE = "sparse", "dense"
BYTES = "bytes"


@dataclass(frozen=True)
class Figure:
    """What an index is, in a number; `what` says of what, `unit` is empty where it is a count."""

    value: float
    what: str
    unit: str = ""


class Branch(Protocol):
    """A branch that is opened.

    measure : what its scores are, for people; larger is better
    encoder : what encodes its questions; None where it reads them as they are

    Where it has a `vectors_of`, that takes chunks and gives their vectors, (m, d) float32.
    Where it has a `survey`, that takes questions and a progress and measures speed against exactness of the ways to
    search it, the exact one first (`dense.survey.Point`); `survey_of` names all that it depends on beside the chunks.
    Where it has `figures`, those say what its index is.
    Where it has a `matches`, that takes a question and a passage and says which token of the passage each token of
    the question was matched with.
    Where it has a `shaded`, that takes a query and a chunk and says on which sheets the chunk stands and which patch
    of them answers which token.
    Where it has an `unfound`, that takes a question and says what share of its terms no chunk holds, 0 to 1.
    """

    @property
    def measure(self) -> str: ...
    @property
    def encoder(self) -> TextEncoder | None: ...

    def search_many(self, questions: Sequence[str], vectors: NDArray | None, depth: int) -> list[Ranking]:
        """Rank chunks for each question, best first, at most `depth`.

        `vectors` are those of the questions, (q, d) float32, where there is an encoder.
        """

    def explain(self, question: str, chunks: Sequence[int]) -> list[Explained]:
        """Why chunks are scored as they are; empty where the kind cannot say it by terms."""


class BranchKind(Kind, Protocol):
    """A kind of branch; its module holds one as `KIND`.

    family : "sparse" or "dense", the block of the line that it belongs to
    makers : what writes the artifacts that it needs

    Where its branches give the vectors of chunks, it says so: `gives_vectors` is true.
    """

    @property
    def family(self) -> str: ...
    @property
    def makers(self) -> Sequence[Maker]: ...

    def problems(self, branch: Settings) -> Iterator[tuple[str, str]]:
        """What is wrong beyond the range of each setting: the setting, and what would be right."""

    def needs(self, branch: Settings, planning: Planning) -> Needs:
        """What has to be built for it."""

    def open(self, branch: Settings, opening: Opening) -> Branch:
        """Open what was built."""

    def facts(self, branch: Settings, built: Sequence[Facts]) -> list[str]:
        """What the line says of it in few words; `built` is what its artifacts say of themselves, where there are."""


DEPTH = whole("depth", "Depth, in chunks", 1, 10_000, 50)
# Where this ends the text does: `$` would let a line end follow.
IDENTITY = Setting("id", "Id", {"type": "string", "pattern": r"^[a-z][a-z0-9-]{0,31}\Z"})
BRANCHES: Family[BranchKind] = Family(
    "branches", "doppio.core.branches", BranchKind, key="kind", common=(IDENTITY, DEPTH, *FLOORS)
)


class NoMakers:
    """For branches that need nothing built."""

    makers: Sequence[Maker] = ()

    def needs(self, branch: Mapping, planning: Planning) -> Needs:
        return Needs()


def kind_of(branch: Settings) -> BranchKind:
    """The kind of a branch of a recipe."""
    return BRANCHES.get(branch["kind"])


def encoder_of(branch: Settings) -> str | None:
    """The encoder that a branch of a recipe names, if its kind has one."""
    for setting in kind_of(branch).settings:
        if setting.schema.get("format") == "encoder":
            return str(branch[setting.name])
    return None
