"""A trace: all that a pipeline did for one question. Stage views, trials and the ledger read nothing else."""

from collections.abc import Iterator
from dataclasses import asdict, dataclass, field
from typing import Any, NotRequired, TypedDict, cast

import numpy as np
from numpy.typing import NDArray

from doppio.core.ranking import Ids, Scores

BRANCH, FUSED, RERANKED, CONTEXT = "branch", "fused", "reranked", "context"
BEYOND, OVER_BUDGET = "beyond what goes on", "over the budget"
NO_ANSWER = "held to have no answer"
PASSED_OVER, ANOTHER_VERSION = "passed over for what is new", "another version stands for it"
BELOW = "below those that were chosen"
UNDER_FLOOR, UNDER_FLOOR_AND_BEYOND = "under the floor", "under the floor and beyond what goes on"
_OUT = {UNDER_FLOOR, UNDER_FLOOR_AND_BEYOND, OVER_BUDGET, NO_ANSWER, PASSED_OVER, ANOTHER_VERSION, BELOW}


@dataclass(frozen=True)
class PartTrace:
    """What one of several scorers gave.

    measure : str, what its score is
    raw : (n,) float32, in the order of the stage
    """

    scorer: str
    measure: str
    weight: float
    raw: Scores


@dataclass(frozen=True)
class WordingTrace:
    """A wording of the question and what came of it.

    source : where it comes from; empty for the question as it was asked
    words : what branches of terms searched by, with weights; None where it was the words of the text
    cosine : of its vector to that of the question; None without a branch of vectors
    kept : share of the question's terms that it keeps, 0 to 1
    dropped : why it was not searched by; empty where it was
    found, new : by branch its hits, and those that no wording before it found
    """

    text: str
    source: str
    words: dict[str, float] | None = None
    cosine: float | None = None
    kept: float = 1.0
    dropped: str = ""
    found: dict[str, int] = field(default_factory=dict)
    new: dict[str, int] = field(default_factory=dict)


@dataclass(frozen=True)
class AskedTrace:
    """What happened before the search.

    conditions : under which chunks may be found, as they were written
    allowed : how many chunks may; None where all
    """

    wordings: tuple[WordingTrace, ...]
    conditions: str = ""
    allowed: int | None = None


@dataclass(frozen=True)
class SaidTrace:
    """A sentence of an answer.

    cites : numbers of the pieces of the context that it rests on, from 1
    document, start, end : where it stands word for word: document's position, characters; -1 where it does not
    score : how well it fits the question, as its answerer has it
    """

    text: str
    cites: tuple[int, ...]
    document: int = -1
    start: int = -1
    end: int = -1
    score: float = 0.0


@dataclass(frozen=True)
class AnswerTrace:
    """What was answered from a context.

    silent : why nothing was; empty where something was
    """

    sentences: tuple[SaidTrace, ...]
    silent: str = ""

    @property
    def text(self) -> str:
        return " ".join(said.text for said in self.sentences)


