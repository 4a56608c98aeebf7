"""`./doppio manage events`: who signed in, who failed to, and what was removed or put in force."""

import json

from django.core.management.base import BaseCommand, CommandParser

from doppio.library.models import Event


class Command(BaseCommand):
    help = "Print what people did, newest first, a JSON object a line."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--kind", default="", help="Only events of this kind, such as 'sign-in failed'.")
        parser.add_argument("--name", default="", help="Only events of this name.")
        parser.add_argument("--most", type=int, default=200, help="At most so many.")

    def handle(self, *args: object, kind: str, name: str, most: int, **options: object) -> None:
        rows = Event.objects.select_related("workspace")
        rows = rows.filter(kind=kind) if kind else rows
        rows = rows.filter(name=name) if name else rows
        for row in rows[:most]:
            place = row.workspace.name if row.workspace else None
            said = {"at": row.at.isoformat(timespec="seconds"), "kind": row.kind, "name": row.name,
                    "address": row.address, "workspace": place, **row.about}  # fmt: skip
            self.stdout.write(json.dumps(said, ensure_ascii=False))
