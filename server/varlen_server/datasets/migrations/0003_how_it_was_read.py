from django.db import migrations, models


class Migration(migrations.Migration):
    """What a dataset's way of being read adds to its files."""

    dependencies = [("datasets", "0002_imports")]
    operations = [
        migrations.AddField("dataset", "mirror_classes", models.JSONField(default=dict)),
        migrations.AddField("dataset", "read_as", models.JSONField(default=dict)),
        migrations.AddField("dataset", "splits_drawn", models.BooleanField(default=False)),
    ]
