from datetime import timedelta

from django.contrib.auth.models import User
from django.test import Client, TestCase
from django.urls import get_resolver
from django.utils import timezone

from doppio.library.entry import make_entry_link
from doppio.library.models import EntryLink
from tests.server.workspace import make_workspace

PAGE = {"accept": "text/html"}


class Visitors(TestCase):
    def test_nothing_but_sign_in_and_health_is_served(self):
        for path in ("/", "/line/fused", "/trials", "/anything"):
            self.assertRedirects(self.client.get(path, headers=PAGE), "/sign-in", fetch_redirect_response=False)
        for path in ("/index.html", "/assets/index.js", "/api/schema", "/api/session", "/api/workspaces"):
            self.assertEqual(self.client.get(path).status_code, 401, path)
        self.assertEqual(self.client.get("/health").json(), {"state": "ok"})

    def test_every_address_of_the_api_answers_401(self):
        for pattern in get_resolver().url_patterns:
            route = str(pattern.pattern)
            if route.startswith("api/"):
                for name in ("workspace", "document", "job", "recipe", "question"):
                    route = route.replace(f"<int:{name}>", "1")
                for method in (self.client.get, self.client.post, self.client.delete):
                    self.assertEqual(method("/" + route).status_code, 401, route)

    def test_signing_in_by_name_and_password(self):
        User.objects.create_user("engineer", password="a long password")
        wrong = self.client.post("/sign-in", {"username": "engineer", "password": "guess"})
        self.assertContains(wrong, "do not match", status_code=403)
        right = self.client.post("/sign-in", {"username": "engineer", "password": "a long password"})
        self.assertRedirects(right, "/", fetch_redirect_response=False)
        self.assertEqual(self.client.get("/api/session").json()["username"], "engineer")
        self.assertEqual(self.client.delete("/api/session").status_code, 204)
        self.assertEqual(self.client.get("/api/session").status_code, 401)

    def test_signing_in_needs_the_token_of_the_form(self):
        strict = Client(enforce_csrf_checks=True)
        self.assertEqual(strict.post("/sign-in", {"username": "a", "password": "b"}).status_code, 403)


class EntryLinks(TestCase):
    def setUp(self):
        self.user = User.objects.create_user("engineer")
        self.path = f"/enter/{make_entry_link(self.user)}"

    def test_a_link_signs_in_once(self):
        self.assertContains(self.client.get(self.path), "signs you in once")
        self.assertRedirects(self.client.post(self.path), "/", fetch_redirect_response=False)
        self.assertEqual(self.client.get("/api/session").json()["username"], "engineer")
        other = Client()
        self.assertContains(other.post(self.path), "has been used", status_code=403)
        self.assertEqual(other.get("/api/session").status_code, 401)

    def test_looking_at_a_link_does_not_use_it_up(self):
        Client().get(self.path)
        self.assertEqual(self.client.post(self.path).status_code, 302)

    def test_an_old_link_is_refused(self):
        EntryLink.objects.update(created_at=timezone.now() - timedelta(hours=13))
        self.assertEqual(self.client.post(self.path).status_code, 403)

    def test_the_secret_itself_is_not_stored(self):
        self.assertNotIn(EntryLink.objects.get().digest, self.path)


class Members(TestCase):
    def test_a_workspace_is_not_found_for_those_who_are_no_members(self):
        workspace, _ = make_workspace()
        _, stranger = make_workspace("Elsewhere")
        self.client.force_login(stranger)
        self.assertEqual([row["name"] for row in self.client.get("/api/workspaces").json()], ["Elsewhere"])
        tails = ("documents", "line", "questions", "trials", "recipes", "jobs", "labels/lost", "imports")
        for tail in (*tails, "stages/fused/mix", "stages/sparse/index"):
            self.assertEqual(self.client.get(f"/api/workspaces/{workspace.pk}/{tail}").status_code, 404, tail)