@dataclass(frozen=True)
class StageTrace:
    """One stage's ranking.

    stage : str, a branch's id, or "fused", "reranked" or "context"
    kind : str, "branch" or the stage
    measure : str, what the score is, with its range; larger is better
    chunks : (n,) int64, best first
    scores : (n,) float32
    kept : (n,) bool, whether the chunk goes on to the next stage
    reasons : n texts, why a chunk does not go on; empty where it does
    before : (n,) int64 or None, rank in the stage before, from 1
    raw : (n,) float32 or None, what a joint scorer gave before it was blended; the first where there are several
    raw_measure : str, what that is
    windows : (n, 2) int64 or None, the characters of each chunk's own text that a scorer read; -1 where all
    family : str, "sparse" or "dense" where it is a branch, or else empty
    probability : (n,) float32 or None, that the passage answers, by its own scores alone
    parts : what each of several scorers gave; empty where there is one
    ranges : (n, 3) int64 or None, document, start and end of what each hands on, where it is more than was found
    widened : n texts, why it is more, or why it is not; empty where nothing widens
    written : (n,) int64 or None, from 1, its place in the context as it is written; 0 where it is not
    instead : (n,) int64 or None, the chunk of the version that stands for it; -1 where none does
    repeated : (n,) float32 or None, how alike it is to what was chosen before it
    branch_ranks, shares : (n, branches) or None, only where rankings were fused
    """

    stage: str
    kind: str
    measure: str
    chunks: Ids
    scores: Scores
    kept: NDArray[np.bool_]
    reasons: tuple[str, ...]
    seconds: float
    before: NDArray[np.int64] | None = None
    branch_ranks: NDArray[np.int32] | None = None
    shares: NDArray[np.float32] | None = None
    raw: Scores | None = None
    raw_measure: str = ""
    windows: NDArray[np.int64] | None = None
    family: str = ""
    probability: Scores | None = None
    parts: tuple[PartTrace, ...] = ()
    ranges: NDArray[np.int64] | None = None
    widened: tuple[str, ...] = ()
    written: NDArray[np.int64] | None = None
    instead: NDArray[np.int64] | None = None
    repeated: Scores | None = None

    @property
    def passed(self) -> Ids:
        """The chunks that go on, best first."""
        return self.chunks[self.kept]

    @property
    def ranking(self) -> Ids:
        """The chunks that the stage is measured by: all that it ranked, less those it threw out."""
        return self.chunks[[reason not in _OUT for reason in self.reasons]] if self.reasons else self.chunks


class StageJson(TypedDict):
    """A stage as plain JSON values; see `StageTrace`. Those after `reasons` may be absent in older ones."""

    stage: str
    kind: str
    measure: str
    seconds: float
    chunks: list[int]
    scores: list[float]
    kept: list[bool]
    reasons: list[str]
    before: NotRequired[list[int] | None]
    branch_ranks: NotRequired[list[list[int]] | None]
    shares: NotRequired[list[list[float]] | None]
    raw: NotRequired[list[float] | None]
    raw_measure: NotRequired[str]
    windows: NotRequired[list[list[int]] | None]
    family: NotRequired[str]
    probability: NotRequired[list[float] | None]
    parts: NotRequired[list[dict[str, Any]]]
    ranges: NotRequired[list[list[int]] | None]
    widened: NotRequired[list[str]]
    written: NotRequired[list[int] | None]
    instead: NotRequired[list[int] | None]
    repeated: NotRequired[list[float] | None]


class TraceJson(TypedDict):
    """A trace as plain JSON values."""

    question: str
    recipe: str
    tokens: int
    seconds: dict[str, float]
    stages: list[StageJson]
    asked: NotRequired[dict[str, Any] | None]
    answered: NotRequired[float | None]
    answer: NotRequired[dict[str, Any] | None]
    absent: NotRequired[list[str]]


@dataclass(frozen=True)
class Trace:
    """What happened to one question, stage by stage, with times in seconds.

    answered : how likely any passage of the corpus answers; None where no scorer says it
    asked : what happened before the search; None where nothing did
    answer : what was answered from the context; None where the recipe does not ask for it
    absent : what of the index did not answer, in words; nothing where all of it did
    """

    question: str
    recipe: str
    stages: tuple[StageTrace, ...]
    tokens: int
    seconds: dict[str, float] = field(default_factory=dict)
    answered: float | None = None
    asked: AskedTrace | None = None
    answer: AnswerTrace | None = None
    absent: tuple[str, ...] = ()

    def stage(self, name: str) -> StageTrace:
        """The stage of that name.

        Raises
        ------
        KeyError
            If the recipe has no such stage.
        """
        for stage in self.stages:
            if stage.stage == name:
                return stage
        raise KeyError(name)

    def has(self, name: str) -> bool:
        return any(stage.stage == name for stage in self.stages)

    @property
    def branches(self) -> list[StageTrace]:
        return [stage for stage in self.stages if stage.kind == BRANCH]

    def to_json(self) -> TraceJson:
        """As plain JSON values; `from_json` gives the same trace back."""
        return {
            "question": self.question,
            "recipe": self.recipe,
            "tokens": self.tokens,
            "seconds": {step: round(value, 6) for step, value in self.seconds.items()},
            "answered": None if self.answered is None else round(self.answered, 9),
            "asked": None if self.asked is None else asdict(self.asked),
            "answer": None if self.answer is None else asdict(self.answer),
            "absent": list(self.absent),
            "stages": [cast(StageJson, dict(_stage_json(stage))) for stage in self.stages],
        }

    @staticmethod
    def from_json(value: TraceJson) -> "Trace":
        return Trace(
            value["question"],
            value["recipe"],
            tuple(_stage_from(stage) for stage in value["stages"]),
            value["tokens"],
            value["seconds"],
            value.get("answered"),
            _asked_from(value.get("asked")),
            _answer_from(value.get("answer")),
            tuple(value.get("absent", ())),
        )


