"""Doppio's own PostgreSQL cluster: loopback only, a free port, password authentication.

PostgreSQL refuses to run as root, so root runs it under the `postgres` account, and its data lie where that account
can reach them: below `var/` if it can get there, else below /var/lib.
"""

import contextlib
import hashlib
import json
import os
import pwd
import re
import secrets
import shlex
import shutil
import socket
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from doppio.launch.debian import postgres_programs, programs_of
from doppio.launch.errors import LaunchError
from doppio.launch.programs import run

ACCOUNT = "postgres"
DATA, DRAFT = "data", "data.draft"
# Who owns the cluster, and who the application is: the owner of its database and of nothing else.
ADMIN, ROLE = "doppio", "doppio_app"
DATABASE = "doppio"
# What of the application's takes longer has gone wrong; whoever migrates lifts the first.
TIMEOUTS = {"statement_timeout": "120s", "lock_timeout": "30s", "idle_in_transaction_session_timeout": "300s"}
FAR = Path("/var/lib/doppio")
# A connection for each thread of four web servers, and those of the worker and of commands.
CONNECTIONS = 300
QUICK = {"fsync": "off", "synchronous_commit": "off", "full_page_writes": "off", "autovacuum": "off"}


# Every table, sequence, function and type of the application's schema gets a new owner, and so does the schema.
HANDED_OVER = """
DO $$ DECLARE one record; BEGIN
  EXECUTE 'ALTER SCHEMA public OWNER TO {role}';
  FOR one IN SELECT c.oid::regclass AS name FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
    WHERE n.nspname = 'public' AND c.relkind IN ('r', 'p', 'v', 'm') LOOP
    EXECUTE format('ALTER TABLE %s OWNER TO {role}', one.name);
  END LOOP;
  FOR one IN SELECT c.oid::regclass AS name FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
    WHERE n.nspname = 'public' AND c.relkind = 'S' AND pg_get_userbyid(c.relowner) = '{admin}' LOOP
    EXECUTE format('ALTER SEQUENCE %s OWNER TO {role}', one.name);
  END LOOP;
  FOR one IN SELECT p.oid::regprocedure AS name FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
    WHERE n.nspname = 'public' LOOP
    EXECUTE format('ALTER ROUTINE %s OWNER TO {role}', one.name);
  END LOOP;
  FOR one IN SELECT t.oid::regtype AS name FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace
    WHERE n.nspname = 'public' AND t.typrelid = 0 AND t.typelem = 0 LOOP
    EXECUTE format('ALTER TYPE %s OWNER TO {role}', one.name);
  END LOOP;
END $$
"""


