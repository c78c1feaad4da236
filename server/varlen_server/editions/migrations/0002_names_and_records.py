from collections import Counter

from django.db import migrations, models


def tell_apart(apps, schema_editor):
    """Number the editions of each dataset, and give those of one name a number in it."""
    editions = apps.get_model("editions", "Edition").objects.order_by("pk")
    taken, numbers = set(), Counter()
    for edition in editions:
        numbers[edition.dataset_id] += 1
        name, count = edition.name, 1
        while name in taken:
            count += 1
            name = f"{edition.name} ({count})"
        taken.add(name)
        edition.name, edition.number = name, numbers[edition.dataset_id]
        edition.save(update_fields=["name", "number"])


class Migration(migrations.Migration):
    """Names are unique, editions numbered; what an order may lose, and the digest of a record, are kept."""

    dependencies = [("editions", "0001_version_0_1")]
    operations = [
        migrations.AddField("edition", "number", models.PositiveIntegerField(default=1)),
        migrations.AddField("edition", "record_digest", models.CharField(default="", max_length=71)),
        migrations.AddField("edition", "accept_loss", models.JSONField(default=list)),
        migrations.AddField("edition", "lost", models.JSONField(default=list)),
        migrations.AlterField("edition", "name", models.CharField(max_length=140)),
        migrations.RunPython(tell_apart, migrations.RunPython.noop),
        migrations.AlterField("edition", "name", models.CharField(max_length=140, unique=True)),
    ]
