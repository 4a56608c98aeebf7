"""A backup of a database and its files: what is written comes back; what is not whole is refused."""

import shutil
import tempfile
import unittest
import zipfile
from pathlib import Path
from unittest import mock

from doppio.command import backup
from doppio.core.errors import DoppioError
from doppio.launch import cluster as clusters
from doppio.launch.cluster import DATABASE, TIMEOUTS, Cluster
from doppio.launch.errors import LaunchError
from tests.server.test_cluster import remove

MADE = (
    "CREATE TABLE library_document (id int, name text); INSERT INTO library_document VALUES (1, 'wind'), (2, 'dogs')"
)


class Backups(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = Path(tempfile.mkdtemp())
        cls.addClassCleanup(shutil.rmtree, cls.folder, ignore_errors=True)
        cls.cluster = Cluster(cls.folder / "var", quick=True)
        cls.addClassCleanup(remove, cls.cluster)
        cls.cluster.start()

    def setUp(self):
        self.files = self.folder / "var" / "files"
        shutil.rmtree(self.files, ignore_errors=True)
        (self.files / "ab").mkdir(parents=True)
        (self.files / "ab" / "abc").write_bytes(b"the bytes of a file")
        (self.files / "ab" / ".abd.draft").write_bytes(b"half")
        self.sql("DROP TABLE IF EXISTS library_document")
        self.sql(f"SET ROLE {self.cluster.role}; {MADE}")
        self.target = self.folder / f"{self.id()}.zip"

    def sql(self, text):
        return self.cluster.sql(text, DATABASE)

    def write(self):
        return backup.write(self.cluster, self.files, self.target)

    def read(self):
        return backup.read(self.cluster, self.files, self.target)

    def state(self):
        files = {path.name: path.read_bytes() for path in self.files.rglob("*") if path.is_file()}
        return self.sql("SELECT string_agg(name, ' ' ORDER BY id) FROM library_document"), files

    def test_what_was_there_comes_back_and_what_is_there_is_kept(self):
        about = self.write()
        self.assertEqual((about["rows"], list(about["files"])), ({"library_document": 2}, ["ab/abc"]))
        self.assertEqual(self.target.stat().st_mode & 0o077, 0)
        self.sql("DELETE FROM library_document WHERE id = 1")
        (self.files / "ab" / "abc").unlink()
        (self.files / "later").write_bytes(b"later")
        _, kept = self.read()
        self.assertEqual(self.state(), ("wind dogs", {"abc": b"the bytes of a file"}))
        owner = "SELECT tableowner FROM pg_tables WHERE tablename = 'library_document'"
        self.assertEqual(self.sql(owner), self.cluster.role)
        old = next(word for word in kept.replace(",", "").split() if word.startswith(f"{DATABASE}_"))
        self.assertEqual(self.cluster.sql("SELECT count(*) FROM library_document", old), "1")
        (aside,) = self.files.parent.glob("files.kept-*")
        self.assertEqual((aside / "later").read_bytes(), b"later")
        shutil.rmtree(aside)

    def test_a_backup_with_a_flipped_bit_or_a_part_missing_changes_nothing(self):
        self.write()
        whole = self.target.read_bytes()
        before = self.state()
        for place in (len(whole) // 3, len(whole) // 2, len(whole) - 30):
            broken = bytearray(whole)
            broken[place] ^= 1
            self.target.write_bytes(broken)
            try:
                backup.verify(self.target)
            except DoppioError as refused:
                self.assertIn(str(self.target), str(refused))
                with self.assertRaises(DoppioError):
                    self.read()
            self.assertEqual(self.state(), before)
        self.target.write_bytes(whole)
        self.target.unlink()
        with zipfile.ZipFile(self.target, "w") as archive:
            archive.writestr("manifest.json", '{"format": "another/1"}')
        with self.assertRaisesRegex(DoppioError, "of format 'another/1'; this is doppio-backup/1"):
            self.read()

    def test_every_changed_byte_of_the_parts_is_found(self):
        self.write()
        with zipfile.ZipFile(self.target) as archive:
            begins = [info.header_offset + 30 + len(info.filename) for info in archive.infolist()]
        whole = self.target.read_bytes()
        for begin in begins:
            broken = bytearray(whole)
            broken[begin + 5] ^= 4
            self.target.write_bytes(broken)
            with self.assertRaises(DoppioError):
                backup.verify(self.target)

    def test_one_that_cannot_be_brought_in_leaves_all_as_it_is(self):
        self.write()
        before = self.state()
        with (
            mock.patch.object(backup, "run", side_effect=LaunchError("bringing the database in: no space left")),
            self.assertRaisesRegex(LaunchError, "no space left"),
        ):
            self.read()
        self.assertEqual(self.state(), before)
        names = self.cluster.sql("SELECT string_agg(datname, ' ') FROM pg_database WHERE NOT datistemplate")
        self.assertNotIn("fresh", names)
        self.assertFalse((self.files.parent / ".files-fresh").exists())

    def test_a_file_that_is_there_is_not_written_over_and_a_full_disk_is_named(self):
        self.target.write_text("mine")
        with self.assertRaisesRegex(DoppioError, "is there already"):
            self.write()
        self.assertEqual(self.target.read_text(), "mine")
        self.target.unlink()
        full = OSError(28, "No space left on device")
        with (
            mock.patch.object(backup, "_pack", side_effect=full),
            self.assertRaisesRegex(DoppioError, "No space left"),
        ):
            self.write()
        self.assertEqual(list(self.folder.glob(f"*{self.target.name}*")), [])

    def test_the_newest_backups_before_a_migration_are_kept(self):
        var = self.files.parent
        (var / "backups").mkdir(exist_ok=True)
        for number in range(7):
            (var / "backups" / f"before-migration-2020010{number}-000000.zip").write_text("old")
        said = []
        backup.before_migration(self.cluster, var, said.append)
        names = sorted(path.name for path in (var / "backups").iterdir())
        self.assertEqual(len(names), backup.KEPT)
        self.assertIn(names[-1], said[0])
        backup.verify(var / "backups" / names[-1])

    def test_the_application_is_no_superuser_has_time_limits_and_pages_have_checksums(self):
        role = self.cluster.role
        said = self.cluster.sql(f"SELECT rolsuper, rolcreaterole FROM pg_roles WHERE rolname = '{role}'")
        self.assertEqual(said, "f|f")
        self.assertEqual(self.cluster.sql("SHOW data_checksums"), "on")
        configured = self.cluster.sql(
            f"SELECT array_to_string(rolconfig, ' ') FROM pg_roles WHERE rolname = '{role}'"
        )
        self.assertEqual(configured, " ".join(f"{name}={value}" for name, value in TIMEOUTS.items()))


class Handover(unittest.TestCase):
    """Clusters as earlier versions made them are brought to what is made today."""

    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        self.cluster = Cluster(self.folder / "var")
        self.addCleanup(remove, self.cluster)

    def earlier(self):
        """One role that owns all, no checksums, and records in it."""
        real = self.cluster._as_owner
        plain = [lambda command: real([part for part in command if part != "--data-checksums"])]
        with mock.patch.object(self.cluster, "_as_owner", plain[0]):
            self.cluster.create()
        with (
            mock.patch.object(self.cluster, "_checksums", lambda: None),
            mock.patch.object(self.cluster, "create_database", lambda: None),
        ):
            self.cluster.start()
        record = self.cluster._read()
        self.cluster._write({**record, "admin": record["user"], "admin_password": record["password"]})
        self.cluster.sql(f"CREATE DATABASE {DATABASE}")
        self.cluster.sql(
            "CREATE TYPE mood AS ENUM ('calm'); CREATE TABLE kept (id serial, mood mood);"
            "INSERT INTO kept VALUES (1);"
            "CREATE FUNCTION two() RETURNS int LANGUAGE sql AS 'SELECT 2'",
            DATABASE,
        )
        self.cluster._write(record)
        self.cluster.stop()

    def test_one_from_before_is_handed_over_with_all_that_is_in_it(self):
        self.earlier()
        self.cluster.start()
        self.assertEqual(self.cluster.sql("SHOW data_checksums"), "on")
        record = self.cluster._read()
        self.assertNotEqual(record["user"], record["admin"])
        import psycopg

        with psycopg.connect(
            host="127.0.0.1", port=record["port"], user=record["user"], password=record["password"], dbname=DATABASE
        ) as connection:
            connection.execute("ALTER TABLE kept ADD COLUMN more int")
            connection.execute("INSERT INTO kept (mood) VALUES ('calm')")
            connection.execute("DROP FUNCTION two()")
            self.assertEqual(connection.execute("SELECT count(*) FROM kept").fetchone(), (2,))
            with self.assertRaises(psycopg.errors.InsufficientPrivilege):
                connection.execute("COPY kept TO PROGRAM 'cat'")
        self.assertIn("runs on", self.cluster.start())

    def test_one_of_a_version_that_is_not_installed_says_what_to_do(self):
        self.cluster.create()
        (self.cluster.data / "PG_VERSION").write_text("9\n")
        with self.assertRaisesRegex(LaunchError, "PostgreSQL 9, which is not installed.*postgresql-9.*restore FILE"):
            self.cluster.start()
        (self.cluster.data / "PG_VERSION").write_text(clusters._programs().parts[-2] + "\n")
