"""A recipe that has been checked, as stages read it."""

from dataclasses import dataclass
from functools import cached_property
from typing import Any

from doppio.core.branches.kind import encoder_of
from doppio.core.fingerprint import fingerprint
from doppio.core.kinds import WRITER
from doppio.core.models.registry import DEFAULT_ENCODER
from doppio.core.question.kind import WORDINGS
from doppio.core.reranking.kind import uses_of
from doppio.core.select.kind import looked_at

Body = dict[str, Any]


@dataclass(frozen=True)
class Recipe:
    """A recipe that has been checked and filled in; `body` is the JSON document."""

    body: Body

    @property
    def name(self) -> str:
        return str(self.body["name"])

    @property
    def chunking(self) -> Body:
        return dict(self.body["chunking"])

    @property
    def question(self) -> Body:
        return dict(self.body["question"])

    @property
    def branches(self) -> list[Body]:
        return list(self.body["branches"])

    @property
    def fusion(self) -> Body:
        return dict(self.body["fusion"])

    @property
    def rerank(self) -> Body | None:
        return dict(self.body["rerank"]) if self.body["rerank"] else None

    @property
    def scorers(self) -> list[Body]:
        """What reranks, each with its name, weight and what its kind is told; nothing where nothing does."""
        return uses_of(self.body["rerank"]) if self.body["rerank"] else []

    @property
    def select(self) -> Body:
        return dict(self.body["select"])

    @property
    def stages(self) -> list[str]:
        """Stages that have a ranking: the branches, then fused, reranked (if any) and context."""
        middle = ["fused", "reranked"] if self.rerank else ["fused"]
        return [branch["id"] for branch in self.branches] + middle + ["context"]

    @property
    def looked_at(self) -> int:
        """How many groups of chunks come to the context: what it takes, or among which it chooses."""
        return looked_at(self.body["select"])

    @property
    def passed_by_fusion(self) -> int:
        """How many fused chunks go on: the reranker's shortlist, or what the context takes."""
        after = self.rerank["shortlist"] if self.rerank else self.looked_at
        return int(min(after, self.fusion["depth"]))

    @property
    def remarks(self) -> list[str]:
        """Settings that are allowed and cannot do what they say, each with its field."""
        found = []
        if self.select["k"] > self.passed_on:
            field = "rerank.shortlist" if self.rerank else "fusion.depth"
            found.append(
                f"select.k: {self.select['k']} is above {field}, {self.passed_on}; "
                "no more passages than that come so far"
            )
        if self.select["empty_below"] is not None and not self.rerank:
            found.append("select.empty_below: nothing reranks, so nothing says how likely an answer is")
        silent = [branch["id"] for branch in self.branches if self.fusion["weights"].get(branch["id"], 1) == 0]
        return found + [f"fusion.weights.{name}: 0, so this branch is asked and gives nothing" for name in silent]

    @property
    def passed_on(self) -> int:
        """How many chunks come to the context at most; a shortlist is never longer than the fused list."""
        return int(self.rerank["shortlist"] if self.rerank else self.fusion["depth"])

    @cached_property
    def fingerprint(self) -> str:
        """Digest of all settings; the name is not one."""
        return fingerprint({key: value for key, value in self.body.items() if key != "name"})

    @property
    def writers(self) -> list[str]:
        """Registered writers that reword questions."""
        found = []
        for way in self.question["wordings"]:
            for setting in WORDINGS.get(way["kind"]).settings:
                if setting.schema.get("format") == WRITER:
                    found.append(str(way[setting.name]))
        return found

    @property
    def encoder(self) -> str:
        """The encoder of the first branch that has one, or the shipped one: its tokens are counted."""
        named = (encoder_of(branch) for branch in self.branches)
        return next((name for name in named if name is not None), DEFAULT_ENCODER)