def _asked_from(value: dict[str, Any] | None) -> AskedTrace | None:
    if value is None:
        return None
    return AskedTrace(tuple(WordingTrace(**one) for one in value["wordings"]), value["conditions"], value["allowed"])


def _answer_from(value: dict[str, Any] | None) -> AnswerTrace | None:
    if value is None:
        return None
    sentences = tuple(SaidTrace(**{**one, "cites": tuple(one["cites"])}) for one in value["sentences"])
    return AnswerTrace(sentences, value["silent"])


_ARRAYS = {"chunks": np.int64, "scores": np.float32, "kept": np.bool_, "before": np.int64,
           "branch_ranks": np.int32, "shares": np.float32, "raw": np.float32, "windows": np.int64,
           "probability": np.float32, "ranges": np.int64, "written": np.int64, "instead": np.int64,
           "repeated": np.float32}  # fmt: skip


def _stage_json(stage: StageTrace) -> Iterator[tuple[str, Any]]:
    yield from {"stage": stage.stage, "kind": stage.kind, "measure": stage.measure, "family": stage.family}.items()
    yield "seconds", round(stage.seconds, 6)
    yield "raw_measure", stage.raw_measure
    yield "reasons", list(stage.reasons)
    yield "widened", list(stage.widened)
    for name in _ARRAYS:
        array = getattr(stage, name)
        yield name, None if array is None else _plain(array)
    yield "parts", [{**vars(part), "raw": _plain(part.raw)} for part in stage.parts]


def _plain(array: NDArray[Any]) -> list[Any]:
    if array.dtype == np.float32:
        # Nine significant digits tell every float32 apart.
        array = np.array([float(f"{number:.9g}") for number in array.ravel()]).reshape(array.shape)
    found: list[Any] = array.tolist()
    return found


def _stage_from(value: StageJson) -> StageTrace:
    ranks = value.get("branch_ranks")
    branches = len(ranks[0]) if ranks else 0
    arrays: dict[str, NDArray[Any] | None] = {}
    for name, kind in _ARRAYS.items():
        if value.get(name) is None:
            arrays[name] = None
            continue
        array: NDArray[Any] = np.asarray(value.get(name), kind)
        width = {"branch_ranks": branches, "shares": branches, "windows": 2, "ranges": 3}.get(name)
        arrays[name] = array if width is None else array.reshape(len(array), width)
    return StageTrace(
        stage=value["stage"],
        kind=value["kind"],
        measure=value["measure"],
        seconds=value["seconds"],
        reasons=tuple(value["reasons"]),
        widened=tuple(value.get("widened", [])),
        raw_measure=value.get("raw_measure", ""),
        family=value.get("family", ""),
        parts=tuple(
            PartTrace(**{**part, "raw": np.asarray(part["raw"], np.float32)}) for part in value.get("parts", [])
        ),
        **arrays,  # type: ignore[arg-type]
    )
