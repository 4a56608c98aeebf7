"""What a fusion method is: it pours the rankings of the branches into one."""

from collections.abc import Mapping, Sequence
from typing import Any, Protocol

from doppio.core.fusion.pouring import Fused, Ranking
from doppio.core.kinds import Family, Kind, Setting, whole


class FusionMethod(Kind, Protocol):
    """A method; its module holds one as `KIND`.

    measure : what its scores are, for people; larger is better
    """

    @property
    def measure(self) -> str: ...

    def fuse(self, rankings: Sequence[Ranking], weights: Sequence[float], settings: Mapping[str, Any]) -> Fused:
        """Fuse rankings, best first, with one weight each; `settings` is the recipe's `fusion`."""


DEPTH = whole("depth", "Depth, in chunks", 1, 10_000, 50)
WEIGHTS = Setting(
    "weights",
    "Weights of the branches",
    {
        "type": "object",
        "additionalProperties": {"type": "number", "minimum": 0, "maximum": 1000},
        "default": {},
    },
)
METHODS: Family[FusionMethod] = Family(
    "fusion", "doppio.core.fusion", FusionMethod, key="method", common=(WEIGHTS, DEPTH)
)
