"""Signed editions."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("editions", "0005_edition_note")]

    operations = [migrations.AddField("edition", "signed_by", models.CharField(default="", max_length=44))]
