"""One HTTP endpoint that is asked with JSON: it times out, and tries again while the other side is busy or away."""

import json
import time
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import numpy as np
import urllib3
from urllib3.util import Retry

from doppio.core.errors import RemoteError

KEY_FILE = "key"
TIMEOUT, RETRIES, BACK_OFF = 30.0, 4, 0.5
# An endpoint that names a longer pause is not waited for so long, and no call takes longer than the deadline.
LONGEST_PAUSE, DEADLINE = 5, 60.0
PART = 1 << 14


class _Until(Retry):
    """Tries again until a moment (of `time.monotonic`), and not after it."""

    def __init__(self, *given: Any, until: float = np.inf, **named: Any) -> None:
        super().__init__(*given, **named)
        self.until = until

    def new(self, **changed: Any) -> "_Until":
        made = super().new(**changed)
        made.until = self.until
        return made

    def is_exhausted(self) -> bool:
        return super().is_exhausted() or time.monotonic() >= self.until


class Endpoint:
    """One endpoint: times out, and tries again with longer and longer pauses while it is busy or away."""

    def __init__(self, url: str, key: str, settings: Mapping[str, Any]) -> None:
        self.url = url.rstrip("/")
        self._headers = {"Content-Type": "application/json", **({"Authorization": f"Bearer {key}"} if key else {})}
        self._retries = _Until(
            total=int(settings.get("retries", RETRIES)), backoff_factor=float(settings.get("back_off", BACK_OFF)),
            status_forcelist=(429, 500, 502, 503, 504), allowed_methods=None, raise_on_status=False,
            backoff_max=LONGEST_PAUSE, retry_after_max=LONGEST_PAUSE,
        )  # fmt: skip
        self._deadline = float(settings.get("deadline", DEADLINE))
        timeout = urllib3.Timeout(total=min(float(settings.get("timeout", TIMEOUT)), self._deadline))
        self._pool = urllib3.PoolManager(timeout=timeout)

    def ask(self, method: str, path: str, body: Any = None) -> dict[str, Any]:
        """Send a request and read the JSON object that answers it.

        Raises
        ------
        RemoteError
            If the endpoint cannot be reached, refuses, or answers with something else.
        """
        return self._read(self.url + path, self._sent(method, self.url + path, body, whole=True).data)

    def lines(self, path: str, body: Any) -> Iterator[dict[str, Any]]:
        """Send a request and read the JSON objects that answer it, a line each, as they come.

        Raises
        ------
        RemoteError
            As `ask` does; also where the lines stop coming, or the last one is longer away than the deadline.
        """
        address, until = self.url + path, time.monotonic() + self._deadline
        answer = self._sent("POST", address, body, whole=False)
        rest = b""
        try:
            while part := answer.read1(PART):
                *whole, rest = (rest + part).split(b"\n")
                yield from (self._read(address, line) for line in whole if line.strip())
                if time.monotonic() > until:
                    raise RemoteError(f"{address}: was not done after {self._deadline:g} seconds")
            if rest.strip():
                yield self._read(address, rest)
        except urllib3.exceptions.HTTPError as error:
            raise RemoteError(f"{address}: stopped answering ({error})") from error
        finally:
            # What was not read to its end must not go back to those that are asked again.
            answer.close()

    def _sent(self, method: str, address: str, body: Any, *, whole: bool) -> urllib3.BaseHTTPResponse:
        try:
            sent = None if body is None else json.dumps(body).encode()
            retries = self._retries.new()
            retries.until = time.monotonic() + self._deadline
            answer = self._pool.request(
                method, address, body=sent, headers=self._headers, retries=retries, preload_content=whole
            )
        except urllib3.exceptions.HTTPError as error:
            raise RemoteError(f"{address}: cannot be reached ({error})") from error
        if answer.status != 200:
            said = answer.data[:200].decode(errors="replace")
            raise RemoteError(f"{address}: answered with status {answer.status}: {said}")
        return answer

    def _read(self, address: str, data: bytes) -> dict[str, Any]:
        try:
            found = json.loads(data)
        except ValueError as error:
            raise RemoteError(f"{address}: the answer is not JSON") from error
        if not isinstance(found, dict):
            raise RemoteError(f"{address}: the answer is not a JSON object")
        return found


def endpoint_of(folder: Path, settings: Mapping[str, Any]) -> Endpoint:
    """The endpoint of a registered model, with the key that it wants."""
    key = folder / KEY_FILE
    return Endpoint(settings["url"], key.read_text().strip() if key.exists() else "", settings)
