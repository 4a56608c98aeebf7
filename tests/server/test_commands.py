import io
import json
import os
import subprocess
import sys
import tempfile
import unittest
from collections import Counter
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path
from types import SimpleNamespace
from unittest import mock
from xml.etree import ElementTree

from doppio.command.app import main
from doppio.command.bench import _measure
from doppio.command.lazily import COMMANDS
from tests.browser.prepared import built_over_demo
from tests.core.corpus import ROOT, documents, recipe
from tests.server.workspace import QUESTIONS


def doppio(*arguments):
    """Run a command as a person runs it, with a database that is not there."""
    command = [sys.executable, "-m", "doppio", *map(str, arguments)]
    environment = os.environ | {"DOPPIO_DATABASE": "/nowhere"}
    return subprocess.run(command, cwd=ROOT, capture_output=True, text=True, env=environment)


def here(*arguments):
    """Run a command in this process, which has imported what takes seconds to import."""
    out, err = io.StringIO(), io.StringIO()
    status = 0
    with (
        mock.patch.object(sys, "argv", ["./doppio", *map(str, arguments)]),
        redirect_stdout(out),
        redirect_stderr(err),
    ):
        try:
            main()
        except SystemExit as ending:
            status = ending.code or 0
    return subprocess.CompletedProcess(arguments, status, out.getvalue(), err.getvalue())


class OverFiles(unittest.TestCase):
    """Commands over a folder of small files."""

    @classmethod
    def setUpClass(cls):
        cls.enterClassContext(cls.place())
        cls.documents = cls.folder / "documents.jsonl"
        rows = [{"id": d.id, "title": d.title, "text": d.text} for d in documents()]
        cls.documents.write_text("\n".join(map(json.dumps, rows)))
        cls.questions = cls.folder / "questions.jsonl"
        cls.questions.write_text("\n".join(map(json.dumps, QUESTIONS)))
        cls.recipe = cls.folder / "recipe.json"
        cls.recipe.write_text(json.dumps(recipe().body))

    @classmethod
    def place(cls):
        place = tempfile.TemporaryDirectory()
        cls.folder = Path(place.name)
        return place

    def trial(self, by=here, **changes):
        given = {"documents": self.documents, "questions": self.questions, "recipe": self.recipe,
                 "cache": self.folder / "cache", **changes}  # fmt: skip
        return by("trial", *(part for name, value in given.items() for part in (f"--{name}", value)))


class TrialCommand(OverFiles):
    """One run is made as a person makes it; the others only differ in what they are given."""

    def test_everything_that_it_writes(self):
        out = {name: self.folder / name for name in ("json", "run", "qrels")}
        done = self.trial(doppio, **out, k="1,5")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("delivered 100.0% of answerable questions", done.stdout)
        found = json.loads(out["json"].read_text())
        self.assertEqual(found["questions"], 4)
        self.assertEqual(list(found["stages"]), ["sparse", "dense", "fused", "reranked", "context"])
        for metric in ("recall@5", "hit@5", "precision@5", "ndcg@5", "mrr"):
            self.assertIn(metric, found["stages"]["fused"])
        self.assertEqual(sum(found["ledger"].values()), 4)
        self.assertTrue({"read", "chunk", "index", "reranked"} <= set(found["seconds"]))
        fields = out["run"].read_text().splitlines()[0].split()
        self.assertEqual((len(fields), fields[1], fields[3]), (6, "Q0", "1"))
        judged = {tuple(line.split()[::2]) for line in out["qrels"].read_text().splitlines()}
        ranked = {tuple(line.split()[:3:2]) for line in out["run"].read_text().splitlines()}
        self.assertGreaterEqual(len(judged & ranked), 3)

    def test_answers_are_told_where_the_recipe_answers(self):
        path, out = self.folder / "answering.json", self.folder / "answers.json"
        path.write_text(json.dumps(recipe(rerank=None, select={"k": 2, "answer": {"kind": "sentences"}}).body))
        done = self.trial(recipe=path, json=out)
        self.assertEqual(done.returncode, 0, done.stderr)
        told = json.loads(out.read_text())["answers"]
        self.assertEqual((told["answerable"], told["unanswerable"]), (3, 1))
        self.assertIn(f"answers  word F1 {told['f1']:.3f}", done.stdout)
        self.assertIn("silent 0 of 1 unanswerable", " ".join(done.stdout.split()))

    def test_indexes_are_reused_between_runs(self):
        self.trial()
        before = {path: path.stat().st_mtime_ns for path in (self.folder / "cache").rglob("*.npy")}
        self.assertEqual(self.trial().returncode, 0)
        after = {path: path.stat().st_mtime_ns for path in (self.folder / "cache").rglob("*.npy")}
        self.assertTrue(before)
        self.assertEqual(before, after)

    def test_bad_input_ends_with_status_2_and_names_file_and_line(self):
        bad = self.folder / "bad"
        for change, text, message in (
            ("questions", '\n{"id": "1"}', "bad, line 2: text: missing"),
            ("recipe", '{"format": "doppio-recipe/1", "speed": 3}', "bad: speed: unknown key"),
            ("documents", None, "no such file or folder"),
        ):
            bad.unlink(missing_ok=True)
            if text is not None:
                bad.write_text(text)
            done = self.trial(**{change: bad})
            self.assertEqual(done.returncode, 2, done.stderr)
            self.assertIn(message, done.stderr)
            self.assertNotIn("Traceback", done.stderr)
        self.assertEqual(self.trial(k="0").returncode, 2)
        self.assertEqual(self.trial(json=self.folder / "nowhere" / "x").returncode, 2)


