"""Names that look alike are one name."""

from __future__ import annotations

from typing import Any

from django.db import migrations, models

from varlen_server.people.names import look_of


def fill(apps: Any, editor: Any) -> None:
    """Of people whose names look alike already, each keeps the name; nobody else can take it."""
    met: set[str] = set()
    for member in apps.get_model("people", "Member").objects.select_related("user").order_by("id"):
        look = look_of(member.user.username)
        member.look = f"{look}\n{member.pk}" if look in met else look
        met.add(look)
        member.save(update_fields=["look"])


class Migration(migrations.Migration):
    dependencies = [("people", "0002_viewers_editors_admins")]

    operations = [
        migrations.AddField("member", "look", models.CharField(default="", max_length=3000), preserve_default=False),
        migrations.RunPython(fill, migrations.RunPython.noop),
        migrations.AlterField("member", "look", models.CharField(max_length=3000, unique=True)),
    ]
