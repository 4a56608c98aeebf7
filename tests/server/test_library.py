"""Kept files, tokens at hand, who may touch what, and records of an older edition."""

import json

from django.contrib.auth.models import User
from django.db import ProgrammingError, connection, transaction
from django.test import TestCase

from doppio.core.chunking.table import cut_one
from doppio.core.formats.bounded import BoundedReader
from doppio.core.formats.documents import read_file
from doppio.core.text.given import moved
from doppio.library import files
from doppio.library.corpus import core_documents, corpus_of
from doppio.library.intake import ADDED, REPLACED, SAME, take_file
from doppio.library.models import DocumentVersion, SourceFile, Workspace
from doppio.library.planned import planned_once
from doppio.library.services import store_documents
from doppio.recipes.builds import models
from doppio.recipes.cutting import TokenShelf, cut_all
from tests.core.corpus import documents
from tests.server.workspace import make_workspace


class KeptFiles(TestCase):
    def test_bytes_are_kept_once_and_forgotten_when_nothing_names_them(self):
        workspace = Workspace.objects.create(name="w")
        digest = files.keep(b"some bytes")
        self.assertEqual(files.keep(b"some bytes"), digest)
        self.assertEqual(files.kept(digest, "a"), b"some bytes")
        row = SourceFile.objects.create(workspace=workspace, name="a.md", digest=digest, bytes=10)
        files.forget([digest, ""])
        self.assertTrue(files.place_of(digest).exists())
        row.delete()
        files.forget([digest])
        self.assertFalse(files.place_of(digest).exists())
        with self.assertRaisesMessage(Exception, "a.md: the file as it was imported is gone; import it again"):
            files.kept(digest, "a.md")

    def test_older_versions_keep_their_bytes_while_the_document_is_there(self):
        workspace = Workspace.objects.create(name="w")
        with BoundedReader() as reader:
            first = take_file(workspace, "a.md", b"# One\n\nfirst text", reader)
            second = take_file(workspace, "a.md", b"# One\n\nsecond text", reader)
            again = take_file(workspace, "a.md", b"# One\n\nsecond text", reader)
        self.assertEqual([first.state, second.state, again.state], [ADDED, REPLACED, SAME])
        kept = list(DocumentVersion.objects.order_by("version").values_list("version", "file_digest"))
        self.assertEqual([version for version, _ in kept], [1, 2])
        for _, digest in kept:
            self.assertTrue(files.place_of(digest).exists())


class GivenOffsets(TestCase):
    def test_offsets_on_a_text_as_it_was_given_stay_with_its_document(self):
        workspace = Workspace.objects.create(name="w")
        lines = json.dumps({"id": "1", "text": "one\r\n\r\n-  two"}).encode()
        read = [read_file(data, "a.jsonl") for data in (lines, lines.replace(b"\\r", b""))]
        stored = [store_documents(workspace, read[0]), store_documents(workspace, read[0])]
        self.assertEqual([(one.added, one.kept) for one in stored], [(1, 0), (0, 1)])
        (document,) = core_documents(workspace)
        self.assertEqual(document, read[0][0])
        self.assertEqual([moved(document.given, offset) for offset in (0, 7, 13)], [0, 5, 11])
        # The same text with other line ends: offsets move otherwise, and no chunk changes.
        before = corpus_of(workspace)
        self.assertEqual(store_documents(workspace, read[1]).replaced, 1)
        self.assertEqual((core_documents(workspace)[0].given, corpus_of(workspace)), ((), before))


class TokensAtHand(TestCase):
    def test_a_shelf_gives_what_the_encoder_gives_and_holds_no_more_than_its_room(self):
        encoder = models.encoder()
        shelf = TokenShelf(room=40)
        texts = [document.text for document in documents()]
        for _ in range(2):
            for text, units in zip(texts, shelf.of(encoder, texts), strict=True):
                fresh = encoder.token_offsets([text])[0]
                self.assertEqual(units.starts.tolist(), fresh.starts.tolist())
        self.assertLessEqual(shelf._kept._held, 40)
        self.assertEqual(shelf._kept._held, sum(len(units.starts) for units in shelf._kept._kept.values()))

    def test_all_documents_cut_together_are_each_as_cut_alone(self):
        corpus = documents()
        chunking = {"rule": "sentence-groups", "unit": "tokens", "size": 16, "overlap": 1}
        table, counted = cut_all(corpus, chunking)
        for position, (document, tokens) in enumerate(zip(corpus, counted, strict=True)):
            rows = table.of_document(position)
            alone = cut_one(document, chunking, tokens)
            self.assertEqual(table.start[rows].tolist(), alone["start"].tolist())
            self.assertEqual(table.tokens[rows].tolist(), alone["tokens"].tolist())


