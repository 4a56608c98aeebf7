"""Segments on the workers of a Dask cluster, each worker's as an actor, asked all at once.

A worker that is late is asked no longer than there is time: where another holds a copy, that one is asked beside it,
and what comes first is taken. Whenever workers come or go segments are placed anew; what moves is opened at its new
place before anybody is sent there.
"""

import logging
import threading
import time
import weakref
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Any

from doppio.core.at_hand import kept
from doppio.core.branches.spread import Answers, Index, leave_out
from doppio.core.errors import DoppioError, NobodyAnswers
from doppio.core.store.segments import OpenedList, Stand
from doppio.machines.crew import NOBODY, DaskCrew, workers_of
from doppio.machines.here import here
from doppio.machines.placement import Placement, groups_of, placed

log = logging.getLogger(__name__)
# Seconds: until a copy is asked beside a worker, until one that does not answer is left out, for which opening is
# waited for, and between looks at who is there.
LATE, LAST, OPENING, LOOK = 0.5, 3.0, 120.0, 1.0
INDEXES_KEPT = 64
# Seconds for which one that was late is asked last.
AVOIDED = 10.0
# Seconds that one look at calls takes at most.
WAIT = 0.05
SILENT = "no worker that holds segments answers; ask again in a moment"


class Shard:
    """The segments of a list that stand on a worker: the actor."""

    def __init__(self, stands: dict[int, Stand]) -> None:
        self.stands = stands
        self._open: dict[Any, Any] = {}
        self._lock = threading.Lock()

    def ask(self, places: tuple[int, ...], index: Index, method: str, given: tuple[Any, ...]) -> tuple[bool, Any]:
        """Call a method of an index over some of the segments: whether it went well, and what came of it.

        What is wrong with a question is an answer; what is raised is that this worker cannot answer.
        """
        try:
            with self._lock:
                opened = kept(self._open, (places, index), lambda: self._opened(places, index), INDEXES_KEPT)
            return True, getattr(opened, method)(*given)
        except DoppioError as error:
            return False, error

    def _opened(self, places: tuple[int, ...], index: Index) -> Any:
        return index.open(here(), [self.stands[place] for place in places], *index.given)


@dataclass
class _Plan:
    """Where segments stand, and the actors that hold them; these are let go with the promises of them."""

    placement: Placement
    actors: dict[str, Any] = field(default_factory=dict)
    promised: dict[str, Any] = field(default_factory=dict)


