"""Workspaces are made, removed and brought back; members do what their role lets them do."""

import json
from datetime import timedelta

from django.contrib.auth.models import User
from django.test import Client, TestCase
from django.utils import timezone

from doppio.jobs.sweep import tidy
from doppio.library.models import Event, Membership, Role, Workspace
from doppio.questions.models import AnswerSpan
from doppio.recipes.services import save_recipe
from tests.core.corpus import recipe
from tests.server.told import operations
from tests.server.workspace import make_workspace

# What each role may do at least; all other operations that change something take an editor.
READING = {"ask", "askByPicture", "cutDocument", "chunkFigures", "explain", "analyse", "readSynonyms", "matches",
           "shadedPages", "buildCost", "takeMemberOut", "draft", "askDraft", "tryPublished",
           "sayOfAnswer"}  # fmt: skip
JUDGING = {"giveLabel", "placeLabel", "gradeLabel", "removeLabel", "judgePassage", "takeJudgementBack"}
OWNING = {"renameWorkspace", "removeWorkspace", "emptyWorkspace", "inviteMember", "changeMember",
          "publish", "keepQuestions", "takeDown", "release", "putBeside", "makeKey", "takeKeyBack"}  # fmt: skip
# These are about no workspace that one has to be a member of.
APART = {"session", "leave", "setPassword", "workspaces", "makeWorkspace", "catalogue", "encoders", "scorers",
         "tryScorer", "restsOn", "bringWorkspaceBack", "importWorkspace",
         # These are opened by keys, whoever is signed in.
         "servedSearch", "servedAnswer", "servedFeedback", "servedHealth", "servedDocuments", "servedDocument",
         "servedFigure", "servedMetrics"}  # fmt: skip
SAFE = ("get", "head")


class Sending:
    """Requests as JSON; what a test wants is the status and the body."""

    def send(self, method, address, body=None, client=None):
        given = {} if body is None else {"data": json.dumps(body), "content_type": "application/json"}
        answer = getattr(client or self.client, method)(address, **given)
        kind = answer.headers.get("Content-Type", "")
        return answer.status_code, answer.json() if not answer.streaming and answer.content and kind.startswith(
            "application/json"
        ) else None


class Kept(Sending, TestCase):
    def setUp(self):
        self.user = User.objects.create_user("engineer")
        self.client.force_login(self.user)

    def names(self, query=""):
        return [row["name"] for row in self.send("get", f"/api/workspaces{query}")[1]]

    def test_a_new_workspace_is_empty_owned_and_has_a_recipe_to_begin_with(self):
        status, made = self.send("post", "/api/workspaces", {"name": "  My   manuals "})
        self.assertEqual((status, made["name"], made["role"], made["documents"]), (201, "My manuals", "owner", 0))
        held = self.send("get", f"/api/workspaces/{made['id']}/")[1]["holds"]
        self.assertEqual((held["recipes"], held["questions"], held["labels"], held["trials"]), (1, 0, 0, 0))
        line = self.send("get", f"/api/workspaces/{made['id']}/line")[1]
        self.assertEqual((line["questions"], line["built"], line["trial"]), (0, False, None))

    def test_names_are_refused_with_what_is_wrong(self):
        self.send("post", "/api/workspaces", {"name": "Manuals"})
        for name, wrong in (("Manuals", "is another workspace's"), ("x" * 121, "at most 120"), (" ", "blank")):
            status, said = self.send("post", "/api/workspaces", {"name": name})
            self.assertEqual(status, 400)
            self.assertIn(wrong, said["detail"])

    def test_what_was_removed_can_be_brought_back_for_a_week_and_its_name_is_free(self):
        number = self.send("post", "/api/workspaces", {"name": "Manuals"})[1]["id"]
        self.assertEqual(self.send("delete", f"/api/workspaces/{number}/")[0], 204)
        self.assertEqual((self.names(), self.names("?removed=true")), ([], ["Manuals"]))
        self.assertEqual(self.send("get", f"/api/workspaces/{number}/line")[0], 404)
        self.send("post", "/api/workspaces", {"name": "Manuals"})
        status, back = self.send("post", f"/api/workspaces/{number}/bring-back")
        self.assertEqual((status, back["name"]), (200, "Manuals (2)"))
        self.assertEqual(sorted(self.names()), ["Manuals", "Manuals (2)"])
        self.assertEqual(self.send("post", f"/api/workspaces/{number}/bring-back")[0], 404)

    def test_it_is_thrown_away_after_the_week_and_not_before(self):
        workspace, _ = make_workspace("Old")
        for days, there in ((6.9, True), (7.1, False)):
            Workspace.objects.filter(pk=workspace.pk).update(removed_at=timezone.now() - timedelta(days=days))
            tidy(timezone.now())
            self.assertEqual(Workspace.objects.filter(pk=workspace.pk).exists(), there)
        self.assertFalse(AnswerSpan.objects.exists())

    def test_history_says_who_renamed_what_from_what(self):
        number = self.send("post", "/api/workspaces", {"name": "Manuals"})[1]["id"]
        self.assertEqual(self.send("patch", f"/api/workspaces/{number}/", {"name": "Handbooks"})[0], 204)
        event = Event.objects.filter(workspace=number).first()
        self.assertEqual((event.kind, event.name), ("workspace renamed", "engineer"))
        self.assertEqual((event.about["before"], event.about["after"]), ("Manuals", "Handbooks"))


