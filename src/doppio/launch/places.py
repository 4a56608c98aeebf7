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