class Cluster:
    """A cluster whose records lie in `home`; `quick` gives up safety against a crash, for tests."""

    def __init__(self, home: Path, *, quick: bool = False) -> None:
        self.home = home.resolve()
        self.record = self.home / "database.json"
        self._quick = quick

    def create(self, *, new: bool = False) -> bool:
        """Make the files of the cluster if there are none; whether they were made now.

        A data folder is never removed. One that does not fit to the record, or a record without its data, is told
        with the ways out; `new` puts it aside under another name and begins anew.

        Raises
        ------
        LaunchError
            If a data folder or a record is there without the other; names both.
        """
        self.home.mkdir(parents=True, exist_ok=True)
        # The server's account has to get through, whatever a person's umask is.
        self.home.chmod(self.home.stat().st_mode | 0o011)
        whole = self.record.exists() and _holds_data(self.data)
        if whole and not new and not (self._quick and "admin" not in self._read()):
            return False
        self._put_aside(new)
        self._create()
        return True

    def start(self) -> str:
        """Create the cluster if there is none, start it if it does not run, and create the database.

        It runs on when this process ends.
        """
        created = self.create()
        if self.answers():
            return f"runs on 127.0.0.1:{self.port}"
        self.settle()
        options = " ".join(shlex.quote(option) for option in self._options())
        log = str(self.data.parent / "server.log")
        self._as_owner(["pg_ctl", "-D", str(self.data), "-l", log, "-o", options, "-w", "-t", "60", "start"])
        self.create_database()
        return f"{'created' if created else 'started'} on 127.0.0.1:{self.port}"

    def settle(self) -> None:
        """Before a start: one that still runs here ends, pages get checksums, and a port is found that is free.

        Raises
        ------
        LaunchError
            If the data are of a version of PostgreSQL that is not installed; says what can be done.
        """
        self.stop()
        self._checksums()
        settings = self._read()
        settings["port"] = free_port(settings.get("port"))
        self._write(settings)

    def as_child(self) -> subprocess.Popen[bytes]:
        """Start the server as a child of this process, whose end it takes for a wish to stop.

        Call it from the main thread: the kernel looks for the end of the thread that started a child.
        """
        owner = ["--reuid", ACCOUNT, "--regid", ACCOUNT, "--init-groups"] if os.geteuid() == 0 else []
        command = ["setpriv", *owner, "--pdeathsig", "INT", str(self._programs() / "postgres"), "-D", str(self.data)]
        with (self.home / "database.log").open("ab") as log:
            return subprocess.Popen(
                [*command, *self._options()], stdin=subprocess.DEVNULL, stdout=log, stderr=log, cwd="/",
                start_new_session=True,
            )  # fmt: skip

    def _options(self) -> list[str]:
        options = {
            "port": self.port, "listen_addresses": "127.0.0.1", "unix_socket_directories": "",
            "max_connections": CONNECTIONS,
        }  # fmt: skip
        options |= QUICK if self._quick else {}
        return [part for name, value in options.items() for part in ("-c", f"{name}={value}")]

    def stop(self) -> None:
        """Stop the server if it runs."""
        self._stop(self.data)

    def _stop(self, data: Path) -> None:
        if _runs(data):
            self._as_owner(["pg_ctl", "-D", str(data), "-m", "fast", "-w", "-t", "60", "stop"])

    @property
    def data(self) -> Path:
        return Path(self._read()["data"])

    @property
    def port(self) -> int:
        return int(self._read()["port"])

    @property
    def admin(self) -> str:
        """Who owns the cluster."""
        return str(self._read()["admin"])

    @property
    def role(self) -> str:
        """Who the application is."""
        return str(self._read()["user"])

    @property
    def version(self) -> str:
        """The major version that the data are of."""
        return (self.data / "PG_VERSION").read_text().strip()

    def _put_aside(self, new: bool) -> None:
        """Make room for a new cluster: what is there is renamed where that is wanted, and refused where it is not."""
        found = [place / DATA for place in self._places() if (place / DATA).exists()]
        if self.record.exists() and self.data not in found:
            found.append(self.data)
        if not found:
            return
        if not (new or self._quick):
            raise LaunchError(self._mismatch(found))
        for path in found:
            self._stop(path)
        mark = time.strftime("%Y%m%d-%H%M%S")
        for path in (*found, self.record):
            if path.exists():
                # What tests made can be made again.
                _delete(path) if self._quick else path.rename(path.with_name(f"{path.name}.kept-{mark}"))

    def _mismatch(self, found: list[Path]) -> str:
        """What is there, what is missing, and what can be done."""
        if self.record.exists():
            state = f"{self.record} names the data folder {self.data}, but there is no database in it"
            mend = "put the data folder back"
        else:
            state = f"there is a database in {found[0]}, but {self.record}, which has its password, is missing"
            mend = f"put {self.record.name} back"
        return (
            f"{state}. Nothing has been changed. Either {mend} and start again, or begin with an empty database: "
            "start with --new-database, and what is there is kept under another name"
        )

    def _create(self) -> None:
        password = secrets.token_urlsafe(24)
        place = self._place()
        with tempfile.NamedTemporaryFile("w", dir=place, suffix=".pw") as file:
            file.write(password)
            file.flush()
            _give(Path(file.name))
            data, draft = place / DATA, place / DRAFT
            # What a start that was killed has left; it never was a database.
            shutil.rmtree(draft, ignore_errors=True)
            initdb = ["initdb", "-D", str(draft), "-U", ADMIN, "--auth=scram-sha-256", f"--pwfile={file.name}"]
            self._as_owner([*initdb, "--encoding=UTF8", "--locale=C.UTF-8", "--no-sync", "--data-checksums"])
        draft.rename(data)
        self._write({"data": str(data), "port": 0, "user": ADMIN, "password": password})

    def _places(self) -> tuple[Path, Path]:
        """Where data can lie: near the record, or where the server's account gets to."""
        far = FAR / hashlib.blake2b(str(self.home).encode(), digest_size=6).hexdigest()
        return self.home / "postgres", far

    def _place(self) -> Path:
        """A folder that belongs to the server's account."""
        places = self._places()
        for place in places:
            place.mkdir(parents=True, exist_ok=True)
            if place.parent == FAR and os.geteuid() == 0:
                # Whoever made it may have kept it from the server's account.
                FAR.chmod(0o711)
            _give(place)
            place.chmod(0o700)
            if os.geteuid() != 0 or _reaches(place):
                return place
            with contextlib.suppress(OSError):
                place.rmdir()
        raise LaunchError(f"the account {ACCOUNT} can reach neither {places[0]} nor {places[1]}")

    def create_database(self) -> None:
        """In a server that answers: make the application's role and its database, where they are not there.

        A cluster from before there was such a role is brought to it; all that is in its database changes its owner.
        """
        settings = self._read()
        if "admin" not in settings:
            settings |= {"admin": settings["user"], "admin_password": settings["password"]}
            settings |= {"user": ROLE, "password": secrets.token_urlsafe(24)}
            self._write(settings)
        role, admin = settings["user"], settings["admin"]
        probe = (
            f"SELECT (SELECT array_to_string(rolconfig, ' ') FROM pg_roles WHERE rolname = '{role}'), "
            f"(SELECT pg_get_userbyid(datdba) FROM pg_database WHERE datname = '{DATABASE}')"
        )
        wanted = " ".join(f"{name}={value}" for name, value in TIMEOUTS.items())
        configured, owner = self.sql(probe).split("|")
        if configured != wanted:
            # Killed between any two of these, the next start goes through all of them again.
            if self.sql(f"SELECT 1 FROM pg_roles WHERE rolname = '{role}'") == "":
                may = "CREATEDB" if self._quick else "NOCREATEDB"
                self.sql(f"CREATE ROLE {role} LOGIN NOSUPERUSER NOCREATEROLE {may}")
            self.sql(f"ALTER ROLE {role} PASSWORD '{settings['password']}'; ALTER ROLE {role} RESET ALL")
            self.sql("; ".join(f"ALTER ROLE {role} SET {name} = '{value}'" for name, value in TIMEOUTS.items()))
        if not owner:
            self.sql(f"CREATE DATABASE {DATABASE} OWNER {role}")
        elif owner == admin:
            self.sql(HANDED_OVER.format(role=role, admin=admin), DATABASE)
            self.sql(f"ALTER DATABASE {DATABASE} OWNER TO {role}")

    def sql(self, text: str, database: str = "postgres") -> str:
        """Run SQL as the cluster's owner; returns what it gave, without blank space around it."""
        command = [*self.as_admin("psql", database), "-XAtq", "-v", "ON_ERROR_STOP=1", "-c", text]
        return run(command, "database", env=self.admin_environment()).strip()

    def as_admin(self, program: str, database: str) -> list[str]:
        """The beginning of a command of PostgreSQL's that speaks to the server as the cluster's owner."""
        settings = self._read()
        address = ["-h", "127.0.0.1", "-p", str(settings["port"]), "-U", settings["admin"]]
        return [str(self._programs() / program), *address, "-d", database]

    def admin_environment(self) -> dict[str, str]:
        """The environment of such a command: the password is on no command line."""
        return os.environ | {"PGPASSWORD": self._read()["admin_password"]}

    def _programs(self) -> Path:
        """Programs of the version that the data are of; of the newest one before there are any."""
        if self.record.exists() and _holds_data(self.data):
            version = self.version
            found = programs_of(version)
            if found is None:
                raise LaunchError(
                    f"the database in {self.data} is of PostgreSQL {version}, which is not installed. Either install "
                    f"it (apt-get install postgresql-{version}), or begin with an empty database (--new-database "
                    "keeps this one aside) and bring a backup in with './doppio restore FILE'"
                )
            return found
        return _programs()

    def _checksums(self) -> None:
        """Give the pages of a cluster from before their checksums; it does not run."""
        control = [str(self._programs() / "pg_controldata"), str(self.data)]
        said = run(control, "database", env=os.environ | {"LC_ALL": "C"})
        if re.search(r"^Data page checksum version:\s+0$", said, re.MULTILINE) and "shut down" in said:
            self._as_owner(["pg_checksums", "--enable", "-D", str(self.data)])

    def answers(self) -> bool:
        """Whether the server takes connections."""
        settings = self._read()
        if not settings["port"] or not _runs(self.data):
            return False
        ready = [str(self._programs() / "pg_isready"), "-q", "-h", "127.0.0.1", "-p", str(settings["port"])]
        return subprocess.run(ready).returncode == 0

    def _as_owner(self, command: list[str]) -> None:
        command = [str(self._programs() / command[0]), *command[1:]]
        if os.geteuid() == 0:
            command = [*_as_account(), *command]
        log = self.home / "postgres-setup.log"
        with log.open("w+") as output:
            # The server keeps what it inherits open, so its output goes to a file and never to a pipe.
            status = subprocess.run(
                command, stdin=subprocess.DEVNULL, stdout=output, stderr=output, cwd="/"
            ).returncode
            output.seek(0)
            if status:
                raise LaunchError(f"PostgreSQL: '{' '.join(command)}' failed\n{output.read()[-2000:]}")

    def _read(self) -> dict:
        return json.loads(self.record.read_text())

    def _write(self, settings: dict) -> None:
        draft = self.record.with_suffix(".draft")
        handle = os.open(draft, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        with os.fdopen(handle, "w") as file:
            json.dump(settings, file)
        draft.replace(self.record)


def _holds_data(folder: Path) -> bool:
    """Whether a folder is a cluster's; one that cannot be looked into is not taken for an empty one."""
    return (folder / "PG_VERSION").exists()


def _runs(data: Path) -> bool:
    """Whether a server runs on a data folder; the note of one that was killed tells of a process that is none."""
    try:
        process = int((data / "postmaster.pid").read_text().split()[0])
        return Path(f"/proc/{process}/comm").read_text().strip() in ("postgres", "postmaster")
    except (OSError, ValueError, IndexError):
        return False


def _delete(path: Path) -> None:
    shutil.rmtree(path) if path.is_dir() else path.unlink()


def _programs() -> Path:
    found = postgres_programs()
    if found is None:
        raise LaunchError("PostgreSQL is not installed; './doppio demo' installs it")
    return found


def _as_account() -> list[str]:
    """Run as the server's account; root's PATH does not always hold the folder of this program."""
    return [shutil.which("runuser") or "/usr/sbin/runuser", "-u", ACCOUNT, "--"]


def _give(path: Path) -> None:
    if os.geteuid() == 0:
        account = pwd.getpwnam(ACCOUNT)
        os.chown(path, account.pw_uid, account.pw_gid)


def _reaches(place: Path) -> bool:
    probe = [*_as_account(), "test", "-w", str(place)]
    return subprocess.run(probe, cwd="/", capture_output=True).returncode == 0


def free_port(wanted: int | None) -> int:
    """The wanted port if it is free, else any free one."""
    for port in (wanted or 0, 0):
        with socket.socket() as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                probe.bind(("127.0.0.1", port))
            except OSError:
                continue
            return int(probe.getsockname()[1])
    raise LaunchError("no free port on 127.0.0.1")


def wait_until(ready: Callable[[], object], seconds: float, what: str) -> None:
    """Wait until `ready()` is true."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if ready():
            return
        time.sleep(0.1)
    raise LaunchError(f"{what} is not ready after {seconds:.0f} seconds")
