"""The test database where files cost next to nothing: what was prepared stays on disk, and each run works on a copy.

A database has some eight hundred files, and tests make, empty and drop hundreds of databases.
"""

import json
import shutil
import subprocess
from pathlib import Path

from doppio.launch.cluster import Cluster


def copied(kept: Cluster, home: Path) -> Cluster:
    """A copy of a cluster in another folder; neither runs."""
    kept.create()
    kept.stop()
    home.mkdir(mode=0o711)
    own = Cluster(home, quick=True)
    record = json.loads(kept.record.read_text()) | {"data": str(own.home / "postgres" / kept.data.name)}
    _copy(kept.data.parent, own.home / "postgres")
    own.record.touch(0o600)
    own.record.write_text(json.dumps(record))
    return own


def keep(own: Cluster, kept: Cluster) -> None:
    """Let what was prepared in a copy be what the next run begins with. It runs, and does so again afterwards."""
    own.stop()
    draft = kept.data.with_name("data.copied")
    shutil.rmtree(draft, ignore_errors=True)
    _copy(own.data, draft)
    # Killed between the two, the next run finds a record without data, and makes both anew.
    shutil.rmtree(kept.data)
    draft.rename(kept.data)
    own.start()


def _copy(source: Path, target: Path) -> None:
    # Files belong to the server's account, and stay so.
    subprocess.run(["cp", "-a", str(source), str(target)], check=True)