class Gate(OverFiles):
    """Recipes beside each other, an earlier run and another system's; the gate and what it writes."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.worse = cls.folder / "worse.json"
        words = {"branches": [{"id": "sparse", "kind": "bm25", "depth": 1}], "name": "words alone",
                 "fusion": {"method": "reciprocal-rank", "depth": 1}, "rerank": None}  # fmt: skip
        cls.worse.write_text(json.dumps(recipe(**words).body))

    def files(self, *names):
        return {name: self.folder / f"gate-{name}" for name in names}

    def test_everything_that_it_writes(self):
        out = self.files("json", "markdown", "junit")
        earlier = self.folder / "earlier.json"
        self.assertEqual(self.trial(json=earlier).returncode, 0)
        done = self.trial(recipe=self.worse, baseline=earlier, **{"fail-if-worse": 0.01, "fail-below": "mrr=0.999"},
                          metric="recall@1", **out)  # fmt: skip
        self.assertEqual(done.returncode, 1, done.stderr)
        self.assertIn("The gate is closed", done.stdout)
        self.assertIn("Against test (earlier)", " ".join(done.stdout.split()))
        found = json.loads(out["json"].read_text())
        self.assertEqual(found["ledger"]["delivered"] + found["ledger"]["cut by chunking"] <= 3, True)
        self.assertEqual(found["baseline"], "test (earlier)")
        checks = {check["what"]: check["holds"] for check in found["gate"]["checks"]}
        # Three questions cannot show that a loss is no chance.
        self.assertEqual(checks, {"mrr at least 0.999": False, "recall@1 no worse than the baseline by 0.01": True})
        self.assertFalse(found["gate"]["open"])
        mean = found["compared"][0]["difference"]["mean"]
        before = json.loads(earlier.read_text())["stages"]["context"]["recall@1"]
        self.assertAlmostEqual(found["compared"][0]["mean"] - before, mean, places=5)
        suite = ElementTree.parse(out["junit"]).getroot()
        self.assertEqual((suite.get("tests"), suite.get("failures")), ("2", "1"))
        failed = [case.get("name") for case in suite.iter("testcase") if case.find("failure") is not None]
        self.assertEqual(failed, ["mrr at least 0.999"])
        self.assertIn("The gate is **closed**.", out["markdown"].read_text())

    def test_several_recipes_and_a_run_of_another_system_stand_beside_the_first(self):
        other = self.folder / "other.run"
        other.write_text("q1 Q0 alarms.csv 1 2.5 other\nq2 Q0 wind.md:0-40 1 1.0 other\n")
        out = self.files("json")
        done = here("trial", "--documents", self.documents, "--questions", self.questions, "--recipe", self.recipe,
                    "--recipe", self.worse, "--beside", other, "--metric", "mrr", "--json", out["json"],
                    "--cache", self.folder / "cache")  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)
        found = json.loads(out["json"].read_text())
        self.assertEqual([trial["recipe"]["name"] for trial in found["trials"]], ["test", "words alone"])
        self.assertEqual([row["name"] for row in found["compared"]], ["words alone", "other.run"])
        self.assertNotIn("gate", found)

    def test_bad_input_ends_with_status_2_and_names_file_and_line(self):
        run = self.folder / "bad.run"
        run.write_text("q1 Q0 nowhere.csv 1 2.5 other\n")
        for change, message in (
            ({"fail-below": "recall@5>0.8"}, "--fail-below: 'recall@5>0.8' is not a metric"),
            ({"fail-below": "recall@5=80"}, "such as recall@5=0.80"),
            ({"fail-below": "recall@7=0.8"}, "recall@7: no such metric"),
            ({"fail-below": "final:mrr=0.8"}, "has no stage 'final'; there are sparse"),
            ({"fail-if-worse": "0.01"}, "needs a --baseline"),
            ({"fail-if-worse": "2", "baseline": self.worse}, "--fail-if-worse: 2.0 is not from 0"),
            ({"baseline": self.folder / "none.json"}, "none.json"),
            ({"beside": run}, "bad.run, line 1: 'nowhere.csv' is no document here"),
        ):
            done = self.trial(**change)
            self.assertEqual(done.returncode, 2, f"{change}: {done.stdout} {done.stderr}")
            self.assertIn(message, " ".join(done.stderr.split()))
            self.assertNotIn("Traceback", done.stderr)
        old = self.folder / "old.json"
        old.write_text(json.dumps({"ledger": {}, "recipe": {}}))
        self.assertIn("run that trial again", self.trial(baseline=old).stderr)


class SweepCommand(OverFiles):
    def sweep(self, *axes, **changes):
        given = {"documents": self.documents, "questions": self.questions, "recipe": self.recipe,
                 "cache": self.folder / "cache", **changes}  # fmt: skip
        told = [part for one in axes for part in ("--axis", one)]
        return here("sweep", *(part for name, value in given.items() for part in (f"--{name}", value)), *told)

    def test_settings_are_tried_told_and_written(self):
        out, made = self.folder / "sweep.json", self.folder / "made.json"
        done = self.sweep("fusion.weights.dense=0,1,4", "select.k=1,2", json=out, write=made, metric="mrr")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("nested cross-validation", " ".join(done.stdout.split()))
        found = json.loads(out.read_text())
        self.assertEqual(len(found["settings"]), 6)
        self.assertEqual(found["settings"][0]["settings"], {"fusion.weights.dense": 1, "select.k": 2})
        body = json.loads(made.read_text())
        self.assertEqual((body["fusion"]["weights"]["dense"], body["select"]["k"]),
                         tuple(found["chosen"].values()))  # fmt: skip
        # What it says of the present settings is what a trial says.
        trial = self.folder / "trial.json"
        self.trial(json=trial)
        self.assertAlmostEqual(json.loads(trial.read_text())["stages"]["context"]["mrr"],
                               found["settings"][0]["mean"], places=5)  # fmt: skip
        for by in ("random", "halving"):
            done = self.sweep("fusion.weights.dense=0..4/9", by=by, most=4, json=out)
            self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(sum(row["questions"] == 3 for row in json.loads(out.read_text())["settings"]), 9)

    def test_bad_input_ends_with_status_2(self):
        for axes, more, message in (
            (["select.k=0,1"], {}, "--axis: select.k=0: select.k: 0 is not between 1 and 100"),
            (["select.size=1"], {}, "select.size: the recipe has no such setting"),
            (["select.k=1", "select.k=2"], {}, "select.k is given twice"),
            (["select.k=1..50/50", "branches[0].k1=0..2/50"], {}, "2,500 settings are more than 2,000"),
            (["select.k=1,2"], {"by": "guess"}, "--by: 'guess' is none of grid"),
            (["select.k=1,2"], {"metric": "best@5"}, "best@5"),
            (["k"], {}, "is not a setting and its values"),
        ):
            done = self.sweep(*axes, **more)
            self.assertEqual(done.returncode, 2, f"{axes}: {done.stdout} {done.stderr}")
            self.assertIn(message, " ".join(done.stderr.split()))


class Demo(unittest.TestCase):
    """The demo is as large and as honest as it says. What is built over all of it is built once for these tests."""

    @classmethod
    def setUpClass(cls):
        place = tempfile.TemporaryDirectory()
        cls.addClassCleanup(place.cleanup)
        cls.cache, out = Path(place.name) / "cache", Path(place.name) / "out.json"
        demo = ROOT / "demo"
        given = {"cache": cls.cache, "documents": demo / "documents", "questions": demo / "questions.jsonl",
                 "recipe": demo / "recipes" / "two-branch-2.json", "json": out}  # fmt: skip
        with built_over_demo(cls.cache):
            cls.trial = here("trial", *(part for name, value in given.items() for part in (f"--{name}", value)))
        cls.found = json.loads(out.read_text()) if cls.trial.returncode == 0 else {}

    def test_size_and_tags(self):
        from doppio.core.formats.documents import read_documents
        from doppio.core.formats.questions import read_questions

        corpus = read_documents(ROOT / "demo" / "documents")
        questions = read_questions(ROOT / "demo" / "questions.jsonl", {d.id: d for d in corpus})
        self.assertGreaterEqual(len(corpus), 48)
        self.assertGreaterEqual(sum(len(d.text.split()) for d in corpus), 35_000)
        endings = {Path(d.id.split("#")[0]).suffix for d in corpus}
        self.assertEqual(endings, {".md", ".html", ".txt", ".csv", ".pdf", ".docx", ".jsonl"})
        self.assertGreaterEqual(len(questions), 150)
        tags = Counter(tag for question in questions for tag in question.tags)
        self.assertEqual({tag: count for tag, count in tags.items() if count < 15}, {})
        self.assertGreaterEqual(len(tags), 10)

    def test_each_branch_wins_questions_that_the_other_loses_and_the_shipped_mix_beats_both(self):
        self.assertEqual(self.trial.returncode, 0, self.trial.stderr)
        found = self.found
        stages = found["stages"]
        for branch in ("sparse", "dense"):
            self.assertGreater(stages["fused"]["recall@5"], stages[branch]["recall@5"])
            # A branch alone finds fewer than both together: each has answers that the other lacks.
            self.assertLess(found["levels"][branch], found["answerable"] - found["ledger"]["missed by every branch"])
        self.assertGreater(stages["reranked"]["mrr"], stages["fused"]["mrr"])

    def test_the_bench_prints_both_medians_with_the_share_of_each_stage(self):
        with tempfile.TemporaryDirectory() as folder:
            out = Path(folder) / "bench.json"
            done = here("bench", "--rounds", 1, "--most", 4, "--json", out, "--cache", self.cache)
            self.assertEqual(done.returncode, 0, done.stderr)
            found = json.loads(out.read_text())
        self.assertEqual(set(found), {"with reranking of 20", "without reranking"})
        self.assertEqual(done.stdout.count("One question, "), 2)
        for name, figures in found.items():
            self.assertEqual("reranked" in figures["steps"], name.startswith("with "))
            self.assertEqual(figures["questions"], 4)

    def test_the_bench_takes_the_middle_of_all_askings_and_of_each_step(self):
        now, took = [0.0], iter([0.02] * 5 + [0.01, 0.03, 0.02, 0.01, 0.09, 0.04])

        def ask(_question):
            seconds = next(took)
            now[0] += seconds
            return SimpleNamespace(seconds={"dense": 0.25 * seconds, "fused": 0.75 * seconds})

        with mock.patch("time.perf_counter", lambda: now[0]):
            found = _measure(SimpleNamespace(ask=ask), list("abcdef"), 1, lambda _: None)
        self.assertEqual(found["questions"], 6)
        self.assertAlmostEqual(found["median"], 0.025)
        self.assertAlmostEqual(found["p95"], 0.04)
        self.assertAlmostEqual(found["steps"]["dense"] + found["steps"]["fused"], 0.025)


class Help(unittest.TestCase):
    def test_a_management_command_without_a_database_says_what_to_do(self):
        done = doppio("manage", "showmigrations")
        self.assertEqual(done.returncode, 2)
        self.assertIn("the database does not answer", done.stderr)
        self.assertIn("start one of them in another terminal", done.stderr)
        self.assertNotIn("Traceback", done.stderr)

    def test_every_command_is_listed_and_an_unknown_one_is_told(self):
        said = here("help").stdout
        for command in ("demo", "serve", "trial", "bench", "test", "setup", "manage", "help"):
            self.assertIn(f"\n  {command} ", said)
        wrong = here("brew")
        self.assertEqual(wrong.returncode, 2)
        self.assertIn("brew", wrong.stderr)

    def test_a_command_that_is_imported_late_is_told_as_it_tells_itself(self):
        for name, lazy in COMMANDS.items():
            self.assertIn(lazy.help, " ".join(here(name, "--help").stdout.split()), name)
