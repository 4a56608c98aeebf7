"""Where things lie that a start needs, and what tells that they are up to date."""

import hashlib
import os
import secrets
from pathlib import Path

ROOT = Path(__file__).resolve().parents[3]
VAR = Path(os.environ.get("DOPPIO_VAR", ROOT / "var"))
WEB = ROOT / "web"
VENV = ROOT / ".venv"
PYTHON = VENV / "bin" / "python"
# When the launcher began, in seconds since 1970: it hands over to another program, which tells the whole time.
BEGUN = "DOPPIO_BEGUN"
# Only one start serves from a folder, and only one installs in a checkout. The first is handed on under this name.
SERVED, SETUP, LOCK = VAR / "served.lock", ROOT / "var" / "setup.lock", "DOPPIO_LOCK"


def close_to_others() -> None:
    """Nobody else reads what is kept; a folder with a database in it can be passed through by its account."""
    VAR.mkdir(parents=True, exist_ok=True)
    VAR.chmod(0o711)
    for path in VAR.iterdir():
        if path.name != "postgres" and not path.is_symlink() and not (path / "postgres").exists():
            path.chmod(0o700 if path.is_dir() else 0o600)


def secret_key() -> None:
    """The key that signs sessions, made once."""
    path = VAR / "secret-key"
    if not path.exists():
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(handle, "w") as file:
            file.write(secrets.token_urlsafe(48))


def stamp(*parts: bytes) -> str:
    """A digest of all that something was made from."""
    return hashlib.blake2b(b"\0".join(parts), digest_size=16).hexdigest()


def is_stamped(marker: Path, made_from: str) -> bool:
    """Whether a marker says that something was made from this."""
    return marker.exists() and marker.read_text() == made_from
