"""What is published as tools, asked by the protocol's own client: over HTTP and over standard input and output."""

import asyncio
import base64
import os
import sys
from contextlib import asynccontextmanager
from unittest import mock

import httpx2
from django.test import LiveServerTestCase
from django.utils import timezone
from mcp import Client, StdioServerParameters
from mcp.client.streamable_http import streamable_http_client

from doppio.core.formats.documents import read_file
from doppio.library.files import keep
from doppio.library.models import SourceFile
from doppio.library.services import store_documents
from doppio.serving.keys import Limits, make_key
from doppio.serving.models import Served, Use
from doppio.serving.services import publish
from doppio.serving.versions import versions
from tests.core.made_files import RED, inline_picture, make_picture
from tests.server.committed import Committed
from tests.server.workspace import make_workspace, measured


class Protocol(Committed, LiveServerTestCase):
    def setUp(self):
        versions.__init__()
        self.space, self.user = make_workspace("Desk")
        self.recipe, _ = measured(self.space, rerank=None)
        self.published = publish(self.recipe, "desk", self.user)

    def secret(self, *scopes, **limits):
        return make_key(self.published, "bot", scopes, Limits(**limits), self.user)[1]

    @asynccontextmanager
    async def over_http(self, secret):
        address = f"{self.live_server_url}/serve/desk/mcp"
        async with (
            httpx2.AsyncClient(headers={"Authorization": f"Bearer {secret}"}, timeout=30) as http,
            Client(streamable_http_client(address, http_client=http)) as client,
        ):
            yield client

    def run_with(self, secret, work):
        async def run():
            async with self.over_http(secret) as client:
                return await work(client)

        return asyncio.run(run())

    def test_search_list_and_read_as_the_api_does(self):
        async def work(client):
            tools = {tool.name for tool in (await client.list_tools()).tools}
            found = await client.call_tool("search", {"question": "What is E-417?", "k": 1})
            listed = await client.call_tool("list_documents", {})
            first = listed.structured_content["documents"][0]
            whole = await client.call_tool("read_document", {"document": first["id"]})
            return tools, found, listed, whole

        tools, found, listed, whole = self.run_with(self.secret("search", "read"), work)
        self.assertEqual(tools, {"search", "list_documents", "read_document", "look_at_picture"})
        [passage] = found.structured_content["passages"]
        self.assertIn("E-417", passage["text"])
        self.assertEqual(Served.objects.get().request, found.structured_content["request"])
        self.assertEqual({one["name"] for one in listed.structured_content["documents"]},
                         set(self.space.documents.values_list("name", flat=True)))  # fmt: skip
        self.assertEqual(whole.structured_content["text"], self.space.documents.order_by("pk").first().text)

    def test_a_key_has_the_tools_of_its_scopes_and_no_more(self):
        async def work(client):
            return {tool.name for tool in (await client.list_tools()).tools}

        self.assertEqual(self.run_with(self.secret("search"), work), {"search"})

    def test_limits_and_mistakes_are_told_as_errors_of_the_tool(self):
        async def work(client):
            found = [await client.call_tool("search", {"question": "What is E-417?"}) for _ in range(2)]
            return [*found, await client.call_tool("read_document", {"document": 10**9})]

        # Otherwise the minute might end between the two.
        with mock.patch("doppio.serving.keys.timezone.now", return_value=timezone.now()):
            found = self.run_with(self.secret("search", "read", a_minute=1), work)
        self.assertEqual([bool(one.is_error) for one in found], [False, True, True])
        self.assertIn("1 times a minute", found[1].content[0].text)
        self.assertIn("No Document matches", found[2].content[0].text)
        self.assertEqual(sum(Use.objects.values_list("refused", flat=True)), 1)

    def test_nobody_speaks_without_a_key(self):
        answer = self.client.post("/serve/desk/mcp", "{}", content_type="application/json")
        self.assertEqual(answer.status_code, 401)

    def test_a_local_assistant_asks_over_standard_input_and_output(self):
        page = f"<p>A bolt.</p>{inline_picture(make_picture(RED))}".encode()
        file = SourceFile.objects.create(workspace=self.space, name="bolt.html", digest=keep(page), bytes=len(page))
        store_documents(self.space, read_file(page, "bolt.html"), file)
        drawn = self.space.documents.get(name="bolt.html").pk
        environment = {**os.environ, "DOPPIO_KEY": self.secret("search", "read"), "PYTHONPATH": "src"}

        async def run():
            command = StdioServerParameters(
                command=sys.executable, args=["-m", "doppio", "assistant", "desk", "--address", self.live_server_url],
                env=environment,
            )  # fmt: skip
            async with Client(command) as client:
                tools = {tool.name for tool in (await client.list_tools()).tools}
                found = await client.call_tool("search", {"question": "What is E-417?"})
                wrong = await client.call_tool("search", {"question": "x", "only": "nonsense"})
                looked = [await client.call_tool("look_at_picture", {"document": drawn, "number": number})
                          for number in (1, 9)]  # fmt: skip
                return tools, found, wrong, *looked

        tools, found, wrong, shown, none = asyncio.run(run())
        self.assertEqual(tools, {"search", "list_documents", "read_document", "look_at_picture"})
        self.assertEqual(shown.content[0].mime_type, "image/png")
        self.assertEqual(base64.b64decode(shown.content[0].data)[:4], b"\x89PNG")
        self.assertIn("No picture 9", none.content[0].text)
        self.assertIn("E-417", found.structured_content["passages"][0]["text"])
        self.assertTrue(wrong.is_error)
        self.assertIn("write a field", wrong.content[0].text)
