"""The workers of a Dask cluster as a crew.

Tasks go out a few for each thread and come back in order; one whose worker dies is given to another. A scheduler that
dies is waited for, and what was not handed over yet is asked for again.
"""

import itertools
import os
import threading
import time
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from typing import Any, TypeVar
from uuid import uuid4

from doppio.core.errors import DoppioError, NobodyAnswers
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.store.crew import Place
from doppio.machines.here import here, name_of

T = TypeVar("T")
# Tasks on their way for each thread of the cluster, so that none waits for the next one.
FOR_EACH = 3
LEAST = 4
# Seconds: between looks at whether the work is to end, and for which nobody being there is borne with.
LOOK, PATIENCE = 1.0, 60.0
CONNECT = 10.0
NOBODY = "no worker is connected to the scheduler; start one with './doppio worker ADDRESS'"
KEPT = "What was done is kept, and the next run goes on from there."


class Lost(NobodyAnswers):
    """The scheduler is gone, with all that it had promised."""


class DaskCrew:
    """See the module.

    Parameters
    ----------
    address : str
        Of the scheduler, such as `tcp://10.0.0.5:8786`.
    patience : float
        Seconds to wait for a scheduler, or for a worker, that is not there.
    """

    def __init__(self, address: str, patience: float = PATIENCE) -> None:
        self.address = address if "://" in address else f"tcp://{address}"
        self.patience = patience
        self._lock = threading.Lock()
        self._client: tuple[int, Any] | None = None

    def sees(self, store: ArtifactStore) -> bool:
        """Whether every worker that is there has the artifacts of a store."""
        found = self.client().run(_store_here)
        return bool(found) and set(found.values()) == {name_of(store)}

    def client(self) -> Any:
        """The connection of this process to the scheduler.

        Raises
        ------
        NobodyAnswers
            If the scheduler does not answer.
        """
        # Imported when it is wanted: it takes seconds, and most installations are one machine.
        from distributed import Client

        with self._lock:
            if self._client is not None and self._client[0] == os.getpid() and self._client[1].status == "running":
                return self._client[1]
            self._close()
            try:
                client = Client(
                    self.address, timeout=CONNECT, set_as_default=False, name="doppio", direct_to_workers=True
                )
            except (OSError, TimeoutError, ValueError) as error:
                raise NobodyAnswers(
                    f"{self.address}: no scheduler answers there ({error}); start one with "
                    "'.venv/bin/dask scheduler', or leave --dask out"
                ) from error
            self._client = os.getpid(), client
            return client

    def _close(self) -> None:
        if self._client is not None and self._client[0] == os.getpid():
            # One whose scheduler is gone takes its time to say goodbye.
            threading.Thread(target=self._client[1].close, kwargs={"timeout": 1}, daemon=True).start()
        self._client = None

    def each(
        self,
        work: Callable[..., T],
        tasks: Iterable[tuple[Any, ...]],
        place: Place,
        waiting: Callable[[], None],
        common: Any = None,
    ) -> Iterator[T]:
        """See `Crew`.

        Raises
        ------
        DoppioError
            If nobody is there for `patience` seconds, or workers die of a task again and again.
        """
        left = iter(tasks)
        # Tasks with the promises of what comes of them; None where one has to be asked for, or asked for again.
        sent: deque[list[Any]] = deque()
        client: Any = None
        try:
            while True:
                try:
                    if client is None:
                        client = self._reached(waiting)
                        shared = _scattered(client, common)
                    room = max(LEAST, FOR_EACH * sum(workers_of(client).values())) - len(sent)
                    sent.extend([task, None] for task in itertools.islice(left, max(room, 0)))
                    for one in sent:
                        if one[1] is None:
                            one[1] = _submit(client, work, shared, one[0])
                    if not sent:
                        return
                    found = self._result(client, sent[0][1], waiting)
                except Lost:
                    client = None
                    for one in sent:
                        one[1] = None
                    continue
                sent.popleft()
                yield found
        finally:
            futures = [future for _, future in sent if future is not None]
            if futures and client.status == "running":
                client.cancel(futures, force=True, asynchronous=False)

    def _reached(self, waiting: Callable[[], None]) -> Any:
        """A connection to a scheduler that has workers."""
        until = time.monotonic() + self.patience
        while True:
            waiting()
            try:
                client = self.client()
                if workers_of(client):
                    return client
                wrong = f"{self.address}: {NOBODY}"
            except DoppioError as error:
                wrong = str(error)
            if time.monotonic() > until:
                raise DoppioError(f"{wrong}. {KEPT}")
            time.sleep(LOOK)

    def _result(self, client: Any, future: Any, waiting: Callable[[], None]) -> Any:
        from distributed import CancelledError, KilledWorker
        from distributed import TimeoutError as TookLong

        alone_since: float | None = None
        while True:
            try:
                return future.result(timeout=LOOK)
            except (TookLong, TimeoutError):
                waiting()
            except CancelledError as error:
                raise Lost from error
            except KilledWorker as error:
                raise DoppioError(
                    f"{self.address}: workers died several times of the same task; their log says of what, mostly "
                    "of too little memory"
                ) from error
            if client.status != "running":
                raise Lost
            if workers_of(client):
                alone_since = None
                continue
            alone_since = alone_since or time.monotonic()
            if time.monotonic() - alone_since > self.patience:
                raise DoppioError(f"{self.address}: {NOBODY}. {KEPT}")


def _scattered(client: Any, common: Any) -> list[Any]:
    """What all tasks are given, on its way to every worker; nothing where there is none."""
    if common is None:
        return []
    try:
        return [client.scatter(common, broadcast=True, hash=False)]
    except (OSError, TimeoutError) as error:
        raise Lost(str(error)) from error


def _submit(client: Any, work: Callable[..., Any], shared: list[Any], task: tuple[Any, ...]) -> Any:
    # A name of its own: the same task of another run is not the same promise.
    return client.submit(_done, work, task, *shared, key=f"{work.__name__}-{uuid4().hex}", pure=False)


def _done(work: Callable[..., T], task: tuple[Any, ...], *shared: Any) -> T:
    """A task, where it is done."""
    return work(here(), *shared, *task)


def _store_here() -> str:
    return name_of(here().store)


def workers_of(client: Any) -> dict[str, int]:
    """The workers that are there, by their addresses, each with its threads.

    Raises
    ------
    Lost
        If the scheduler does not answer.
    """
    try:
        found: dict[str, int] = client.nthreads()
    except (OSError, TimeoutError, ValueError) as error:
        raise Lost(str(error)) from error
    return found
