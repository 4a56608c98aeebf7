"""What a metric is: it says how good one ranking is for one answerable question."""

from typing import Protocol

from doppio.core.kinds import Family, Kind
from doppio.core.measure.judged import Judged


class Metric(Kind, Protocol):
    """A metric; its module holds one as `KIND`. Larger is better, from 0 to 1.

    cut : whether it looks at the first k alone; then it is written as `name@k`, and else by its name
    everyday : whether it is shown without being asked for
    help : what it counts, for people
    """

    @property
    def cut(self) -> bool: ...
    @property
    def everyday(self) -> bool: ...
    @property
    def help(self) -> str: ...

    def of(self, judged: Judged, k: int) -> float | None:
        """Its value for the first `k` chunks, or for all where it is not cut; None where it says nothing."""


METRICS: Family[Metric] = Family("metrics", "doppio.core.measure.metrics", Metric)
