from django.db import migrations


class Migration(migrations.Migration):
    """Labels are the bulk of what is stored; lz4 takes a fraction of the time of the older way."""

    dependencies = [("datasets", "0004_intakes_and_measures")]
    operations = [
        migrations.RunSQL(
            "ALTER TABLE datasets_image ALTER COLUMN objects_json SET COMPRESSION lz4",
            "ALTER TABLE datasets_image ALTER COLUMN objects_json SET COMPRESSION pglz",
        )
    ]