class DaskShards:
    """A list spread over the workers of a crew; see `Spread`.

    Parameters
    ----------
    copies : int
        Workers that hold each segment.
    late, last : float
        Seconds until a copy is asked beside a worker, and until one that does not answer is left out.
    """

    def __init__(
        self, crew: DaskCrew, opened: OpenedList, *, copies: int = 1, late: float = LATE, last: float = LAST
    ) -> None:
        self.crew, self.copies, self.late, self.last = crew, copies, late, last
        self.stands = opened.stands
        self.sizes = [len(segment.table) for segment in opened.segments]
        self._plan = _Plan(())
        # What was asked last of each index by each method: new workers are asked it first.
        self._asked: dict[tuple[Index, str], tuple[Any, ...]] = {}
        self._late: dict[str, float] = {}
        self._there: frozenset[str] = frozenset()
        self._client: Any = None
        self._lock = threading.Lock()
        self.look()
        threading.Thread(target=_watch, args=(weakref.ref(self),), name="shards", daemon=True).start()

    def ask(self, index: Index, method: str, *given: Any) -> Answers:
        """See `Spread`."""
        plan = self._plan
        late, last = (self.late, self.last) if (index, method) in self._asked else (OPENING, OPENING)

        def call(name: str, places: tuple[int, ...]) -> _Call:
            actor = plan.actors.get(name)
            return _Call(None if actor is None else lambda: actor.ask(places, index, method, given))

        groups = [
            _Group(name, places, [[call(name, places)]])
            for name, places in groups_of(
                plan.placement, range(len(self.stands)), self._avoided(), at_last=True
            ).items()
        ]
        begun = time.monotonic()
        while waiting := [group for group in groups if group.answered() is None]:
            now = time.monotonic() - begun
            for group in waiting:
                if not group.beside and (now > late or group.failed()):
                    group.beside = True
                    self._late[group.name] = time.monotonic() + AVOIDED
                    copies = groups_of(plan.placement, group.places, frozenset({group.name}))
                    if sum(map(len, copies.values())) == len(group.places):
                        group.ways.append([call(other, places) for other, places in copies.items()])
            if now > last or all(group.beside and group.failed() for group in waiting):
                break
            waiting[0].wait(min(WAIT, max(last - now, 0.001)))
        answers = self._joined(groups)
        if answers.complete:
            self._asked[index, method] = given
        return answers

    def _avoided(self) -> frozenset[str]:
        """Workers that were late a moment ago; those who hold copies are asked before them."""
        now = time.monotonic()
        return frozenset(name for name, until in self._late.items() if until > now)

    def _joined(self, groups: list["_Group"]) -> Answers:
        found: list[Any] = []
        there: list[int] = []
        for group in groups:
            for call in group.answered() or ():
                well, value = call.value
                if not well:
                    raise value
                found.append(value)
            there += group.places if group.answered() is not None else ()
        missed = len(self.stands) - len(there)
        if self.stands and not there:
            raise NobodyAnswers(f"{self.crew.address}: {SILENT}")
        if missed:
            chunks = sum(self.sizes) - sum(self.sizes[place] for place in there)
            leave_out(f"{missed} of {len(self.stands)} segments, {chunks:,} chunks, did not answer in time")
        return Answers(found, not missed)

    def look(self) -> bool:
        """Place segments anew where workers came or went; returns whether that was so.

        Raises
        ------
        DoppioError
            If the scheduler does not answer, or there is no worker.
        """
        with self._lock:
            client = self.crew.client()
            there = frozenset(workers_of(client))
            plan = self._plan
            if there and plan.actors and there == self._there and client is self._client:
                return False
            if not there:
                raise NobodyAnswers(f"{self.crew.address}: {NOBODY}")
            before = plan.placement if plan.actors and client is self._client else None
            placement = placed(sorted(there), self.sizes, self.copies, before)
            actors, promised = {}, {}
            for name in sorted(there):
                own = {place: self.stands[place] for place, holders in enumerate(placement) if name in holders}
                held = plan.actors.get(name) if before is not None else None
                if held is not None and own.keys() == self._own(plan, name):
                    actors[name], promised[name] = held, plan.promised[name]
                elif own:
                    promised[name] = client.submit(
                        Shard, own, actor=True, workers=[name], allow_other_workers=False, pure=False
                    )
                    actors[name] = promised[name].result(timeout=OPENING)
                    with client.as_current():
                        # An actor speaks through the connection that is current when it is first looked at.
                        _ = actors[name].ask
            made = _Plan(placement, actors, promised)
            # Before anybody is sent there each is asked what was asked last: it opens, and compiles, for it.
            opening = [
                actors[name].ask(places, index, method, given)
                for (index, method), given in list(self._asked.items())
                for name, places in groups_of(placement, range(len(self.stands))).items()
            ]
            for one in opening:
                one.result(timeout=OPENING)
            self._there, self._client, self._plan = there, client, made
            return True

    @staticmethod
    def _own(plan: _Plan, name: str) -> set[int]:
        return {place for place, holders in enumerate(plan.placement) if name in holders}

    @property
    def placement(self) -> Placement:
        """Where segments stand."""
        return self._plan.placement


@dataclass
class _Group:
    """Segments that are asked of one worker, and all ways in which they may be answered: calls that together do.

    beside : whether those who hold copies have been asked, if there are any
    """

    name: str
    places: tuple[int, ...]
    ways: list[list["_Call"]]
    beside: bool = False

    def answered(self) -> list["_Call"] | None:
        """A way that is through."""
        return next((way for way in self.ways if all(call.done() for call in way)), None)

    def failed(self) -> bool:
        """Whether no way can come through any more."""
        return all(any(call.failed for call in way) for way in self.ways)

    def wait(self, seconds: float) -> None:
        """Wait for something to come, no longer than so long."""
        open_calls = [call for way in self.ways for call in way if not call.failed and not call.done()]
        if open_calls:
            open_calls[-1].wait(seconds)


class _Call:
    """A call of an actor on its way."""

    def __init__(self, begin: Callable[[], Any] | None) -> None:
        self.failed, self._done = False, False
        self.value: tuple[bool, Any] = True, None
        self._future: Any = None
        try:
            self._future = begin() if begin else None
        except Exception as error:
            log.info("a worker cannot be asked: %s", error)
        self.failed = self._future is None

    def done(self) -> bool:
        """Whether it is answered."""
        if not self._done and not self.failed and self._future.done():
            try:
                self.value, self._done = self._future.result(), True
            except Exception as error:
                log.info("a worker did not answer: %s", error)
                self.failed = True
        return self._done

    def wait(self, seconds: float) -> None:
        """Wait for it, no longer than so long."""
        with suppress(Exception):
            self._future.result(timeout=seconds)


def _watch(of: "weakref.ref[DaskShards]") -> None:
    """Look who is there, as long as anybody asks."""
    said = ""
    while True:
        time.sleep(LOOK)
        shards = of()
        if shards is None:
            return
        try:
            if shards.look():
                log.info("segments are placed anew: %s", shards.placement)
            said = ""
        except Exception as error:
            # Those who ask are told; this goes on looking, and says the same once.
            if str(error) != said:
                log.warning("segments cannot be placed: %s", error)
            said = str(error)
        del shards


def spread_over(crew: DaskCrew, copies: int) -> Callable[[OpenedList], DaskShards]:
    """From a list to its segments on a crew's workers."""

    def spread(opened: OpenedList) -> DaskShards:
        return DaskShards(crew, opened, copies=copies)

    return spread