class People(Sending, TestCase):
    def setUp(self):
        self.workspace, self.owner = make_workspace()
        self.client.force_login(self.owner)
        self.address = f"/api/workspaces/{self.workspace.pk}/members"

    def test_who_is_invited_comes_in_by_the_link_sets_a_password_and_signs_in_with_it(self):
        status, invited = self.send("post", self.address, {"username": "judge.one", "role": "judge"})
        self.assertEqual((status, invited["member"]["role"]), (201, "judge"))
        other = Client()
        self.assertEqual(other.post(invited["link"]).status_code, 302)
        self.assertEqual(self.send("get", "/api/workspaces", client=other)[1][0]["role"], "judge")
        status, said = self.send("put", "/api/session/password", {"password": "short"}, other)
        self.assertEqual(status, 400)
        self.assertIn("too short", said["detail"])
        self.assertEqual(self.send("put", "/api/session/password", {"password": "cable and pylon"}, other)[0], 204)
        self.assertEqual(self.send("get", "/api/session", client=other)[0], 200, "this session goes on")
        again = {"password": "another one here", "present": "wrong"}
        self.assertIn("not the present", self.send("put", "/api/session/password", again, other)[1]["detail"])
        third = Client()
        third.post("/sign-in", {"username": "judge.one", "password": "cable and pylon"})
        self.assertEqual(self.send("get", "/api/session", client=third)[1]["username"], "judge.one")

    def test_a_link_is_made_only_for_somebody_new(self):
        User.objects.create_user("known")
        self.assertIsNone(self.send("post", self.address, {"username": "known", "role": "reader"})[1]["link"])
        status, said = self.send("post", self.address, {"username": "known", "role": "editor"})
        self.assertEqual((status, "a member already" in said["detail"]), (400, True))

    def test_one_owner_stays(self):
        status, said = self.send("patch", f"{self.address}/{self.owner.pk}", {"role": "editor"})
        self.assertEqual((status, "one owner at least" in said["detail"]), (400, True))
        self.assertEqual(self.send("delete", f"{self.address}/{self.owner.pk}")[0], 400)
        self.assertEqual(Membership.objects.get(user=self.owner).role, Role.OWNER)


