"""What a fusion method is: it pours the rankings of the branches into one."""

from collections.abc import Mapping, Sequence
from typing import Any, Protocol

from doppio.core.floors import FLOORS
from doppio.core.fusion.pouring import Fused, Ranking
from doppio.core.kinds import Family, Kind, Setting, whole


class FusionMethod(Kind, Protocol):
    """A method; its module holds one as `KIND`.

    measure : what its scores are, for people; larger is better

    Where it has a `help`, that says whether it hangs on the depth of a branch. One that is `usual` is drawn beside
    others in the mix. One that is `additive` gives a chunk the sum of what each branch gives, in proportion to the
    weights. One that has `fitted_with` names settings of its own that a fit tries beside the recipe's method. One
    that is `by_least` is given the least score that each branch can have, as `least`.
    """

    @property
    def measure(self) -> str: ...

    def fuse(self, rankings: Sequence[Ranking], weights: Sequence[float], settings: Mapping[str, Any]) -> Fused:
        """Fuse rankings, best first, with one weight each; `settings` is the recipe's `fusion`."""


def fused_by(
    method: FusionMethod,
    rankings: Sequence[Ranking],
    weights: Sequence[float],
    settings: Mapping[str, Any],
    least: Sequence[float | None],
) -> Fused:
    """Fuse by a method, which is told the least score of each branch where it asks for that."""
    more = {"least": least} if getattr(method, "by_least", False) else {}
    return method.fuse(rankings, weights, settings, **more)


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
    "fusion", "doppio.core.fusion", FusionMethod, key="method", common=(WEIGHTS, DEPTH, *FLOORS)
)
