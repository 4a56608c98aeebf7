"""A few requests to every operation: none ends in an error of ours, and errors have one form."""

import os

from django.test import TestCase

from tests.server.fuzzing import Sender
from tests.server.workspace import make_workspace, measured

EXAMPLES = int(os.environ.get("DOPPIO_FUZZ", 3))


class Fuzz(TestCase):
    def test_no_operation_ends_in_an_error_of_ours(self):
        workspace, user = make_workspace()
        saved, _ = measured(workspace)
        known = {
            "workspace": workspace.pk,
            "document": workspace.documents.first().pk,
            "question": workspace.questions.first().pk,
            "recipe": saved.pk,
        }
        sender = Sender(user, known)
        operations = sender.operations()
        self.assertGreater(len(operations), 50)
        seeded = "DOPPIO_FUZZ" not in os.environ
        wrong = [told for operation in operations for told in sender.fuzz(operation, EXAMPLES, seeded)]
        self.assertEqual(wrong, [])
        self.assertGreater(sender.sent, len(operations))
        self.assertIn(200, sender.statuses)
        if "DOPPIO_FUZZ" in os.environ:
            print(f"{sender.sent:,} requests to {len(operations)} operations: {sorted(sender.statuses.items())}")
