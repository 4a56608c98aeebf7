"""Who does the work that stands alone, such as a batch to encode: this process, or workers on several machines."""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any, Protocol, TypeVar

from doppio.core.at_hand import kept
from doppio.core.models.registry import Models
from doppio.core.progress import Progress
from doppio.core.store.artifacts import ArtifactStore

T = TypeVar("T")
THINGS_KEPT = 8


@dataclass(frozen=True)
class Place:
    """What a task finds where it is done: models, artifacts, and what tasks before it have opened."""

    models: Models
    store: ArtifactStore
    opened: dict[Any, Any] = field(default_factory=dict, compare=False)

    def once(self, key: Any, make: Callable[[], T]) -> T:
        """What was made for a key, or is made now; the last few are kept."""
        return kept(self.opened, key, make, THINGS_KEPT)


class Crew(Protocol):
    """Those who do tasks.

    Tasks say all that they hang on, so whoever does one gets the same to the last bit, and doing one twice does no
    harm.
    """

    def sees(self, store: ArtifactStore) -> bool:
        """Whether tasks find the artifacts of a store where they are done."""

    def each(
        self,
        work: Callable[..., T],
        tasks: Iterable[tuple[Any, ...]],
        place: Place,
        waiting: Callable[[], None],
        common: Any = None,
    ) -> Iterator[T]:
        """What comes of each task, in the order of the tasks.

        Parameters
        ----------
        work : callable
            A function of a module: gets the place where it runs, and the task.
        tasks : iterable of tuples
            Is gone through as tasks are wanted.
        place : Place
            That of this process.
        waiting : callable
            Called now and then while nothing comes; ends the work by raising.
        common : object or None
            What `work` gets for every task, before the task's own; it is carried to each machine once.
        """


class Alone:
    """This process, one task after another."""

    def sees(self, store: ArtifactStore) -> bool:
        return True

    def each(
        self,
        work: Callable[..., T],
        tasks: Iterable[tuple[Any, ...]],
        place: Place,
        waiting: Callable[[], None],
        common: Any = None,
    ) -> Iterator[T]:
        before = () if common is None else (common,)
        for task in tasks:
            yield work(place, *before, *task)


@dataclass(frozen=True)
class Hands:
    """A crew, the place of this process, and whoever is told how far the work is."""

    crew: Crew
    place: Place
    progress: Progress

    def each(self, work: Callable[..., T], tasks: Iterable[tuple[Any, ...]], common: Any = None) -> Iterator[T]:
        """What comes of each task, in order; see `Crew.each`."""
        return self.crew.each(work, tasks, self.place, lambda: self.progress.advance(0), common)

    @property
    def alone(self) -> bool:
        """Whether nobody else is there."""
        return isinstance(self.crew, Alone)

    @property
    def shared(self) -> bool:
        """Whether the crew finds the artifacts of this process."""
        return self.crew.sees(self.place.store)
