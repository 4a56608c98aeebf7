"""What a kind of scorer is: it offers scorers that score a question and a passage together."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

from doppio.core.errors import ModelFolderError
from doppio.core.floors import FLOOR_SHARE
from doppio.core.kinds import Family, Kind, Schema, Setting, Settings, number, object_schema, optional, whole
from doppio.core.models.joint import JointScorer
from doppio.core.models.registry import Models
from doppio.core.store.pieces import Maker, Needs, Opening, Planning


@dataclass(frozen=True)
class Offered:
    """A scorer that recipes can name.

    max_tokens : what it reads of question and passage together; None where that is no matter
    blend : share of the first stage's standardised score that measures best with it
    window : tokens that it reads best at once; None where that is a whole passage
    calibrated : whether its scores become probabilities
    answerable : whether it says how likely a question is answered at all
    remote : whether it runs behind an endpoint
    by_token : whether it can say which tokens of a passage met those of the question
    alone : whether it scores passages that are in no corpus
    fitted : whether it weighs scorers and facts, whose parts can be shown
    shipped : whether it came with the product, and is not of one workspace
    """

    name: str
    title: str
    max_tokens: int | None = None
    blend: float = 0.0
    window: int | None = None
    calibrated: bool = False
    answerable: bool = False
    remote: bool = False
    by_token: bool = False
    alone: bool = True
    fitted: bool = False
    shipped: bool = True


class ScorerKind(Kind, Protocol):
    """A kind of scorer; its module holds one as `KIND`. Its settings stand beside the others of `rerank`.

    makers : what writes the artifacts that it needs
    """

    @property
    def makers(self) -> Sequence[Maker]: ...

    def offers(self, models: Models) -> list[Offered]:
        """Scorers of this kind that there are."""

    def needs(self, name: str, planning: Planning) -> Needs:
        """What has to be built for one of them."""

    def open(self, name: str, settings: Settings, opening: Opening) -> JointScorer:
        """Open one of them; `settings` are those of its kind."""

    def alone(self, name: str, models: Models) -> JointScorer:
        """One of them for passages that are in no corpus.

        Raises
        ------
        ModelFolderError
            If it reads what is kept of a corpus.
        """


COMMON = (
    whole("shortlist", "Shortlist, in chunks", 1, 1000, 20),
    optional(number("blend", "Blend", 0, 10, help="share of the fused score; empty: what measures best with it")),
    optional(number("floor", "Floor", -1000, 1000, help="empty: nothing is dropped")),
    FLOOR_SHARE,
    optional(whole("window", "Window, in tokens", 16, 512, help="read at once; empty: the whole passage")),
    optional(
        whole("windows", "Windows read", 1, 16, help="of a passage, likeliest by late interaction first; empty: all")
    ),
)
SCORER: Schema = {"type": "string", "pattern": r"^[a-z0-9][a-z0-9-]{0,63}\Z", "format": "scorer"}
MOST_SCORERS, HEAVIEST = 8, 100
SCORERS: Family[ScorerKind] = Family("scorers", "doppio.core.reranking", ScorerKind, common=COMMON)


def offered(models: Models) -> list[tuple[ScorerKind, Offered]]:
    """All scorers that recipes can name, each with its kind."""
    return [(kind, one) for kind in SCORERS for one in kind.offers(models)]


def kind_of_scorer(name: str, models: Models) -> ScorerKind:
    """The kind of a scorer by the scorer's name.

    Raises
    ------
    ModelFolderError
        If there is no such scorer; names those that there are.
    """
    found = offered(models)
    for kind, one in found:
        if one.name == name:
            return kind
    raise ModelFolderError(
        f"{name}: no such scorer; there are {', '.join(sorted(one.name for _, one in found))}. "
        "'./doppio setup' installs the shipped ones"
    )


def own_settings(kind: ScorerKind, rerank: Settings) -> dict:
    """The settings of a kind in the `rerank` part of a recipe; what is not given has its default."""
    return {setting.name: rerank.get(setting.name, setting.default) for setting in kind.settings}


def uses_of(rerank: Settings) -> list[dict]:
    """The scorers of the `rerank` part of a recipe, each with its name, its weight and what its kind is told."""
    if rerank.get("scorers"):
        return [dict(one) for one in rerank["scorers"]]
    common = {setting.name for setting in COMMON}
    own = {name: value for name, value in rerank.items() if name not in common and name != "scorers"}
    return [{"weight": 1.0, **own}]


def unheard(uses: Sequence[Settings], select: Settings, models: Models) -> list[str]:
    """What a recipe asks for that none of its scorers can say, each with its field."""
    named = {use["scorer"] for use in uses}
    tells = any(one.answerable for _, one in offered(models) if one.name in named)
    if select["empty_below"] is None or not uses or tells:
        return []
    return ["select.empty_below: no scorer here says how likely a question is answered, so nothing is left empty"]


def use_schema() -> Schema:
    """Schema of one of several scorers: its name, its weight, and what some kinds can be told besides."""
    weight = number("weight", "Weight", 0, HEAVIEST, 1)
    known = object_schema([weight], {"scorer": SCORER})
    return {**known, "properties": {**known["properties"], **own_schemas()}}


def own_schemas() -> dict[str, Schema]:
    """What any kind of scorer can be told beside what all of them have, without defaults."""
    return {
        one.name: {key: value for key, value in one.schema.items() if key != "default"} for one in settings_of_all()
    }


def settings_of_all() -> tuple[Setting, ...]:
    """What any kind of scorer can be told beside what all of them have."""
    found = {setting.name: setting for kind in SCORERS for setting in kind.settings}
    return tuple(found.values())
