"""`./doppio assistant`: what is published, as tools of a local assistant, over standard input and output."""

import json
import os
import sys
from typing import Annotated, Any

import anyio
import typer
import urllib3

from doppio.core.errors import DoppioError

KEY = "DOPPIO_KEY"
SECONDS = 60.0


def assistant(
    name: Annotated[str, typer.Argument(help="The published name.")],
    address: Annotated[str, typer.Option(help="Where Doppio runs.")] = "http://127.0.0.1:8765",
) -> None:
    """Offer a published recipe as tools of a local assistant, by the Model Context Protocol.

    It is spoken over standard input and output. The key is taken from the environment, DOPPIO_KEY, so that it stands
    in no list of processes.
    """
    secret = os.environ.get(KEY, "")
    if not secret:
        raise DoppioError(
            f"{KEY} is not set; make a key under Serve, Keys, and give it to this command as {KEY}=dop-..."
        )
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "doppio.site.settings")
    import django

    django.setup()
    from doppio.serving.models import Key
    from doppio.serving.tools import tool_server

    tools = OverHttp(f"{address.rstrip('/')}/serve/{name}", secret)
    # A wrong key or name is told now, and not by the first question.
    tools.health()
    server = tool_server(name, name, tools, (Key.SEARCH, Key.READ))
    anyio.run(server.run_stdio_async)
    sys.stdout.flush()


class OverHttp:
    """Tools that ask a running Doppio."""

    def __init__(self, address: str, secret: str) -> None:
        self._address = address
        self._pool = urllib3.PoolManager(headers={"Authorization": f"Bearer {secret}"}, retries=False)

    def health(self) -> dict[str, Any]:
        return self._asked("GET", "health")

    def search(self, question: str, k: int | None, only: str) -> dict[str, Any]:
        given = {"question": question, "only": only, **({} if k is None else {"k": k})}
        found: dict[str, Any] = self._asked("POST", "search", given)
        return found

    def documents(self, after: int) -> list[dict[str, Any]]:
        found: list[dict[str, Any]] = self._asked("GET", f"documents?after={after}")
        return found

    def read(self, document: int, section: int | None) -> dict[str, Any]:
        tail = "" if section is None else f"?section={section}"
        return self._asked("GET", f"documents/{document}{tail}")

    def picture(self, document: int, number: int) -> tuple[bytes, str]:
        answer = self._answer("GET", f"documents/{document}/figures/{number}", None)
        return answer.data, answer.headers["Content-Type"].removeprefix("image/")

    def _asked(self, method: str, tail: str, given: dict[str, Any] | None = None) -> Any:
        return json.loads(self._answer(method, tail, given).data)

    def _answer(self, method: str, tail: str, given: dict[str, Any] | None) -> urllib3.BaseHTTPResponse:
        """What is answered.

        Raises
        ------
        DoppioError
            If nobody answers, or with the sentence of the refusal.
        """
        address = f"{self._address}/{tail}"
        try:
            answer = self._pool.request(method, address, json=given, timeout=SECONDS)
        except urllib3.exceptions.HTTPError as error:
            raise DoppioError(
                f"{address} does not answer ({error}); start './doppio serve', or give --address"
            ) from error
        if answer.status != 200:
            try:
                body = json.loads(answer.data)
            except ValueError:
                body = {}
            told = body.get("detail") if isinstance(body, dict) else None
            raise DoppioError(told or f"{address} answered with status {answer.status}")
        return answer