class Roles(Sending, TestCase):
    """Every operation of the schema, as each role, as another workspace's member, and signed out."""

    def setUp(self):
        self.workspace, _ = make_workspace()
        self.saved = save_recipe(self.workspace, recipe().body)
        make_workspace("Elsewhere")
        question = self.workspace.questions.first()
        self.places = {
            "workspace": self.workspace.pk, "recipe": self.saved.pk, "question": question.pk,
            "label": AnswerSpan.objects.first().pk, "document": self.workspace.documents.first().pk,
            "number": self.workspace.question_sets.get().pk, "page": 1, "job": 0, "brought_in": 0, "file": 0,
            "pool": 0, "item": 0, "event": 0, "sweep": 0, "gate": 0, "trial": 0, "run": 0,
            "chunk": 0, "published": 0, "key": 0, "name": "desk", "picture": "0" * 40,
        }  # fmt: skip

    def status(self, client, method, path, member):
        address = path.format(**self.places, member=member)
        # What is sent is empty: whoever may do it is told what is missing.
        if path.endswith("/files"):
            answer = client.post(address, {"names": "x"})
            return answer.status_code, answer.json()
        return self.send(method, address, None if method in SAFE else {}, client)

    def least(self, name, method):
        if name in OWNING:
            return Role.OWNER
        if name in JUDGING:
            return Role.JUDGE
        if name in ("agreement", "exportWorkspace"):
            return Role.EDITOR
        return Role.READER if method in SAFE or name in READING else Role.EDITOR

    def test_each_role_may_do_what_it_may_and_is_told_who_may_do_the_rest(self):
        tried = 0
        for role in Role:
            user = User.objects.create_user(f"a {role.label}")
            Membership.objects.create(workspace=self.workspace, user=user, role=role)
            client = Client()
            client.force_login(user)
            for name, (method, path) in operations().items():
                # Removing things would leave nothing to try the next one on.
                removing = method == "delete" or name == "emptyWorkspace"
                if name in APART or (removing and role >= self.least(name, method)):
                    continue
                status, said = self.status(client, method, path, user.pk)
                if role < self.least(name, method):
                    self.assertEqual(status, 403, f"{name} as {role.label}: {said}")
                    self.assertIn("Ask one of its owners", said["detail"])
                    tried += 1
                else:
                    self.assertNotEqual(status, 403, f"{name} as {role.label}: {said}")
        self.assertGreater(tried, 25)

    def test_strangers_find_nothing_and_visitors_are_sent_to_sign_in(self):
        stranger = Client()
        stranger.force_login(User.objects.get(username="engineer of Elsewhere"))
        for name, (method, path) in operations().items():
            if name not in APART:
                status, _ = self.status(stranger, method, path, 0)
                self.assertEqual(status, 404, name)
            self.assertEqual(self.status(Client(), method, path, 0)[0], 401, name)

    def test_what_a_role_may_not_do_changes_nothing(self):
        reader = User.objects.create_user("reader")
        Membership.objects.create(workspace=self.workspace, user=reader, role=Role.READER)
        client = Client()
        client.force_login(reader)
        before = self.counts()
        at = f"/api/workspaces/{self.workspace.pk}"
        question, label = self.places["question"], self.places["label"]
        document = {"document": self.places["document"], "start": 0, "end": 5}
        for method, tail, body in (
            ("post", "questions", {"text": "What is it?"}),
            ("patch", f"questions/{question}", {"unanswerable": True}),
            ("delete", f"questions/{question}", None),
            ("post", f"questions/{question}/labels", document),
            ("put", f"labels/{label}", document),
            ("patch", f"labels/{label}", {"grade": 3}),
            ("delete", f"labels/{label}", None),
            ("post", "recipes/save", {"body": self.saved.body}),
            ("post", f"recipes/{self.saved.pk}/in-force", {}),
            ("post", "trials", {"recipe": self.saved.pk}),
            ("post", "documents", {"documents": [self.places["document"]]}),
            ("post", "imports", {}),
            ("post", "question-sets", {"name": "More"}),
            ("delete", "", None),
        ):
            status, said = self.send(method, f"{at}/{tail}", body, client)
            self.assertEqual(status, 403, f"{method} {tail}: {said}")
        self.assertEqual(self.counts(), before)

    def counts(self):
        space = Workspace.objects.get(pk=self.workspace.pk)
        spans = list(AnswerSpan.objects.values_list("start", "end", "grade"))
        return (space.questions.count(), spans, space.recipes.count(), space.documents.count(), space.jobs.count(),
                space.marked, space.removed_at)  # fmt: skip