class Membership(TestCase):
    def test_a_stranger_finds_nothing_of_another_workspace(self):
        workspace, _ = make_workspace()
        self.client.force_login(User.objects.create_user("stranger", password="a long password"))
        number = workspace.documents.first().pk
        chunking = {"rule": "outline", "unit": "words", "size": 20}
        requests = {
            ("get", "imports"): None,
            ("post", "imports"): None,
            ("post", "documents"): {"documents": [number]},
            ("post", f"documents/{number}/outline"): {"start": 0, "action": "drop"},
            ("get", f"documents/{number}/pages/1"): None,
            ("post", "stages/chunks/cut"): {"document": number, "chunking": chunking},
            ("post", "stages/chunks/figures"): {"chunking": chunking},
            ("get", "labels/lost"): None,
            ("delete", "labels/1"): None,
        }
        for (method, tail), body in requests.items():
            given = {} if method == "get" else {"data": json.dumps(body), "content_type": "application/json"}
            answer = getattr(self.client, method)(f"/api/workspaces/{workspace.pk}/{tail}", **given)
            self.assertEqual(answer.status_code, 404, tail)
        self.assertEqual(workspace.documents.count(), 3)

    def test_a_document_of_another_workspace_is_not_cut_through_ones_own(self):
        mine, user = make_workspace("mine")
        other, _ = make_workspace("other")
        self.client.force_login(user)
        body = {"document": other.documents.first().pk, "chunking": {"rule": "rows", "unit": "words", "size": 20}}
        answer = self.client.post(
            f"/api/workspaces/{mine.pk}/stages/chunks/cut", json.dumps(body), content_type="application/json"
        )
        self.assertEqual(answer.status_code, 404)


class Planned(TestCase):
    """Statements that are planned once on each connection."""

    TOLD = "SELECT id, name FROM library_workspace WHERE name = ANY(%s) AND id > %s ORDER BY name"

    def prepared(self):
        with connection.cursor() as cursor:
            cursor.execute("SELECT statement FROM pg_prepared_statements")
            return [row[0] for row in cursor.fetchall()]

    def rows(self, opened, *given):
        with opened() as cursor:
            cursor.execute(self.TOLD, given)
            return cursor.fetchall()

    def test_they_give_what_other_cursors_give_and_are_planned_by_the_server_once(self):
        for name in ("b", "a", "c"):
            Workspace.objects.create(name=name)
        for given in ((["a", "c"], 0), ([], 0), (["a"], 1 << 40), (["b"], -1)):
            with self.assertNumQueries(1):
                found = self.rows(planned_once, *given)
            self.assertEqual(found, self.rows(connection.cursor, *given))
            self.assertEqual(found, self.rows(planned_once, *given))
        kept = [one for one in self.prepared() if "library_workspace WHERE name = ANY" in one]
        # Numbers of other lengths are other types for the server.
        self.assertIn(len(kept), range(1, 5))
        for _ in range(8):
            self.rows(planned_once, ["a", "c"], 0)
        self.assertEqual(
            len([one for one in self.prepared() if "library_workspace WHERE name = ANY" in one]), len(kept)
        )

    def test_what_is_wrong_is_told_as_by_other_cursors_and_a_table_that_changes_is_seen(self):
        with self.assertRaises(ProgrammingError), transaction.atomic(), planned_once() as cursor:
            cursor.execute("SELECT nothing FROM nowhere WHERE id = %s", [1])
        self.assertEqual(self.rows(planned_once, ["a"], 0), [])
        with connection.cursor() as cursor:
            cursor.execute("ALTER TABLE library_workspace ADD COLUMN one_more int")
        self.assertEqual(self.rows(planned_once, ["a"], 0), [])
